"""The tries of a velocity loop: gains proposed on what was seen, measured around, judged, and proposed anew."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, Winding
from cadrel.core.identification import PlantFit, Play
from cadrel.core.response import FrequencyResponse
from cadrel.core.tuning import (
    LEAST_DAMPING,
    TuningRefused,
    ease_for_settling,
    noise_behind,
    tune_position,
    tune_velocity,
)
from cadrel.core.verdict import Criterion
from cadrel.procedures.errors import AxisStopped
from cadrel.procedures.judging import at_rest_after_a_kick, at_rest_after_a_stroke, kick_size
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.plant_in_motion import (
    PRECISE,
    Excitation,
    fit_plant,
    measure_plant,
    plan_excitation,
    require_lines,
)
from cadrel.procedures.play import Closed, damping_of, rise_of
from cadrel.procedures.session import Session
from cadrel.procedures.velocity_looks import velocity_step
from cadrel.procedures.velocity_report import Tried, outcome_of, velocity_values

MOST_ROOM = (math.radians(12), 4.0, 0.2)  # [rad], [dB], share of the peak: what a second try asks for beyond
KICK = 0.05  # of the speed agreed to
FIRMLY = 2.0  # a limit cycle does not fall with the gain as noise does: more is taken back than noise would ask
UNEXPLAINED, HEARD = 2.5, 1.0  # times the ripple that noise explains, and of the budget: beyond both it hunts
CALM = 0.3  # damping of a section's poles at the least, for an axis that hunts
WITHIN = 0.92  # of the ripple asked for, that a proposal may use: a look of a quarter second scatters by as much
JUST = 1.1  # how much more noise is owed for, where it is mere noise
MOST_AT_ONCE = 6.0  # times the budget: a loop that hunts gets so much less gain in the next proposal
MORE_TRIES = 3  # proposals after one that missed what was asked
FAR_APART = 1.8  # gain of a loop that hunts over that of one that is calm, from which on one between them is tried
WORTH_SAYING = 0.01  # share by which a resonance moves


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Seen:
    """What a proposal rests on."""

    measured: FrequencyResponse
    fit: PlantFit
    closed: Closed | None  # the resonance swung strongly
    moved: float  # share by which the resonance moves with amplitude, beside its play
    noise: float  # [rad/s] of the raw speed that a proposal must bear: the device's, or what hunting is owed for
    device: float  # [rad/s] of it the device's own, as it stood under the loop from before
    hunts: bool = False  # it trembles at rest by more than the noise explains

    @property
    def play(self) -> Play | None:
        """The gap between motor and load, where one is seen."""
        return self.closed.play if self.closed is not None and self.closed.play.is_seen else None

    def asked(self, asked: Robustness) -> Robustness:
        """Return what must be honoured on this plant."""
        rise, damping = rise_of(self.closed, self.fit), damping_of(self.closed, self.fit)
        return asked.where_it_moves(self.moved, rise=rise, damping=damping)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Try:
    """Gains that were tried, what came of them, and what the next proposal may rest on."""

    gains: Gains
    outcome: Outcome
    seen: Seen
    noise: float  # [rad/s] of the raw speed that they were asked to bear

    @property
    def is_calm(self) -> bool:
        """Whether they are proven, and the axis stands still with them."""
        assert self.outcome.verdict is not None
        return self.outcome.verdict.is_proven and not self.seen.hunts

    @property
    def missed(self) -> str:
        """What the next proposal must do better."""
        assert self.outcome.verdict is not None
        return "the axis hunts at rest" if self.outcome.verdict.is_proven else self.outcome.verdict.reason


def tuned_until_calm(
    session: Session, before: Gains, seen: Seen, excitation: Excitation, old_step: dict[str, Any]
) -> Outcome:
    """Propose, measure and judge; what missed, hunted or ran away is tuned anew on what was learned, a few times.

    Where a calm loop is found far below one that hunted, one between them is tried, too; the calm one is gone back to
    where that hunts as well.

    Raises
    ------
    TuningRefused
        The first proposal could not be made.
    AxisStopped
        No proposal could be measured to its end.
    """
    asked = seen.asked(session.axis.robustness)
    last: _Try | None = None
    calm: _Try | None = None
    for tries_left in range(MORE_TRIES, -1, -1):
        swings = session.swings
        try:
            tried = _tuned(
                session, before, seen, excitation, old_step, asked, known=None if last is None else last.gains
            )
        except TuningRefused:
            if last is None:
                raise
            break  # the proposal that missed is told with what it missed
        except AxisStopped as stopped:
            # With gains halved by the drive an axis may not follow any more: that, too, is the proposal's doing.
            if not (stopped.ran_away or session.swings > swings) or (last is None and not tries_left):
                raise
            session.stand_again()
            if calm is not None or not tries_left:
                break
            session.note(f"A proposal ran away: {stopped.text} Tuned anew with more room.")
            asked = _after_running_away(asked)
            seen = replace(seen, hunts=True, noise=FIRMLY * seen.noise)
            continue
        before_it, last = last, tried
        if tried.is_calm:
            between = None if calm is not None else _between(session, before_it, tried)
            calm = tried
            if between is None or not tries_left:
                break
            session.note(
                f"With a gain of {tried.gains.velocity_gain:.3g} the axis rests; one halfway to that of the last "
                "proposal is tried as well."
            )
            seen = between
            asked = seen.asked(session.axis.robustness)  # measured twice by now: no room beside what is asked for
            continue
        if calm is not None or not tries_left:
            break
        session.note(f"A proposal missed: {tried.missed}. Tuned anew on what was measured around it.")
        seen = tried.seen
        assert tried.outcome.verdict is not None
        asked = _with_room(seen.asked(session.axis.robustness), tried.outcome.verdict.criteria)
    best = calm or last
    assert best is not None
    session.write(velocity_values(best.gains))
    return best.outcome


def _between(session: Session, quick: _Try | None, calm: _Try) -> Seen | None:
    """What a proposal rests on whose gain lies halfway between one that hunts and a calm one; None where near by.

    What binds both is the noise they were made to bear; of the quick one at least what its own gain would have borne.
    """
    if quick is None or not quick.seen.hunts or quick.gains.velocity_gain < FAR_APART * calm.gains.velocity_gain:
        return None
    borne = max(quick.noise, noise_behind(WITHIN * _budget(session), quick.gains))
    if borne >= calm.noise:
        return None
    return replace(calm.seen, hunts=False, noise=math.sqrt(borne * calm.noise))


def _budget(session: Session) -> float:
    """The ripple of torque at rest that was asked for. [N·m] rms"""
    return session.axis.robustness.ripple * session.axis.motor.torque_constant * session.current_continuous


def _tuned(
    session: Session, before: Gains, seen: Seen, excitation: Excitation, old_step: dict[str, Any], asked: Robustness, *,
    known: Gains | None,
) -> _Try:  # fmt: skip
    """Propose gains on a plant and its model, write them, step, measure around them and judge."""
    session.enter("computing the proposal", 0.45)
    budget = _budget(session)
    fit = seen.fit
    tuning = tune_velocity(
        fit.load,
        fit.winding,
        before,
        asked,
        measured=seen.measured.precise(PRECISE),
        working=Winding.from_drive(session.values),
        noise=seen.noise,
        noise_torque=WITHIN * budget,
        least_damping=CALM if seen.hunts else LEAST_DAMPING,
        known=known,
    )
    if asked.matters != "disturbance" and session.axis.goal.settling_time:
        tuning = ease_for_settling(
            tuning, fit.load, fit.winding, asked, settling=session.axis.goal.settling_time,
            measured=seen.measured.precise(PRECISE), working=Winding.from_drive(session.values),
        )  # fmt: skip
    session.write(velocity_values(tuning.gains))
    before_it = session.swings
    new_step = velocity_step(session, 0.5)
    session.enter("ripple at rest", 0.55)
    ripple, _ = at_rest_after_a_kick(
        session, "velocity", KICK * session.consent.speed, load_swings_hz=fit.load.antiresonance_hz
    )
    around = _ripple_around(session, seen, tuning.gains, asked)
    ripple = ripple if around is None else max(ripple, around)
    # The tighter loop answers less: as strong an answer takes more torque.
    stronger = plan_excitation(session, tuning.gains, loud=excitation.every > 1, seen=fit)
    excitation = max(excitation, stronger, key=lambda e: e.rms)
    again, record = measure_plant(session, tuning.gains, 0.6, excitation, seen=fit, dense=True)
    require_lines(session, again, excitation, share=PRECISE)
    second = fit_plant(session, tuning.gains, again, near=fit)
    moved = max(seen.moved, _moved(fit, second, seen.closed, highest=float(again.frequency[-1])))
    # What trembles by more than was asked, and by more than its noise explains, hunts.
    explained = seen.device / noise_behind(1.0, tuning.gains)
    swings = session.swings - before_it
    hunts = swings > 0 or ripple > max(UNEXPLAINED * explained, HEARD * budget)
    firmly = FIRMLY if hunts else JUST
    # Of a loop that had to be halved the ripple was read at half the gains: it owes the whole budget at least.
    owed = max(ripple, budget) if swings else ripple
    noise = firmly * noise_behind(min(owed, MOST_AT_ONCE * budget), tuning.gains)
    after = Seen(
        measured=again,
        fit=second,
        closed=seen.closed,
        moved=moved,
        noise=max(seen.noise, noise),
        device=seen.device,
        hunts=hunts,
    )
    tried = Tried(
        gains=tuning.gains, limited_by=tuning.limited_by, fits=(fit, second), measured=again, record=record,
        steps=(old_step, new_step), closed=seen.closed, moved=moved, ripple=ripple, noise=seen.noise,
        swings=swings,
    )  # fmt: skip
    if moved > WORTH_SAYING or (seen.play is not None):
        session.note(_said(session, after))
    return _Try(gains=tuning.gains, outcome=outcome_of(session, before, tried), seen=after, noise=seen.noise)


def _ripple_around(session: Session, seen: Seen, gains: Gains, asked: Robustness) -> float | None:
    """Return the ripple of torque at rest with a position loop around the proposal; None where none can be. [N·m]

    A velocity loop may stand still by itself and hunt between the steps of its device once a position is held: the
    position loop could mend that only by holding nothing.
    """
    working = Winding.from_drive(session.values)
    try:
        around, _ = tune_position(
            seen.fit.load,
            seen.fit.winding,
            gains,
            asked,
            measured=seen.measured.precise(PRECISE),
            working=working,
            settling=session.axis.goal.settling_time,
        )
    except TuningRefused:
        return None  # the position loop's own run says so
    changes = {k: v for k, v in around.to_drive().items() if k == "position.gain" or k.startswith("position.shaping")}
    kept = {k: session.values[k] for k in changes}
    session.write(changes)
    try:
        kicked, _ = at_rest_after_a_kick(
            session, "position", kick_size(session, around.position_gain),
            load_swings_hz=seen.fit.load.antiresonance_hz,
        )  # fmt: skip
        ripple = max(kicked, at_rest_after_a_stroke(session)[0])
    finally:
        session.write(kept)
    return ripple


def _said(session: Session, seen: Seen) -> str:
    """Over what the margins are held, and why it is more than was asked for."""
    asked = seen.asked(session.axis.robustness)
    low, high = asked.resonance_drift, (1 + asked.resonance_rise) * (1 + asked.resonance_drift) - 1
    why = f"The resonance moves with amplitude by {100 * seen.moved:.1f} %"
    if seen.play is not None:
        why = f"Between motor and load there is a play of about {math.degrees(seen.play.width.value):.2g}° at the motor"
    return f"{why}: the margins are held from {100 * low:.0f} % below the resonance to {100 * high:.0f} % above."


def _moved(first: PlantFit, second: PlantFit, closed: Closed | None, *, highest: float) -> float:
    """Share by which the resonance may lie elsewhere at another amplitude: by what it moved, or how unsure it is.

    A shaft with play is softer the smaller it swings, and fits no linear model: the second shows as doubt. Where the
    play is known, what lies between the softest seen and the closed one is explained by it.
    """
    before, after = first.load.resonance_hz, second.load.resonance_hz
    if before is None or after is None or max(before, after) >= highest:
        return 0.0
    if closed is not None and closed.play.is_seen:
        top = (1 + rise_of(closed, first)) * before
        return max(after / max(top, before) - 1, min(top, before) / after - 1, 0.0)
    doubt = after if second.resonance_std is None else second.resonance_std  # not stated: anywhere
    return max(abs(after / before - 1), doubt / after)


def _after_running_away(asked: Robustness) -> Robustness:
    """Ask for as much more as a second try may: how much was missing nobody saw."""
    phase, gain, peak = MOST_ROOM
    return replace(
        asked, phase_margin=asked.phase_margin + phase, gain_margin_db=asked.gain_margin_db + gain,
        sensitivity_peak=(1 - peak) * asked.sensitivity_peak,
    )  # fmt: skip


def _with_room(asked: Robustness, criteria: Sequence[Criterion]) -> Robustness:
    """Ask for as much more as the first proposal missed what was asked by: what one measurement hides, so may two."""
    of = {row.what: row for row in criteria if row.found is not None and row.sense in ("at least", "at most")}

    def missed(what: str) -> float:
        row = of.get(what)
        if row is None or row.found is None:
            return 0.0
        return max(row.asked - row.found if row.sense == "at least" else row.found - row.asked, 0.0)

    return replace(
        asked,
        phase_margin=asked.phase_margin + min(math.radians(missed("phase margin")), MOST_ROOM[0]),
        gain_margin_db=asked.gain_margin_db + min(missed("gain margin"), MOST_ROOM[1]),
        sensitivity_peak=asked.sensitivity_peak
        - min(missed("sensitivity peak"), MOST_ROOM[2] * asked.sensitivity_peak),
    )
