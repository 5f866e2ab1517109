"""Position gain around the closed velocity loop, and the notch that keeps planned moves from the load's swing."""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import (
    Gains,
    TwoMass,
    Winding,
    load_over_motor,
    position_open,
    position_over_speed,
    read_margins,
    spectral_radius,
    velocity_plant,
)
from cadrel.core.control.filters import ComplexArray
from cadrel.core.response.estimate import FrequencyResponse
from cadrel.core.tuning.velocity import FloatArray, TuningRefused, limiting_factor, spread_of
from cadrel.core.verdict.loops import resonance_grid

FRICTION_SHARE = (
    0.8  # fed forward of the sliding friction found: it varies along the travel, and more pushes the axis on
)
LOAD_ROOM = 0.8  # of the decibels the load may swing by: its damping is no better known
PEAK = 1.05  # closed-loop magnitude allowed: a step overshoots by a few percent at most
LOWEST, HIGHEST = 0.5, 3000.0  # [1/s] position gains that are looked at
FINE = 0.002  # of a gain's logarithm: two that are nearer are one
FEWEST_LINES = 10  # measured, from which a loop is judged
SHAPED_WIDTH = 1.0  # damping of the command notch's poles: wide enough for a load that is a few percent elsewhere
SHAPED_TAIL = 5.0  # time constants of those poles after which 4 % is left of what the notch holds back
SHAPED_SHARE = 0.5  # of the settling time asked for, that the notch may take of it
WORTH = 1.3  # times the position gain that a notch must earn
DEEPEST, LEAST_DEEP = -60.0, -1.0  # [dB] of a notch: what a drive takes, and what is worth one
FASTEST = 0.45  # of the velocity loop's rate: no notch is nearer to half of it


@dataclass(frozen=True, slots=True, eq=False)
class _Plant:
    """A velocity plant on its grid, the position fed back over its speed, and what the load makes of that position.

    The last is nought where it is not known.
    """

    frequency: FloatArray
    value: ComplexArray
    over_speed: ComplexArray
    swung: FloatArray

    def opened(self, gains: Gains) -> ComplexArray:
        """The open position loop with these gains."""
        return position_open(self.value, gains, self.frequency, self.over_speed)


def tune_position(
    load: TwoMass,
    winding: Winding,
    gains: Gains,
    asked: Robustness,
    *,
    measured: FrequencyResponse | None = None,
    over_speed: ComplexArray | None = None,
    working: Winding | None = None,
    settling: float | None = None,
) -> tuple[Gains, str]:
    """Return gains with the highest position gain whose closed loop hardly peaks, and what limits it.

    It must hold on the model, as small currents meet it and at the `working` current, and on the `measured` velocity
    plant: where they part, the worse decides. Where the load's swing behind its shaft is what limits it, planned moves
    are given a notch on the load's anti-resonance, if that earns a third and takes no more than half of the `settling`
    time [s]; without a settling time there is none. Otherwise a notch in force is taken out. `over_speed` is the
    position fed back over the speed of the measured plant, on its lines; without it that of the model is taken.

    Raises
    ------
    TuningRefused
        Even a very small gain does not hold the margins.
    """
    plain = gains.with_(shaping_hz=0.0, shaping_depth_db=0.0, shaping_width=SHAPED_WIDTH)
    tuned, limit = _highest(load, winding, plain, asked, (measured, over_speed), working)
    if limit != SWINGS or settling is None:
        return tuned, limit
    shaped = _with_notch(load, plain, settling)
    if shaped is None:
        return tuned, limit
    again, further = _highest(load, winding, shaped, asked, (measured, over_speed), working)
    return (again, further) if again.position_gain > WORTH * tuned.position_gain else (tuned, limit)


SWINGS = "the load, which swings behind its shaft"


def _with_notch(load: TwoMass, gains: Gains, settling: float) -> Gains | None:
    """The gains with a notch for planned moves where the load swings; None where it would take too long.

    Its zeros are damped as the load is, so that they cancel what swings and no more.
    """
    at = load.antiresonance_hz
    if at is None or SHAPED_TAIL / (2 * math.pi * at * SHAPED_WIDTH) > SHAPED_SHARE * settling:
        return None
    assert load.stiffness is not None
    damped = (load.damping + load.viscous_load) / (2 * math.sqrt(load.stiffness * load.inertia_load))
    depth = max(20 * math.log10(max(damped / SHAPED_WIDTH, 1e-6)), DEEPEST)
    if depth > LEAST_DEEP or at > FASTEST / gains.rates.velocity:
        return None
    return gains.with_(
        shaping_hz=float(f"{at:.4g}"), shaping_depth_db=float(f"{depth:.3g}"), shaping_width=SHAPED_WIDTH
    )


def _highest(
    load: TwoMass, winding: Winding, gains: Gains, asked: Robustness,
    seen: tuple[FrequencyResponse | None, ComplexArray | None], working: Winding | None,
) -> tuple[Gains, str]:  # fmt: skip
    """The highest position gain that everything honours, and what limits it. Raises `TuningRefused`."""
    measured, over_speed = seen
    windings = [winding] if working is None else [winding, working]
    swings = 10 ** (LOAD_ROOM * asked.load_peak_db / 20)
    spread = spread_of(asked)
    plants = []
    for k, drifted in enumerate(spread.drifts(load)):
        grid = resonance_grid(drifted)
        planned = np.abs(gains.shaping().response(np.exp(-2j * np.pi * grid * gains.rates.velocity)))
        for w in windings if k == 0 else windings[-1:]:
            plant = velocity_plant(drifted, w, gains, grid)
            beyond = np.ones(len(grid)) if gains.on_load else np.abs(load_over_motor(drifted, grid))
            plants.append(_Plant(grid, plant, position_over_speed(drifted, w, gains, grid), planned * beyond))
    if measured is not None and len(measured.frequency) > FEWEST_LINES:
        f = measured.frequency
        known = position_over_speed(load, winding, gains, f) if over_speed is None else over_speed
        plants.append(_Plant(f, measured.value, known, np.zeros(len(f))))

    def honours(kv: float) -> bool:
        tried = gains.with_(position_gain=kv)
        return all(_honours(plant, tried, asked, swings) for plant in plants)

    def is_stable(kv: float) -> bool:
        """Whether the loop is stable with what has been found to bind, which is asked first as it is quick to say."""
        tried = gains.with_(position_gain=kv)
        return all(spectral_radius("position", one, w, tried) < 1 for one, w in binding)

    binding: list[tuple[TwoMass, Winding]] = []
    refused = TuningRefused(asked="a calm position loop", limit="the velocity loop, which is too slow or rings")
    if not honours(LOWEST):
        raise refused
    low, high = _bisected(honours, LOWEST, HIGHEST)
    while True:
        tuned = gains.with_(position_gain=low)
        found = [(spread.unstable("position", load, w, tuned), w) for w in windings]
        unstable = [(one, w) for one, w in found if one is not None]
        if not unstable:
            break
        binding += unstable
        if not is_stable(LOWEST):
            raise refused
        low, high = _bisected(is_stable, LOWEST, low)
    margins = read_margins(plants[0].opened(tuned), plants[0].frequency)
    more = gains.with_(position_gain=high)
    if any(_swing(plant, more) > swings for plant in plants):
        return tuned, SWINGS
    if load.stiffness is not None and all(_honours(plant, more, asked, swings) for plant in plants):
        return tuned, SWINGS  # every margin holds: a load of the spread, hardly damped, is what more would set swinging
    return tuned, limiting_factor(margins, load, asked)


def _bisected(accepts: Callable[[float], bool], lowest: float, highest: float) -> tuple[float, float]:
    """Return the highest gain that is accepted, the lowest being one, and the next one that is not, on a fine scale."""
    low, high = math.log(lowest), math.log(highest)
    while high - low > FINE:
        middle = 0.5 * (low + high)
        low, high = (middle, high) if accepts(math.exp(middle)) else (low, middle)
    return math.exp(low), math.exp(high)


def _swing(plant: _Plant, gains: Gains) -> float:
    """Largest motion of the load over the planned one."""
    loop = plant.opened(gains)
    return float((np.abs(loop / (1 + loop)) * plant.swung).max())


def _honours(plant: _Plant, gains: Gains, asked: Robustness, swings: float) -> bool:
    loop = plant.opened(gains)
    closed = np.abs(loop / (1 + loop))
    margins = read_margins(loop, plant.frequency)
    return (
        float(closed.max()) <= PEAK
        and float((closed * plant.swung).max()) <= swings
        and margins.sensitivity_peak <= asked.sensitivity_peak
        and (margins.phase_margin is None or margins.phase_margin >= asked.phase_margin)
        and (margins.gain_margin_db is None or margins.gain_margin_db >= asked.gain_margin_db)
    )
