"""The stiffest velocity loop within stated margins and a stated spread, on the measured plant and on its model."""

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import product

import numpy as np
from numpy.typing import NDArray

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import (
    Gains,
    Margins,
    TwoMass,
    Winding,
    read_margins,
    unstable_pairs,
    velocity_open,
    velocity_plant,
)
from cadrel.core.errors import CoreError
from cadrel.core.parameters import field_of
from cadrel.core.response.estimate import FrequencyResponse
from cadrel.core.tuning.pace import softened
from cadrel.core.tuning.search import FIGURES, Evolved, as_gains, evolved, shape_of
from cadrel.core.tuning.shape import LEAST_DAMPING, Bounds, Kept, Plants
from cadrel.core.tuning.shape_kernel import made_of_noise, torque_of_noise
from cadrel.core.verdict.loops import LOW_HZ, resonance_grid
from cadrel.core.verdict.spread import Spread

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
BEYOND = 16  # points of its part beyond the highest resonances, up to the Nyquist frequency
COARSE = 130  # points of the search's grid beside those across resonances
ACROSS = 15  # points across a peak, for the search
MOST_SECTIONS = 2
ROUNDS = 5  # of a search, each with one load more to bear
EARNS = 1.05  # a section must raise the score's gain by a twentieth, or the simpler loop is kept
INSIDE = (0.99, math.radians(0.4), 0.1)  # peak, phase and gain [dB] by which the search stays inside what is asked
USED_UP = 0.85  # of the ripple asked for, from which on noise is what binds
HIDDEN = "a spring that may hide beyond"
NOISY = "the device's noise: the current ripple asked for at rest"
VOLTAGE = "the device's noise in motion: the voltage that its steps ask for"
MORE = (1.02, 1.05, 1.1)  # times a gain: what first forbids so much more of it is what binds
LESS, TRIES = 0.96, 40  # gain taken back, and how often, until every judge is content
# Apart, two neighbouring lines do not tell which way round the plant went between them: their noise is the rest.
AMBIGUOUS = math.radians(150)
HALVINGS = 3  # of the last of these steps: the integral gain goes with the square of what is taken back
CALM_FILTERS = (600.0, 400.0, 280.0)  # [Hz] of the speed, tried where quicker ones undamp a resonance
MISSED_BY, MISSED_NEAR = math.radians(3), 0.7  # of -1: crossovers and near passes that the search looks at closer
MISSED_POINTS = 5  # that such a place adds to the search's grid, over four steps of the judge's
# Of a load lighter or heavier than measured: stable. Its corners lie beyond those asked for by what an identification
# may be off by (`verdict/spread.py`): the distance is for what lies between them.
STABLE = Kept(12.0, math.radians(5), 1.1)
UNSEEN_HZ = 1200.0  # a plant is rarely measured beyond; there the loop's gain stays below 1


class TuningRefused(CoreError):
    """No loop honours what was asked."""

    happened = "No velocity loop was found that keeps {asked}."
    means = "The gains in the drive are unchanged. The nearest try was limited by {limit}."
    remedy = (
        f"Ask for less by {field_of('tuning.phase_margin')}, {field_of('tuning.resonance_drift')} or "
        f"{field_of('tuning.inertia_most')}, or stiffen what resonates."
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class VelocityTuning:
    """The proposal: gains, the margins they should give, and what limits them."""

    gains: Gains
    margins: Margins
    limited_by: str
    others: "tuple[VelocityTuning, ...]" = ()  # of more or fewer sections, which keep what is asked as well

    @property
    def integral(self) -> float:
        """Integral gain. [N·m/rad]"""
        return self.gains.velocity_gain / self.gains.velocity_reset


@dataclass(frozen=True, slots=True, eq=False)
class _Judge:
    """Models and measurement that a candidate must satisfy, on grids finer than the search's."""

    load: TwoMass
    windings: tuple[Winding, ...]  # as small currents meet it, and at the working current
    asked: Robustness
    measured: FrequencyResponse | None
    edge_age: float  # [s] by which the models lag at the speed that was measured at

    @property
    def ages(self) -> tuple[float, ...]:
        """How old edges are, at the speed that was measured at and at a high one: a loop must do at either. [s]"""
        return (0.0, self.edge_age) if self.edge_age > 0.0 else (0.0,)

    @property
    def spread(self) -> Spread:
        return spread_of(self.asked)

    def _loops(self, gains: Gains) -> Iterator[tuple[FloatArray, ComplexArray]]:
        """Frequencies and open loop of the model as it is first, then drifted, at every winding, edges new and old."""
        for load in self.spread.drifts(self.load):
            grid = resonance_grid(load)
            for winding, age in product(self.windings, self.ages):
                plant = velocity_plant(load, winding, gains, grid, edge_age=age)
                yield grid, velocity_open(plant, gains, grid)

    def margins(self, gains: Gains) -> list[Margins]:
        """Of the models, and of the measured plant last."""
        found = [read_margins(loop, grid) for grid, loop in self._loops(gains)]
        if self.measured is not None and len(self.measured.frequency) > 10:
            f = self.measured.frequency
            found.append(read_margins(velocity_open(self.measured.value, gains, f), f))
        return found

    def missed(self, gains: Gains) -> FloatArray:
        """Return where the models' loops come nearer to -1 than is asked for. [Hz]"""
        found = []
        for grid, loop in self._loops(gains):
            if not _honours(read_margins(loop, grid), self.asked):
                distance = np.abs(1 + loop)
                lowest = np.nonzero((distance[1:-1] <= distance[:-2]) & (distance[1:-1] <= distance[2:]))[0] + 1
                across = np.nonzero((np.abs(loop[:-1]) > 1) != (np.abs(loop[1:]) > 1))[0]
                steep = np.abs(np.angle(-loop[across])) < self.asked.phase_margin + MISSED_BY
                for at in (*lowest[distance[lowest] < MISSED_NEAR], *across[steep]):
                    found.append(np.linspace(grid[max(at - 2, 0)], grid[min(at + 2, len(grid) - 1)], MISSED_POINTS))
        return np.concatenate(found) if found else np.empty(0)

    def accepts(self, gains: Gains) -> bool:
        return all(_honours(m, self.asked) for m in self.margins(gains)) and self.is_stable(gains)

    def is_stable(self, gains: Gains) -> bool:
        return self.runs_away(gains) is None

    def runs_away(self, gains: Gains) -> TwoMass | None:
        """Return a load of the spread with which the loop is unstable, or would be at little more gain; None without.

        A loop stable by next to nothing on a load that friction grips leaves its position loop no gain there.
        """
        for tried in (gains, gains.with_(velocity_gain=STABLE.gain_margin * gains.velocity_gain)):
            for winding in self.windings:
                worst = self.spread.unstable("velocity", self.load, winding, tried)
                if worst is not None:
                    return worst
        return None


def spread_of(asked: Robustness) -> Spread:
    """Return the spread that is asked for."""
    return Spread(
        resonance_drift=asked.resonance_drift, resonance_rise=asked.resonance_rise,
        closed_damping=asked.closed_damping, resonance_softer=asked.resonance_softer,
        inertia_least=asked.inertia_least, inertia_most=asked.inertia_most,
        motor_inertia=asked.motor_inertia, seen_hz=asked.seen_hz, grip=asked.grip, unsure=asked.unsure,
    )  # fmt: skip


def _honours(m: Margins, asked: Robustness) -> bool:
    return (
        m.sensitivity_peak <= asked.sensitivity_peak
        and (m.phase_margin is None or m.phase_margin >= asked.phase_margin)
        and (m.gain_margin_db is None or m.gain_margin_db >= asked.gain_margin_db)
    )


def tune_velocity(
    load: TwoMass,
    winding: Winding,
    gains: Gains,
    asked: Robustness,
    *,
    measured: FrequencyResponse | None = None,
    working: Winding | None = None,
    noise: float = 0.0,
    noise_torque: float = math.inf,
    moving_noise: float = 0.0,
    most_change: float = math.inf,
    least_damping: float = LEAST_DAMPING,
    known: Gains | None = None,
    most_gain: float = math.inf,
    most_sections: int = MOST_SECTIONS,
    edge_age: float = 0.0,
) -> VelocityTuning:
    """Return the velocity loop with the highest integral gain that honours what is asked for over its spread.

    Parameters
    ----------
    load, winding : TwoMass, Winding
        The identified model.
    gains : Gains
        In force; the current loop is kept.
    measured : FrequencyResponse, optional
        Measured velocity plant; margins must hold on it too, not on the model alone.
    working : Winding, optional
        The winding at the working current, where dead time does not damp: margins must hold there as well.
    noise, noise_torque : float
        Of the raw speed at rest, rms [rad/s], and what it may make of torque, rms [N·m].
    moving_noise, most_change : float
        The same while the axis moves, and by how much it may change the torque from one sample to the next: more than
        the voltage follows comes late, and less of it.
    least_damping : float
        Of a section's poles: what swings little in them is calmer where a device shows speed in steps. [1]
    known : Gains, optional
        Of a proposal before, on nearly the same plant: its shape, at a gain that keeps what is asked for now, is
        proposed where the search finds nothing better.
    most_gain : float
        Where a softer loop is wanted than there could be. [N·m·s/rad]
    most_sections : int
        Second-order sections that may be made use of.
    edge_age : float
        How old the last edge of a counted device is on average, at the speed that the plant was measured at: what is
        measured has it, and the models must do with it as well as without, as at a high speed. [s]

    Raises
    ------
    TuningRefused
        No candidate is stable and honours the margins.

    Notes
    -----
    Reset time, torque filter, speed filter and up to two second-order sections are searched by differential evolution
    (`evolution.py`), each shape scored by the highest gain it bears (`gain_kernel.py`). The simplest structure is kept
    unless a section raises the score by a twentieth. What the search proposes is judged anew on fine grids and by
    eigenvalues over the whole spread, and its gain taken back until all of them are content.
    """
    judge = _Judge(
        load, _windings(winding, working), asked, _joined(measured, load, winding, gains, edge_age), edge_age
    )
    unseen = UNSEEN_HZ
    if measured is not None and measured.frequency.size:  # what few lines tell beyond is no phase to rely on
        unseen = max(unseen, min(float(measured.frequency[-1]), asked.seen_hz))
    bounds = Bounds(
        unseen_hz=unseen, noise=noise, noise_torque=noise_torque, moving_noise=moving_noise, most_change=most_change,
        gain=most_gain, least_damping=least_damping,
    )  # fmt: skip
    found = _best_of(judge, gains, bounds, known, most_sections)
    if not found and (calm := _undamping_nothing(judge, gains)) is not None:
        slow = replace(bounds, speed_filter=calm.feedback_filter_hz)
        found = _best_of(judge, calm, slow, known, most_sections)
    if not found:
        raise TuningRefused(asked=_asked_text(asked), limit=_resonance_text(load))
    best, *others = (_told(judge, proposed, bounds) for proposed in found)
    return replace(best, others=tuple(others))


def shaped_as(
    shape: Gains, load: TwoMass, winding: Winding, asked: Robustness, *, measured: FrequencyResponse | None = None,
    working: Winding | None = None, noise: float = 0.0, noise_torque: float = math.inf, moving_noise: float = 0.0,
    most_change: float = math.inf, edge_age: float = 0.0,
) -> VelocityTuning | None:  # fmt: skip
    """Return a velocity loop of a shape that is given, as much of its gain taken back as what is asked for wants.

    None where no gain keeps that. Arguments as of `tune_velocity`.
    """
    seen = _joined(measured, load, winding, shape, edge_age)
    judge = _Judge(load, _windings(winding, working), asked, seen, edge_age)
    bounds = Bounds(
        unseen_hz=UNSEEN_HZ, noise=noise, noise_torque=noise_torque, moving_noise=moving_noise,
        most_change=most_change, least_damping=0.0,
    )  # fmt: skip
    kept = _judged(judge, _quieter(shape, bounds))
    return None if kept is None else _told(judge, kept, bounds)


def _best_of(judge: _Judge, gains: Gains, bounds: Bounds, known: Gains | None, most_sections: int) -> list[Gains]:
    """Return the best loop found, then those of other structures that keep what is asked as well; or none."""
    exploited: list[TwoMass] = []
    closer = np.empty(0)
    plants = _plants(judge, gains, exploited, closer)
    best: tuple[float, Gains] | None = None
    kept: list[Gains] = []
    start: FloatArray | None = None
    for sections in range(most_sections + 1):
        found: Evolved | None = None
        for _ in range(ROUNDS):
            found = evolved(judge.load, plants, bounds, gains, sections, start, found)
            shaped = as_gains(found.best, gains, plants, bounds)
            if shaped is None:
                break
            runs_away, missed = judge.runs_away(shaped), judge.missed(shaped)
            if runs_away is None and not missed.size:
                break
            # What the search made use of, between the loads and the points it was shown, it must bear as well; and
            # the plants as they are with the speed filter that it found, through which the back-EMF is fed forward.
            exploited += [] if runs_away is None or runs_away in exploited else [runs_away]
            closer = np.concatenate([closer, missed])
            plants = _plants(judge, shaped, exploited, closer)
        assert found is not None
        start = found.best
        proposed = _judged(judge, shaped)
        if proposed is None:
            continue
        kept.append(proposed)
        score = math.log(proposed.velocity_gain / proposed.velocity_reset)
        if best is None or score > math.log(EARNS) + best[0]:
            best = (score, proposed)
    calmer = None if known is None else _judged(judge, _quieter(known, bounds))
    if calmer is not None:
        score = math.log(calmer.velocity_gain / calmer.velocity_reset)
        if best is None or score > best[0]:
            best = (score, calmer)
    if best is None:
        return []
    chosen = best[1]
    return [chosen, *(other for other in kept if other is not chosen)]


def _undamping_nothing(judge: _Judge, gains: Gains) -> Gains | None:
    """Return the gains with a speed filter so low that back-EMF fed forward through it undamps no load of the spread.

    None where the quickest filter undamps none, or no slower one helps. What is fed forward comes late, and through the
    current loop it drives a resonance that hardly damps itself: the loop would have to make up for that.
    """

    def undamps(filter_hz: float) -> bool:
        tried = gains.with_(feedback_filter_hz=filter_hz)
        return any(
            unstable_pairs(load, winding, tried)
            for load in judge.spread.corners(judge.load)
            for winding in judge.windings
        )

    if not undamps(FIGURES["speed_filter"][1]):
        return None
    slowest = next((hz for hz in CALM_FILTERS if not undamps(hz)), None)
    return None if slowest is None else gains.with_(feedback_filter_hz=slowest)


def _told(judge: _Judge, gains: Gains, bounds: Bounds) -> VelocityTuning:
    """A loop with its margins, and what binds it."""
    every = judge.margins(gains)
    limit = _limit(every, judge.load, judge.asked, gains, bounds)
    if limit not in (NOISY, VOLTAGE) and _hidden_binds(judge, gains):
        limit = f"{HIDDEN} {judge.asked.seen_hz:.0f} Hz, up to where the lines show none"
    return VelocityTuning(gains=gains, margins=every[0], limited_by=limit)


def keeps_what_is_asked(
    gains: Gains, load: TwoMass, winding: Winding, asked: Robustness, *, measured: FrequencyResponse | None = None,
    working: Winding | None = None, edge_age: float = 0.0,
) -> bool:  # fmt: skip
    """Whether a velocity loop honours the margins on model and measurement, and is stable over the whole spread."""
    seen = _joined(measured, load, winding, gains, edge_age)
    return _Judge(load, _windings(winding, working), asked, seen, edge_age).accepts(gains)


def _joined(
    measured: FrequencyResponse | None, load: TwoMass, winding: Winding, gains: Gains, edge_age: float
) -> FrequencyResponse | None:  # fmt: skip
    """What was measured, led by the model across a resonance between two of its lines."""
    if measured is None or not len(measured.frequency):
        return measured
    return measured.joined_by(
        lambda f: velocity_plant(load, winding, gains, f, edge_age=edge_age), turned=AMBIGUOUS, points=ACROSS
    )


def _windings(small: Winding, working: Winding | None) -> tuple[Winding, ...]:
    return (small,) if working is None or working == small else (small, working)


def _plants(judge: _Judge, gains: Gains, further: Sequence[TwoMass], closer: FloatArray) -> Plants:
    """The plants of the search: every drift at every winding, the measured one, and what need only stay stable.

    The models' grid is dense about their resonances, and has the points of `closer` as well.
    """
    asked, drifts, hidden = judge.asked, judge.spread.drifts(judge.load), judge.spread.hidden(judge.load)
    # Of springs that may hide there are many: they are shown at the working current, where dead time does not damp, and
    # what weighs more or less on one of them is what hides a little lower or higher. The judge looks at all of it.
    only_stable = [*replace(judge.spread, seen_hz=math.inf).corners(judge.load), *further]
    kept = Kept(
        1 + INSIDE[0] * (asked.sensitivity_peak - 1), asked.phase_margin + INSIDE[1],
        10 ** ((asked.gain_margin_db + INSIDE[2]) / 20),
    )  # fmt: skip
    top = 1 / (2 * gains.rates.velocity)
    # Up to the very Nyquist frequency: a loop that is stable up to just below it may not be there.
    parts = [np.geomspace(LOW_HZ, 0.6 * top, COARSE), top * np.linspace(0.6, 0.9999, BEYOND), closer]
    for load in (*drifts, *further):
        for centre in (load.resonance_hz, load.antiresonance_hz):
            if centre is not None and LOW_HZ < centre < top:
                parts.append(centre * (1 + 0.2 * np.linspace(-1, 1, ACROSS) ** 3))
    grid = np.unique(np.concatenate(parts))
    grid = grid[grid < top]
    asked_of = [
        (load, w, kept, age)
        for load in drifts
        for w in (judge.windings[-1:] if load in hidden else judge.windings)
        for age in judge.ages
    ]
    asked_of += [(load, judge.windings[-1], STABLE, 0.0) for load in only_stable]
    models = [
        (velocity_plant(load, w, gains, grid, edge_age=age), replace(its, unstable=unstable_pairs(load, w, gains)))
        for load, w, its, age in asked_of
    ]
    seen = judge.measured
    # It is led by the model across a resonance between two of its lines, and turns there as that does.
    its = replace(kept, unstable=unstable_pairs(judge.load, judge.windings[0], gains))
    measured = (seen.frequency, seen.value, its) if seen is not None and len(seen.frequency) > 10 else None
    return Plants.of(grid, models, measured)


def _quieter(known: Gains, bounds: Bounds) -> Gains | None:
    """The shape of a loop with its gain taken back to what the noise allows, its integral gain with the square of it.

    None where its sections swing more than is allowed now.
    """
    if any(section.pole_damping < bounds.least_damping for section in known.sections):
        return None
    return softened(known, min([1.0, *(most / made for made, most in _noises_made(known, bounds) if made > 0.0)]))


def _noises_made(gains: Gains, bounds: Bounds) -> list[tuple[float, float]]:
    """Return what a loop makes of its device's noise, and the most of it: torque at rest, its change in motion.

    [N·m], rms.
    """
    made = gains.velocity_gain * np.array(made_of_noise(shape_of(gains), gains.rates.velocity)) * bounds.noises[:, 0]
    return list(zip(made.tolist(), bounds.noises[:, 1].tolist(), strict=True))


def _judged(judge: _Judge, proposed: Gains | None) -> Gains | None:
    """Take the gain back, the integral gain with its square, until every judge is content; None if none is.

    No more of it than that asks for: between the last that was refused and the first that is not it is halved.
    """
    if proposed is None:
        return None
    refused, share = math.inf, 1.0
    while not judge.accepts(softened(proposed, share)):
        refused, share = share, LESS * share
        if share < LESS**TRIES:
            return None
    if math.isinf(refused):
        return proposed
    for _ in range(HALVINGS):
        middle = math.sqrt(share * refused)
        share, refused = (middle, refused) if judge.accepts(softened(proposed, middle)) else (share, middle)
    return softened(proposed, share)


def _limit(every: list[Margins], load: TwoMass, asked: Robustness, gains: Gains, bounds: Bounds) -> str:
    """What binds: the device's noise, or the margin of the worst plant."""
    for limit, (made, most) in zip((NOISY, VOLTAGE), _noises_made(gains, bounds), strict=True):
        if math.isfinite(most) and made > USED_UP * most:
            # The margins bind as well then: filters are as low as they allow, for the noise's sake.
            return limit
    worst = max(every, key=lambda m: m.sensitivity_peak)
    return limiting_factor(worst, load, asked)


def noise_behind(ripple: float, gains: Gains) -> float:
    """Return the noise of the raw speed that makes so much ripple of torque with these gains. [N·m] -> [rad/s], rms"""
    return float(ripple / (gains.velocity_gain * torque_of_noise(shape_of(gains), gains.rates.velocity)))


def _hidden_binds(judge: _Judge, gains: Gains) -> bool:
    """Whether springs that may hide are the first to forbid more gain: without them all that is asked is kept."""
    if not judge.spread.hidden(judge.load):
        return False
    blind = replace(judge, asked=replace(judge.asked, seen_hz=math.inf))
    for share in MORE:
        more = gains.with_(velocity_gain=share * gains.velocity_gain)
        if not judge.accepts(more):
            return blind.accepts(more)
    return False


def limiting_factor(margins: Margins, load: TwoMass, asked: Robustness) -> str:
    """Return in words which margin is used up, and by what."""
    at = margins.phase_crossover_hz
    resonance = load.resonance_hz
    if resonance and at and 0.7 < at / resonance < 1.4:
        return f"the {resonance:.0f} Hz resonance"
    if margins.gain_margin_db is not None and margins.gain_margin_db < asked.gain_margin_db + 0.5:
        return "the gain margin: delay of loop and filters"
    if margins.phase_margin is not None and margins.phase_margin < asked.phase_margin + math.radians(2):
        return "the phase margin: delay of loop and filters"
    return "the sensitivity peak: delay of loop and filters"


def _asked_text(asked: Robustness) -> str:
    return (
        f"{math.degrees(asked.phase_margin):.0f}° phase margin, {asked.gain_margin_db:.0f} dB gain margin and a "
        f"sensitivity peak of {asked.sensitivity_peak:.1f} with the resonance {100 * asked.resonance_drift:.0f} % off"
    )


def _resonance_text(load: TwoMass) -> str:
    return f"the {load.resonance_hz:.0f} Hz resonance" if load.resonance_hz else "the delay of loop and filters"
