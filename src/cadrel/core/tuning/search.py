"""The search for a shape: which figures it has, where it begins, how it evolves, and the gains that follow from one.

A shape is reset time, torque filter, speed filter and up to two second-order sections; `shape.py` says how much gain
it bears.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control import Gains, TwoMass
from cadrel.core.control.filters import Section
from cadrel.core.parameters import REGISTRY
from cadrel.core.tuning.evolution import Evolution
from cadrel.core.tuning.gain_kernel import highest_gain, scores
from cadrel.core.tuning.shape import LEAST_DAMPING, Bounds, Plants
from cadrel.core.tuning.shape_kernel import FIXED

FloatArray = NDArray[np.float64]
AROUND, GONE_ON = 0.2, 3  # of the figures' logarithms; share of the generations spared: where a search is gone on with
GENERATIONS, CROWD = (40, 80, 250), (8, 8, 10)  # of the evolution; members for each figure; by number of sections
SEED = 20  # of the evolution's draws: the same proposal each time
FIGURES = {  # bounds of a shape's figures: reset time [s], filters [Hz], a section's zeros and poles
    "reset": (1.0e-3, 2.0), "torque_filter": (150.0, 1900.0), "speed_filter": (200.0, 1900.0),
    # Poles damped beyond 1 are a lag: stiff, but once the current is at its limit a position loop around it swings on.
    "place": (60.0, 1850.0), "zero_damping": (0.01, 1.5), "pole_damping": (LEAST_DAMPING, 1.0),
}  # fmt: skip
# Damping of a section's zeros and poles, at the least, where no resonance is known: one that the measured plant shows
# and no model has may lie elsewhere with another load, and nobody could tell where.
BLUNT = 0.3
DIGITS = 4  # of a proposed figure: what is read and typed again
BELOW, INVERSE = 0.93, 1.35  # times resonance and antiresonance, where zeros and poles that answer them end up
# What a second section begins with beside one that answers the resonance: a lead about the filters. Zeros and poles,
# each a frequency [Hz] and a damping, and how far their logarithms are strewn.
LEAD = ((550.0, 0.3), (0.82, 0.2), (1500.0, 0.1), (0.9, 0.2))
# Or with a lag below the crossover, whose zeros swing: more gain beneath it for the phase that it costs.
LAG = ((90.0, 0.2), (0.43, 0.15), (63.0, 0.1), (0.95, 0.1))
SLOWER = 2.2  # times the reset time: what a lag takes of phase the integral gives back
# A resonance answered by a lead whose zeros lie on it, above it by this share: its phase holds the resonance.
LED = ((1.03, 0.05), (0.2, 0.4), (1550.0, 0.1), (0.9, 0.2))
# Or with one about where the load stands against the motor, in its frequency: what the inverse leaves of it, which is
# of other damping and drifts.
BESIDE = ((0.85, 0.2), (0.25, 0.3), (1.3, 0.2), (0.35, 0.3))
# Or beside a lead about the filters with a lag from below the resonance up to above it, in its frequency, of much more
# gain: where a heavy load stands against the motor far below the crossover, which the motor alone decides.
BENEATH = ((2.2, 0.2), (0.9, 0.2), (0.5, 0.2), (0.95, 0.1))
# Crowds that evolve side by side, and after how many generations all but the best so many are given up.
RACED = ((60, 4), (120, 2))
MOST_LEAD = 3.0  # poles over zeros: beyond, a section is a differentiator


def _box(load: TwoMass, bounds: Bounds, sections: int) -> list[tuple[float, float]]:
    """Bounds of a shape's figures, as logarithms."""
    lowest = min(FIGURES["place"][0], 0.5 * (load.antiresonance_hz or math.inf))
    place = (lowest, FIGURES["place"][1])
    zeros, poles = FIGURES["zero_damping"], (bounds.least_damping, FIGURES["pole_damping"][1])
    if load.stiffness is None:
        zeros, poles = (max(zeros[0], BLUNT), zeros[1]), (max(poles[0], BLUNT), poles[1])
    section = [place, zeros, place, poles]
    slowest, quickest = FIGURES["speed_filter"]
    speed_filter = (slowest, min(quickest, bounds.speed_filter))
    figures = [FIGURES["reset"], FIGURES["torque_filter"], speed_filter, *(section * sections)]
    return [(math.log(low), math.log(high)) for low, high in figures]


@dataclass(frozen=True, slots=True, eq=False)
class Evolved:
    """What became of an evolution."""

    best: FloatArray  # the best shape, logarithms of its figures
    crowds: FloatArray  # before any was given up, the best shape among them: another search may go on there


def evolved(
    load: TwoMass, plants: Plants, bounds: Bounds, gains: Gains, sections: int, start: FloatArray | None,
    earlier: Evolved | None = None,
) -> Evolved:  # fmt: skip
    """Return the best shape of a structure, begun where the simpler one ended; the best of some evolutions.

    A crowd that holds both good beginnings of a section - a notch, and the inverse of the two masses - forgets one of
    them within some generations, now this one, now that: each has a crowd of its own. With one load more to bear it
    goes on with the crowds of an `earlier` evolution, all of them, and one about its best: what was best may have lived
    by what that forbids.
    """
    box = _box(load, bounds, sections)
    rng = np.random.default_rng(SEED)
    last, before = GENERATIONS[sections], 0
    if earlier is None:
        crowds = np.stack(_beginnings(load, bounds, box, sections, start, rng))
    else:
        around = _strewn(box, sections, rng)
        half = len(around) // 2
        around[:half] = earlier.best + AROUND * rng.normal(size=(half, len(box)))
        crowds, before = np.concatenate([earlier.crowds, around[None]]), last // GONE_ON
    evolution = Evolution(crowds, box, lambda many, beaten: _score(many, plants, bounds, gains, beaten))
    whole: FloatArray | None = None
    for until, kept in (*(stage for stage in RACED if stage[0] < last), (last, 1)):
        evolution.go_on(until - before, rng)
        whole = evolution.crowds.copy() if whole is None else whole
        evolution.keep(kept)
    assert whole is not None
    best = evolution.crowds[0, 0]
    whole[0, 0] = best
    return Evolved(best, whole)


def _beginnings(
    load: TwoMass, bounds: Bounds, box: list[tuple[float, float]], sections: int, start: FloatArray | None,
    rng: np.random.Generator,
) -> list[FloatArray]:  # fmt: skip
    """Return the crowds that a structure evolves from: for each good beginning one that half of it is strewn about."""
    crowds = [_strewn(box, sections, rng)]
    if not sections or start is None:
        return crowds
    _begun_at_notch(crowds[0], start, box, load, rng)
    springy = load.resonance_hz is not None and load.antiresonance_hz is not None
    if springy:
        crowds.append(_begun_at_inverse(_strewn(box, sections, rng), start, load, bounds, rng))
    if sections < 2:
        return crowds
    half = len(crowds[0]) // 2
    lagging = _strewn(box, sections, rng)
    lagging[:half, : len(start)] = start + 0.15 * rng.normal(size=(half, len(start)))
    crowds.append(_lagged(lagging, rng))
    if springy:
        assert load.resonance_hz is not None and load.antiresonance_hz is not None
        inverse = _begun_at_inverse(_strewn(box, sections, rng), start, load, bounds, rng)
        crowds.append(_lagged(inverse, rng))
        twice = _begun_at_inverse(_strewn(box, sections, rng), start, load, bounds, rng)
        twice[:half, -4:] = _about(BESIDE, half, rng)
        twice[:half, [-4, -2]] += math.log(load.antiresonance_hz)
        crowds.append(twice)
        led = _strewn(box, sections, rng)
        led[:half, :FIXED] = start[:FIXED] + 0.3 * rng.normal(size=(half, FIXED))
        led[:half, FIXED : FIXED + 4] = _about(LED, half, rng)
        led[:half, FIXED] += math.log(load.resonance_hz)
        crowds.append(_lagged(led, rng))
        beneath = _strewn(box, sections, rng)
        beneath[:half, :FIXED] = start[:FIXED] + 0.3 * rng.normal(size=(half, FIXED))
        beneath[:half, FIXED : FIXED + 4] = _about(LEAD, half, rng)
        beneath[:half, -4:] = _about(BENEATH, half, rng)
        beneath[:half, [-4, -2]] += math.log(load.resonance_hz)
        crowds.append(beneath)
    return crowds


def _lagged(crowd: FloatArray, rng: np.random.Generator) -> FloatArray:
    """Let the half of a crowd that begins somewhere have a lag as its second section."""
    half = len(crowd) // 2
    crowd[:half, 0] += math.log(SLOWER)
    crowd[:half, -4:] = _about(LAG, half, rng)
    return crowd


def _strewn(box: list[tuple[float, float]], sections: int, rng: np.random.Generator) -> FloatArray:
    """A crowd anywhere in the box."""
    low, high = np.array(box).T
    crowd = rng.uniform(low, high, size=(CROWD[sections] * len(box), len(box)))
    crowd[:, 0] = rng.uniform(math.log(2e-3), math.log(0.3), len(crowd))
    return np.asarray(crowd)


def _begun_at_notch(
    crowd: FloatArray, start: FloatArray, box: list[tuple[float, float]], load: TwoMass, rng: np.random.Generator
) -> None:
    """Let half of a crowd begin at the simpler loop with a notch added, on the resonance or anywhere."""
    half = len(crowd) // 2
    crowd[:half, : len(start)] = start + 0.15 * rng.normal(size=(half, len(start)))
    at = np.log(load.resonance_hz) if load.resonance_hz else rng.uniform(*box[FIXED], size=half)
    crowd[:half, -4] = at + 0.2 * rng.normal(size=half)
    crowd[:half, -2] = crowd[:half, -4] + 0.2 * rng.normal(size=half)
    crowd[0, : len(start)], crowd[0, -4:] = start, (box[-4][1], 0.0, box[-2][1], 0.0)


def _begun_at_inverse(
    crowd: FloatArray, start: FloatArray, load: TwoMass, bounds: Bounds, rng: np.random.Generator
) -> FloatArray:
    """Let half of a crowd begin with one section the inverse of the two masses.

    Its zeros lie below where they resonate, its poles above where the load stands against the motor, both hardly
    damped. With two sections it is the first, and the second a lead about the filters.
    """
    assert load.resonance_hz is not None and load.antiresonance_hz is not None
    half, least = len(crowd) // 2, math.log(bounds.least_damping)
    crowd[:half, :FIXED] = start[:FIXED] + 0.3 * rng.normal(size=(half, FIXED))
    crowd[:half, 3] = math.log(BELOW * load.resonance_hz) + 0.1 * rng.normal(size=half)
    crowd[:half, 4] = math.log(0.05) + 0.5 * rng.normal(size=half)
    crowd[:half, 5] = math.log(INVERSE * load.antiresonance_hz) + 0.2 * rng.normal(size=half)
    crowd[:half, 6] = least + 0.4 * np.abs(rng.normal(size=half))
    if crowd.shape[1] > FIXED + 4:
        crowd[:half, -4:] = _about(LEAD, half, rng)
    return crowd


def _about(section: tuple[tuple[float, float], ...], n: int, rng: np.random.Generator) -> FloatArray:
    """Return logarithms of a section's four figures, n of them, about what it begins with."""
    middle, width = np.array(section).T
    return np.asarray(np.log(middle) + width * rng.normal(size=(n, len(section))))


def _score(many: FloatArray, plants: Plants, bounds: Bounds, gains: Gains, beaten: FloatArray) -> FloatArray:
    """Negative scores of shapes, one a column; a section that only differentiates is worse the more it does.

    A shape whose negative score exceeds its `beaten` is not worked out to its end.
    """
    worse = np.zeros(many.shape[1])
    for k in range(FIXED, len(many), 4):
        worse += 10.0 * np.maximum(many[k + 2] - many[k] - math.log(MOST_LEAD), 0.0)
    return worse + scores(
        np.ascontiguousarray(many), plants.frequency, plants.values, plants.models, plants.kept, gains.rates.velocity,
        bounds.noises, bounds.unseen_hz, bounds.gain, worse - beaten,
    )  # fmt: skip


def as_gains(shape: FloatArray, gains: Gains, plants: Plants, bounds: Bounds) -> Gains | None:
    """The gains of a shape at the highest gain it bears; None where it bears none."""
    _, gain = highest_gain(
        np.exp(shape), plants.frequency, plants.values, plants.models, plants.kept, gains.rates.velocity,
        bounds.noises, bounds.unseen_hz, bounds.gain,
    )  # fmt: skip
    # The best shape often leaves no room between the bounds of its gain: rounded, it is the judge's, not the search's.
    x = [float(f"{figure:.{DIGITS}g}") for figure in np.exp(shape)]
    least = REGISTRY["velocity.gain"].minimum
    if gain <= 0.0 or (least is not None and gain < least):
        return None
    sections = tuple(
        Section(zero_hz=x[k], zero_damping=x[k + 1], pole_hz=x[k + 2], pole_damping=x[k + 3])
        for k in range(FIXED, len(x), 4)
    )
    return gains.with_(
        velocity_gain=float(gain), velocity_reset=float(x[0]), torque_filter_hz=float(x[1]),
        feedback_filter_hz=float(x[2]), notch_hz=0.0, notch_depth_db=0.0, sections=sections,
    )  # fmt: skip


def shape_of(gains: Gains) -> FloatArray:
    """The figures of the loop's shape, as the search has them; a notch beside the sections is no part of it."""
    return np.array([
        gains.velocity_reset, gains.torque_filter_hz, gains.feedback_filter_hz,
        *(v for s in gains.sections for v in (s.zero_hz, s.zero_damping, s.pole_hz, s.pole_damping)),
    ])  # fmt: skip
