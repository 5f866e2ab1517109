"""A velocity loop that holds, tuned once more: where it could be stiffer, or the planned move settle sooner."""

import math
from dataclasses import replace
from typing import Any

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.tuning import EASED, NOISY, VOLTAGE, TuningRefused
from cadrel.core.verdict import Criterion
from cadrel.procedures.errors import AnswerInNoise, AxisStopped
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.plant.excitation import Excitation
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.one_try import Try, tuned
from cadrel.procedures.velocity.proposal import proposal
from cadrel.procedures.velocity.rest import HUNTING
from cadrel.procedures.velocity.room import more_room
from cadrel.procedures.velocity.seen import FIRMLY
from cadrel.procedures.velocity.soft import settling_around

MARGINS = ("phase margin", "gain margin", "sensitivity peak")
ROOM = ("phase_margin", "gain_margin_db", "sensitivity_peak")
FAR_STIFFER = 4.0  # integral gain of one that misses over that of the calm one, from which on it is tuned anew
LEAST_SHARE = 0.5  # of the room that was asked for after a miss, which is asked for in any case
PROMISES = 1.3  # times the integral gain, that what was measured around a loop must promise for another try
MOST_SHARE = 0.65  # of the room, from which on asking for less is not worth another measurement


def improved(
    session: Session, before: Gains, last: Try, excitation: Excitation, old_step: dict[str, Any], *,
    missed: Try | None, with_room: Robustness,
) -> Try:  # fmt: skip
    """Tune a calm loop once more where that promises more of it; return the better one.

    `missed` is the try before it, where there was one, and `with_room` what it was asked for then.
    """
    kept = _stiffest(session, before, last, excitation, old_step)
    if kept is last:
        kept = (
            _as_promised(session, before, kept, excitation, old_step) if missed is None else
            _with_less_room(session, before, kept, missed, with_room, excitation, old_step)
        )  # fmt: skip
    return _in_time(session, before, kept, excitation, old_step)


def _in_time(
    session: Session, before: Gains, calm: Try, excitation: Excitation, old_step: dict[str, Any]
) -> Try:  # fmt: skip
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
    session: Session, before: Gains, calm: Try, excitation: Excitation, old_step: dict[str, Any]
) -> Try:  # fmt: skip
    """Tune once more on a spring that a proposal was made soft for unseen; what is no better leaves that as it was."""
    if not (calm.is_calm and calm.is_for_what_hid):
        return calm
    resonance = calm.seen.fit.load.resonance_hz
    session.note(f"Made soft for {calm.limited_by}: one shows now, at {resonance:.4g} Hz. Tuned anew on it.")
    tried = _once_more(session, before, calm, excitation, old_step)
    if tried is None:
        return calm
    return tried if tried.is_calm and tried.integral > calm.integral else calm


def _as_promised(
    session: Session, before: Gains, calm: Try, excitation: Excitation, old_step: dict[str, Any]
) -> Try:  # fmt: skip
    """Tune once more where what was measured around a loop promises a far stiffer one; the better one is left.

    What the loop was made on was measured around a softer one, with less torque: it told the shaft less surely.
    """
    was_tuned_on_it = calm.is_for_what_hid
    if not calm.is_calm or was_tuned_on_it or calm.bears_more_than_noise or calm.limited_by in (HUNTING, EASED):
        return calm
    promised = _promised(session, before, calm, calm.seen.asked(session.asked_of_any))
    if promised <= PROMISES * calm.integral:
        return calm
    session.note(
        f"By what was measured around it {promised / calm.integral:.1f} times the integral gain keeps what is "
        "asked: tuned anew."
    )
    tried = _once_more(session, before, calm, excitation, old_step)
    if tried is not None and not (tried.is_calm or tried.seen.hunts) and tried.integral > PROMISES * calm.integral:
        assert tried.outcome.verdict is not None
        session.note(f"It missed: {tried.missed}. Tuned anew on what was measured around it.")
        plain = tried.seen.asked(session.asked_of_any)
        room = more_room(plain, tried.outcome.verdict.criteria, before=plain)
        tried = _once_more(session, before, tried, excitation, old_step, asked=room)
    return tried if tried is not None and tried.is_calm and tried.integral > calm.integral else calm


def _promised(session: Session, before: Gains, calm: Try, asked: Robustness) -> float:
    """Return the integral gain that what was measured around a loop promises; 0 where no loop keeps what is asked."""
    seen = calm.seen
    try:
        return session.computed(
            lambda: proposal(session, before, seen, asked, noise=seen.noise, known=calm.gains, plain=seen.plain)
        ).integral
    except TuningRefused:
        return 0.0


def _with_less_room(
    session: Session, before: Gains, calm: Try, missed: Try, asked: Robustness, excitation: Excitation,
    old_step: dict[str, Any],
) -> Try:  # fmt: skip
    """Tune once more where a proposal that was `asked` for room has far more of it than the one before it missed.

    What a proposal misses goes with the gain about evenly: between one that missed and one that has too much, the room
    is asked for that both tell. Or, where what was learned from the miss tells the axis so well that the calm one has
    what it was made for, as much as that lacks of it, twice. What is no stiffer, or misses, leaves the calm one as it
    was; one that misses and is stiffer by far is tuned anew first, once, on what was measured around it.
    """
    plain = calm.seen.asked(session.asked_of_any)
    share = min(_share_of_room(missed.outcome, calm.outcome), _share_lost(plain, asked, calm.outcome))
    is_bound_so = calm.bears_more_than_noise or calm.limited_by in (VOLTAGE, HUNTING, EASED)
    if not calm.is_calm or share > MOST_SHARE or is_bound_so:
        return calm

    def with_share(last: Try) -> Robustness:
        of_it = last.seen.asked(session.asked_of_any)
        room = {key: getattr(of_it, key) + share * (getattr(asked, key) - getattr(plain, key)) for key in ROOM}
        return replace(of_it, unsure=asked.unsure, **room)

    def with_it(last: Try) -> Try | None:
        return _once_more(session, before, last, excitation, old_step, asked=with_share(last))

    # Noise binds the gain, and may leave the integral more of it: that is worth a measurement where it is promised.
    if calm.limited_by == NOISY and _promised(session, before, calm, with_share(calm)) <= PROMISES * calm.integral:
        return calm
    session.note(f"It has more room than was missed: tuned anew with {100 * share:.0f} % of it.")
    tried = with_it(calm)
    far = tried is not None and tried.integral > FAR_STIFFER * calm.integral
    if tried is not None and far and not (tried.is_calm or tried.seen.hunts):
        session.note(f"It missed: {tried.missed}. Tuned anew on what was measured around it.")
        tried = with_it(tried)
    return tried if tried is not None and tried.is_calm and tried.integral > calm.integral else calm


def _share_of_room(missed: Outcome, calm: Outcome) -> float:
    """Return the largest share of the room asked for that a margin needs, by a loop without it and one with it."""
    assert missed.verdict is not None
    assert calm.verdict is not None
    of_calm = {row.what: row for row in calm.verdict.criteria}
    shares = []
    for row in missed.verdict.criteria:
        if row.what in MARGINS and row.short > 0.0:
            other = of_calm.get(row.what)
            # A peak is the reciprocal of the distance that a loop keeps from -1: that goes evenly.
            short, spare = _beside(row), 0.0 if other is None else -_beside(other)
            shares.append(short / (short + spare) if spare > 0.0 else 1.0)
    return max(shares, default=1.0)  # where no margin was missed none was asked for


def _share_lost(plain: Robustness, asked: Robustness, calm: Outcome) -> float:
    """Return the share of the room asked for that a loop needs by what it has less than it was made for, twice that.

    No less than `LEAST_SHARE`: another measurement finds the axis another one. 1 where no margin had room.
    """
    assert calm.verdict is not None
    shares = []
    for row in calm.verdict.criteria:
        if row.what == "sensitivity peak":  # by its reciprocal, as above
            wanted, least, had = 1 / asked.sensitivity_peak, 1 / plain.sensitivity_peak, 1 / (row.asked + row.short)
        elif row.what == "phase margin":
            wanted, least, had = asked.phase_margin, plain.phase_margin, math.radians(row.asked - row.short)
        elif row.what == "gain margin":
            wanted, least, had = asked.gain_margin_db, plain.gain_margin_db, row.asked - row.short
        else:
            continue
        if wanted > least:
            shares.append(max(FIRMLY * (wanted - had) / (wanted - least), LEAST_SHARE))
    return max(shares, default=1.0)


def _beside(row: Criterion) -> float:
    """By how much a margin is missed, as a share of what was asked: of a peak by its reciprocal."""
    return 1 - row.asked / (row.asked + row.short) if row.sense == "at most" else row.short / row.asked


def _once_more(
    session: Session, before: Gains, calm: Try, excitation: Excitation, old_step: dict[str, Any], *,
    asked: Robustness | None = None,
) -> Try | None:  # fmt: skip
    """Tune on what was measured around a loop that holds already; None where nothing came of it."""
    asked, swings = asked or calm.seen.asked(session.asked_of_any), session.swings
    try:
        return tuned(session, before, calm.seen, excitation, old_step, asked, known=calm.gains)
    except (TuningRefused, AnswerInNoise) as nothing:
        session.note(f"It stays as it was: {nothing.text}")
    except AxisStopped as stopped:
        if not (stopped.ran_away or session.swings > swings):
            raise
        session.stand_again()
        session.note(f"It stays as it was: {stopped.text}")
    return None
