"""Position gain around the closed velocity loop."""

import math

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, TwoMass, Winding, position_open, read_margins, velocity_plant
from cadrel.core.control.filters import ComplexArray
from cadrel.core.response.estimate import FrequencyResponse
from cadrel.core.tuning.velocity import FloatArray, TuningRefused, limiting_factor, spread_of
from cadrel.core.verdict.loops import resonance_grid

PEAK = 1.05  # closed-loop magnitude allowed: a step overshoots by a few percent at most


def tune_position(
    load: TwoMass,
    winding: Winding,
    gains: Gains,
    asked: Robustness,
    *,
    measured: FrequencyResponse | None = None,
    working: Winding | None = None,
) -> tuple[Gains, str]:
    """Return gains with the highest position gain whose closed loop hardly peaks, and what limits it.

    It must hold on the model, as small currents meet it and at the `working` current, and on the `measured` velocity
    plant: where they part, the worse decides.

    Raises
    ------
    TuningRefused
        Even a very small gain does not hold the margins.
    """
    windings = [winding] if working is None else [winding, working]
    grid, spread = resonance_grid(load), spread_of(asked)
    plants = [(grid, velocity_plant(load, w, gains, grid)) for w in windings]
    for drifted in spread.drifts(load)[1:]:
        own = resonance_grid(drifted)
        plants.append((own, velocity_plant(drifted, windings[-1], gains, own)))
    if measured is not None and len(measured.frequency) > 10:
        plants.append((measured.frequency, measured.value))

    def accepts(kv: float) -> bool:
        tried = gains.with_(position_gain=kv)
        return all(_honours(plant, tried, f, asked) for f, plant in plants) and all(
            spread.worst_radius("position", load, w, tried) < 1 for w in windings
        )

    low, high = math.log(0.5), math.log(3000.0)
    if not accepts(math.exp(low)):
        raise TuningRefused(asked="a calm position loop", limit="the velocity loop, which is too slow or rings")
    for _ in range(12):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if accepts(math.exp(middle)) else (low, middle)
    tuned = gains.with_(position_gain=math.exp(low))
    margins = read_margins(position_open(plants[0][1], tuned, grid), grid)
    return tuned, limiting_factor(margins, load, asked)


def _honours(plant: ComplexArray, gains: Gains, frequency: FloatArray, asked: Robustness) -> bool:
    loop = position_open(plant, gains, frequency)
    margins = read_margins(loop, frequency)
    return (
        float(np.abs(loop / (1 + loop)).max()) <= PEAK
        and margins.sensitivity_peak <= asked.sensitivity_peak
        and (margins.phase_margin is None or margins.phase_margin >= asked.phase_margin)
        and (margins.gain_margin_db is None or margins.gain_margin_db >= asked.gain_margin_db)
    )
