"""The tries of a velocity loop: gains proposed on what was seen, measured around, judged, and proposed anew."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from cadrel.core.axis.understanding import MOVES_ON, Robustness
from cadrel.core.control import Gains
from cadrel.core.identification import PlantFit
from cadrel.core.tuning import HIDDEN, TuningRefused, noise_behind
from cadrel.core.verdict import Criterion
from cadrel.procedures.errors import AnswerInNoise, AxisStopped, ProposalsRanAway
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.plant_in_motion import (
    PRECISE,
    Excitation,
    fit_plant,
    measure_plant,
    plan_excitation,
    require_lines,
)
from cadrel.procedures.play import Closed, rise_of
from cadrel.procedures.session import Session
from cadrel.procedures.velocity_looks import velocity_step
from cadrel.procedures.velocity_report import Tried, outcome_of, velocity_values
from cadrel.procedures.velocity_rest import proposed_to_rest
from cadrel.procedures.velocity_seen import FIRMLY, Seen, budget
from cadrel.procedures.velocity_soft import settling_around

MOST_ROOM = (math.radians(12), 4.0, 0.2)  # [rad], [dB], share of the peak: what a second try asks for beyond
MORE_TRIES = 3  # proposals after one that missed what was asked
NO_LINE = 0.08  # of a frequency, within which no line is sure enough: it was not measured there
WORTH_SAYING = 0.01  # share by which a resonance moves


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Try:
    """Gains that were tried, what came of them, and what the next proposal may rest on."""

    gains: Gains
    outcome: Outcome
    seen: Seen
    limited_by: str

    @property
    def is_for_what_hid(self) -> bool:
        """Whether they were made soft for a spring that might hide, and one is seen by now."""
        return self.limited_by.startswith(HIDDEN) and self.seen.fit.load.stiffness is not None

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

    Raises
    ------
    TuningRefused
        The first proposal could not be made.
    ProposalsRanAway
        No proposal could be measured to its end.
    AnswerInNoise
        Under no proposal the device told enough of what the axis answered.
    AxisStopped
        The drive stopped the axis for another reason than a loop that does not hold.
    """
    asked = seen.asked(session.asked_of_any)
    last: _Try | None = None
    tries_left, covered = MORE_TRIES, 0
    while tries_left >= 0:
        swings = session.swings
        try:
            last = _tuned(
                session, before, seen, excitation, old_step, asked, known=None if last is None else last.gains
            )
        except TuningRefused:
            if last is None:
                raise
            if seen.noise <= FIRMLY * seen.device:
                break  # the proposal that missed is told with what it missed
            # What hunting was owed for leaves no room for what was missed: less of it is borne.
            seen, tries_left = replace(seen, noise=seen.noise / FIRMLY), tries_left - 1
            continue
        except AnswerInNoise:
            # The tighter a loop the less it answers, and the less of that a noisy device tells.
            covered += 1  # nothing was learned that missed: it is none of the tries
            if last is None and covered > MORE_TRIES:
                raise
            if last is not None and covered >= MORE_TRIES:
                break
            session.note("Under the proposal the device's noise covers the answer: tuned anew with less gain.")
            seen = _softer(session, seen)
            continue
        except AxisStopped as stopped:
            # With gains halved by the drive an axis may not follow any more: that, too, is the proposal's doing.
            if not (stopped.ran_away or session.swings > swings):
                raise
            session.stand_again()
            if last is None and not tries_left:
                raise ProposalsRanAway(tries=MORE_TRIES + 1, reason=stopped.facts["reason"]) from stopped
            if not tries_left:
                break
            session.note(f"A proposal ran away: {stopped.text} Tuned anew with more room.")
            # Half of the gain next time, and room: once, for of how much was missing no other run-away tells more.
            asked = _after_running_away(seen.asked(session.asked_of_any))
            # The last one is the plainest: zeros and poles that answer a load otherwise than it is make it worse.
            seen, tries_left = replace(_softer(session, seen), hunts=True, plain=tries_left == 1), tries_left - 1
            continue
        if last.is_calm or not tries_left:
            break
        session.note(f"A proposal missed: {last.missed}. Tuned anew on what was measured around it.")
        seen, tries_left = last.seen, tries_left - 1
        assert last.outcome.verdict is not None
        asked = _with_room(seen.asked(session.asked_of_any), last.outcome.verdict.criteria, before=asked)
    assert last is not None
    kept = _stiffest(session, before, last, excitation, old_step)
    kept = _in_time(session, before, kept, excitation, old_step)
    session.write(velocity_values(kept.gains))
    return kept.outcome


def _in_time(
    session: Session, before: Gains, calm: _Try, excitation: Excitation, old_step: dict[str, Any]
) -> _Try:  # fmt: skip
    """Tune once more where the planned move would settle too late, by what was measured around the loop.

    What a proposal was made on may have had the load swing less: the position loop that it leaves turns out slower.
    """
    settling = session.axis.goal.settling_time
    if not calm.is_calm or session.axis.robustness.matters == "disturbance" or not settling:
        return calm
    asked = calm.seen.asked(session.asked_of_any)
    late = settling_around(session, calm.seen, calm.gains, asked)
    if late <= settling:
        return calm
    session.note(
        "By what was measured around it, this loop leaves the planned move to settle late "
        f"({'never' if math.isinf(late) else f'{1e3 * late:.0f} ms'}): tuned anew."
    )
    tried = _once_more(session, before, calm, excitation, old_step)
    if tried is None or not tried.is_calm:
        return calm
    sooner = settling_around(session, tried.seen, tried.gains, tried.seen.asked(session.asked_of_any))
    return tried if sooner < late else calm


def _stiffest(
    session: Session, before: Gains, calm: _Try, excitation: Excitation, old_step: dict[str, Any]
) -> _Try:  # fmt: skip
    """Tune once more on a spring that a proposal was made soft for unseen; what is no better leaves that as it was."""
    if not (calm.is_calm and calm.is_for_what_hid):
        return calm
    resonance = calm.seen.fit.load.resonance_hz
    session.note(f"Made soft for {calm.limited_by}: one shows now, at {resonance:.4g} Hz. Tuned anew on it.")
    tried = _once_more(session, before, calm, excitation, old_step)
    if tried is None:
        return calm
    integral, before_it = (one.velocity_gain / one.velocity_reset for one in (tried.gains, calm.gains))
    return tried if tried.is_calm and integral > before_it else calm


def _once_more(
    session: Session, before: Gains, calm: _Try, excitation: Excitation, old_step: dict[str, Any]
) -> _Try | None:  # fmt: skip
    """Tune on what was measured around a loop that holds already; None where nothing came of it."""
    asked, swings = calm.seen.asked(session.asked_of_any), session.swings
    try:
        return _tuned(session, before, calm.seen, excitation, old_step, asked, known=calm.gains)
    except (TuningRefused, AnswerInNoise) as nothing:
        session.note(f"It stays as it was: {nothing.text}")
    except AxisStopped as stopped:
        if not (stopped.ran_away or session.swings > swings):
            raise
        session.stand_again()
        session.note(f"It stays as it was: {stopped.text}")
    return None


def _softer(session: Session, seen: Seen) -> Seen:
    """What the next proposal rests on, where that in force has too much gain: it must bear twice the noise."""
    tried = Gains.from_drive(session.refresh(), session.rates)
    return replace(seen, noise=FIRMLY * max(seen.noise, noise_behind(budget(session), tried)))


def _tuned(
    session: Session, before: Gains, seen: Seen, excitation: Excitation, old_step: dict[str, Any], asked: Robustness, *,
    known: Gains | None,
) -> _Try:  # fmt: skip
    """Find gains under which the axis stands still, step, measure around them and judge."""
    looked = proposed_to_rest(session, before, seen, asked, known=known)
    gains, fit = looked.gains, seen.fit
    before_it = session.swings
    new_step = velocity_step(session, 0.55)
    # The tighter loop answers less: as strong an answer takes more torque.
    stronger = plan_excitation(session, gains, loud=excitation.every > 1, seen=fit)
    excitation = max(excitation, stronger, key=lambda e: e.rms)
    around = measure_plant(session, gains, 0.6, excitation, seen=fit, dense=True)
    again, record = around.response, around.record
    require_lines(session, again, excitation, share=PRECISE)
    # A tight loop answers little where it holds the axis: there, what was measured before says what the plant is.
    whole = again.filled_from(seen.measured, sure=PRECISE, apart=NO_LINE)
    hidden = np.setdiff1d(whole.precise(PRECISE).frequency, again.precise(PRECISE).frequency)
    if hidden.size:
        session.note(
            f"The tuned loop hardly answers on {hidden.size} lines from {hidden[0]:.3g} to {hidden[-1]:.3g} Hz: what "
            "was measured before it stands in there."
        )
    second = fit_plant(session, gains, whole, near=fit)
    moved = max(seen.moved, _moved(fit, second, seen.closed, highest=float(again.frequency[-1])))
    swings = looked.swings + session.swings - before_it
    after = Seen(
        measured=whole, fit=second, closed=seen.closed, moved=moved,
        noise=max(looked.noise, looked.owed) if looked.hunts or looked.loud else looked.noise, device=seen.device,
        flicker=seen.flicker, hunts=looked.hunts or swings > 0,
    )  # fmt: skip
    tried = Tried(
        gains=gains, limited_by=looked.limited_by, fits=(fit, second), measured=whole, own=again, record=record,
        steps=(old_step, new_step), closed=seen.closed, moved=moved, ripple=looked.ripple, noise=looked.noise,
        device=seen.device, plant=replace(after.springy, noise=looked.noise), swings=swings,
    )  # fmt: skip
    if moved > WORTH_SAYING or (seen.play is not None):
        session.note(_said(session, after))
    return _Try(gains=gains, outcome=outcome_of(session, before, tried), seen=after, limited_by=tried.limited_by)


def _said(session: Session, seen: Seen) -> str:
    """Over what the margins are held, and why it is more than was asked for."""
    asked = seen.asked(session.asked_of_any)
    low, high = asked.resonance_drift, (1 + asked.resonance_rise) * (1 + asked.resonance_drift) - 1
    why = f"The resonance moves with amplitude by {100 * seen.moved:.1f} %"
    if seen.play is not None:
        why = f"Between motor and load there is a play of about {math.degrees(seen.play.width.value):.2g}° at the motor"
    return f"{why}: the margins are held from {100 * low:.0f} % below the resonance to {100 * high:.0f} % above."


def _moved(first: PlantFit, second: PlantFit, closed: Closed | None, *, highest: float) -> float:
    """Share by which the resonance may lie elsewhere at another amplitude: by what it moved, or how unsure it is.

    A shaft with play is softer the smaller it swings, and fits no linear model: the second shows as doubt. Where the
    play is known, what lies between the softest seen and the closed one is explained by it. Where it is not, and the
    shaft swung strongly was stiffer still, the margins reach down to the softest seen; up to the other they do anyway.
    """
    before, after = first.load.resonance_hz, second.load.resonance_hz
    if before is None or after is None or max(before, after) >= highest:
        return 0.0
    top = max((1 + rise_of(closed, first)) * before, before)
    beyond = max(after / top - 1, before / after - 1, 0.0)
    if closed is not None and closed.play.is_seen:
        return beyond
    doubt = after if second.resonance_std is None else second.resonance_std  # not stated: anywhere
    if closed is None or top == before:
        beyond = abs(after / before - 1)
    return max(beyond, (1 - before / after) / MOVES_ON, doubt / after)


def _after_running_away(asked: Robustness) -> Robustness:
    """Ask for as much more as a second try may: how much was missing nobody saw."""
    phase, gain, peak = MOST_ROOM
    return replace(
        asked, phase_margin=asked.phase_margin + phase, gain_margin_db=asked.gain_margin_db + gain,
        sensitivity_peak=(1 - peak) * asked.sensitivity_peak,
    )  # fmt: skip


def _with_room(asked: Robustness, criteria: Sequence[Criterion], *, before: Robustness) -> Robustness:
    """Ask for as much more as a proposal missed what was asked by, and no less than of the one before it.

    What one measurement hides, so may two.
    """
    of = {row.what: row for row in criteria if row.found is not None and row.sense in ("at least", "at most")}

    def missed(what: str) -> float:
        row = of.get(what)
        if row is None or row.found is None:
            return 0.0
        return max(row.asked - row.found if row.sense == "at least" else row.found - row.asked, 0.0)

    return replace(
        asked,
        phase_margin=max(
            before.phase_margin, asked.phase_margin + min(math.radians(missed("phase margin")), MOST_ROOM[0])
        ),
        gain_margin_db=max(before.gain_margin_db, asked.gain_margin_db + min(missed("gain margin"), MOST_ROOM[1])),
        sensitivity_peak=min(
            before.sensitivity_peak,
            asked.sensitivity_peak - min(missed("sensitivity peak"), MOST_ROOM[2] * asked.sensitivity_peak),
        ),
    )
