"""Position gain around the closed velocity loop."""

import math

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, TwoMass, Winding, load_over_motor, position_open, read_margins, velocity_plant
from cadrel.core.control.filters import ComplexArray
from cadrel.core.response.estimate import FrequencyResponse
from cadrel.core.tuning.velocity import FloatArray, TuningRefused, limiting_factor, spread_of
from cadrel.core.verdict.loops import resonance_grid

LOAD_ROOM = 0.8  # of the decibels the load may swing by: its damping is no better known
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
    swings = 10 ** (LOAD_ROOM * asked.load_peak_db / 20)
    grid, spread = resonance_grid(load), spread_of(asked)
    # Each with what its load makes of the motor's motion; where it was measured that is not seen.
    plants = [(grid, velocity_plant(load, w, gains, grid), np.abs(load_over_motor(load, grid))) for w in windings]
    for drifted in spread.drifts(load)[1:]:
        own = resonance_grid(drifted)
        plants.append((own, velocity_plant(drifted, windings[-1], gains, own), np.zeros(len(own))))
    if measured is not None and len(measured.frequency) > 10:
        plants.append((measured.frequency, measured.value, np.zeros(len(measured.frequency))))

    def accepts(kv: float) -> bool:
        tried = gains.with_(position_gain=kv)
        return all(_honours(plant, tried, f, asked, swung, swings) for f, plant, swung in plants) and all(
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
    more = gains.with_(position_gain=math.exp(high))
    if any(_swing(plant, more, f, swung) > swings for f, plant, swung in plants):
        return tuned, "the load, which swings behind its shaft"
    return tuned, limiting_factor(margins, load, asked)


def _swing(plant: ComplexArray, gains: Gains, frequency: FloatArray, swung: FloatArray) -> float:
    """Largest motion of the load over the command."""
    loop = position_open(plant, gains, frequency)
    return float((np.abs(loop / (1 + loop)) * swung).max())


def _honours(
    plant: ComplexArray, gains: Gains, frequency: FloatArray, asked: Robustness, swung: FloatArray, swings: float
) -> bool:
    loop = position_open(plant, gains, frequency)
    closed = np.abs(loop / (1 + loop))
    margins = read_margins(loop, frequency)
    return (
        float(closed.max()) <= PEAK
        and float((closed * swung).max()) <= swings
        and margins.sensitivity_peak <= asked.sensitivity_peak
        and (margins.phase_margin is None or margins.phase_margin >= asked.phase_margin)
        and (margins.gain_margin_db is None or margins.gain_margin_db >= asked.gain_margin_db)
    )
