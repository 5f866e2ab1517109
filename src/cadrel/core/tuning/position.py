"""Position gain around the closed velocity loop."""

import math

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, TwoMass, Winding, position_open, read_margins, spectral_radius, velocity_plant
from cadrel.core.tuning.velocity import GRID, TuningRefused, limiting_factor

PEAK = 1.05  # closed-loop magnitude allowed: a step overshoots by a few percent at most


def tune_position(load: TwoMass, winding: Winding, gains: Gains, asked: Robustness) -> tuple[Gains, str]:
    """Return gains with the highest position gain whose closed loop hardly peaks, and what limits it.

    Raises
    ------
    TuningRefused
        Even a very small gain does not hold the margins.
    """
    plant = velocity_plant(load, winding, gains, GRID)

    def accepts(kv: float) -> bool:
        loop = position_open(plant, gains.with_(position_gain=kv), GRID)
        margins = read_margins(loop, GRID)
        peak = float(np.abs(loop / (1 + loop)).max())
        return (
            peak <= PEAK
            and margins.sensitivity_peak <= asked.sensitivity_peak
            and (margins.phase_margin is None or margins.phase_margin >= asked.phase_margin)
            and (margins.gain_margin_db is None or margins.gain_margin_db >= asked.gain_margin_db)
            and spectral_radius("position", load, winding, gains.with_(position_gain=kv)) < 1
        )

    low, high = math.log(0.5), math.log(3000.0)
    if not accepts(math.exp(low)):
        raise TuningRefused(asked="a calm position loop", limit="the velocity loop, which is too slow or rings")
    for _ in range(12):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if accepts(math.exp(middle)) else (low, middle)
    tuned = gains.with_(position_gain=math.exp(low))
    margins = read_margins(position_open(plant, tuned, GRID), GRID)
    return tuned, limiting_factor(margins, load, asked)
