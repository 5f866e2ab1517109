"""The tries of a velocity loop: gains proposed on what was seen, measured around, judged, and proposed anew."""

from dataclasses import replace
from typing import Any

from cadrel.core.control import Gains
from cadrel.core.tuning import TuningRefused, noise_behind
from cadrel.procedures.errors import AnswerInNoise, AxisStopped, ProposalsRanAway
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.plant.excitation import Excitation
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.again import improved
from cadrel.procedures.velocity.one_try import Try, tuned
from cadrel.procedures.velocity.report import velocity_values
from cadrel.procedures.velocity.room import MORE_UNSURE, after_running_away, more_room
from cadrel.procedures.velocity.seen import FIRMLY, Seen, budget

MORE_TRIES = 3  # proposals after one that missed what was asked


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
    last: Try | None = None
    missed: Try | None = None  # the one before it, where it had too little room
    tries_left, covered = MORE_TRIES, 0
    while tries_left >= 0:
        swings = session.swings
        try:
            last = tuned(session, before, seen, excitation, old_step, asked, known=None if last is None else last.gains)
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
            asked = after_running_away(seen.asked(session.asked_of_any))
            # The last one is the plainest: zeros and poles that answer a load otherwise than it is make it worse.
            seen, tries_left = replace(_softer(session, seen), hunts=True, plain=tries_left == 1), tries_left - 1
            continue
        if last.is_calm or not tries_left:
            break
        session.note(f"A proposal missed: {last.missed}. Tuned anew on what was measured around it.")
        seen, missed, tries_left = last.seen, last, tries_left - 1
        assert last.outcome.verdict is not None
        room = more_room(seen.asked(session.asked_of_any), last.outcome.verdict.criteria, before=asked)
        asked = room if last.is_held else replace(room, unsure=max(room.unsure, MORE_UNSURE))
    assert last is not None
    kept = improved(session, before, last, excitation, old_step, missed=missed, with_room=asked)
    session.write(velocity_values(kept.gains))
    return kept.outcome


def _softer(session: Session, seen: Seen) -> Seen:
    """What the next proposal rests on, where that which was written has too much gain: it must bear twice the noise.

    Of what the drive halved as it swung, twice or three times, half is left, and not half of what is in force.
    """
    tried = Gains.from_drive({**session.refresh(), **session.written}, session.rates)
    return replace(seen, noise=FIRMLY * max(seen.noise, noise_behind(budget(session), tried)))
