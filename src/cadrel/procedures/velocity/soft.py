"""A softer velocity loop, where the planned move does not settle with a stiff one and a slow position loop."""

import math
from collections.abc import Callable
from typing import Any

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.tuning import VelocityTuning, ease_for_settling, is_quick_enough
from cadrel.procedures.planned import settling_foreseen, settling_when_moved
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.around import positioned_around
from cadrel.procedures.velocity.report import velocity_values
from cadrel.procedures.velocity.seen import ONCE_LATE, Seen

SURELY = 0.8  # of the settling time asked for: the next move is another one


def soft_enough(
    session: Session, seen: Seen, asked: Robustness, stiff: VelocityTuning, bearing: dict[str, Any], *, settling: float
) -> VelocityTuning:  # fmt: skip
    """Return the stiff loop where the planned move settles with it, slow as its position loop is; else a softer one.

    How soon a slow position loop settles depends on what a move leaves outside of the window, and a stiff loop leaves
    little: that is seen, not computed.
    """
    positioned = positioned_around(session, seen, stiff.gains, asked)
    if positioned is not None and is_quick_enough(*positioned, settling=settling):
        return stiff

    def settles(tuning: VelocityTuning, around: tuple[Gains, str] | None) -> float:
        if around is None:
            return math.inf
        session.enter("moving it once", 0.48)
        session.write(velocity_values(tuning.gains))
        return settling_when_moved(session, around[0], session.plant.with_part(seen.springy))

    once_late = has_been_late(session)
    in_stiff = math.inf if once_late else settles(stiff, positioned)
    if in_stiff <= SURELY * settling:
        session.note(f"The load behind its shaft keeps the position loop slow; {_moved_in(in_stiff)}")
        return stiff
    foreseen = _foreseen(session, seen)
    if foreseen is None:
        return stiff  # nothing tells what a softer one would be better at
    session.enter("computing the proposal", 0.45)
    fit, tells = seen.fit, foreseen
    eased = session.computed(
        lambda: ease_for_settling(
            stiff, fit.load, fit.winding, asked, settles=tells, within=SURELY * settling, settling=settling,
            **bearing,
        )
    )  # fmt: skip
    if eased is stiff or math.isinf(in_stiff):
        return eased
    in_eased = settles(eased, positioned_around(session, seen, eased.gains, asked))
    chosen, how = (stiff, "stiff") if in_stiff < in_eased else (eased, "soft")
    session.note(f"A stiff motor: {_moved_in(in_stiff)} A soft one: {_moved_in(in_eased)} It is left {how}.")
    return chosen


def settling_around(session: Session, seen: Seen, gains: Gains, asked: Robustness) -> float:
    """Return when a planned move is foreseen to settle with the quickest position loop around gains. [s]

    0 where that is quick enough whatever a move leaves, and where nothing tells.
    """
    positioned = positioned_around(session, seen, gains, asked)
    if positioned is None or is_quick_enough(*positioned, settling=session.axis.goal.settling_time):
        return 0.0
    foreseen = _foreseen(session, seen)
    around, _ = positioned
    return 0.0 if foreseen is None else session.computed(lambda: foreseen(around))


def has_been_late(session: Session) -> bool:
    """Whether a move of an acceptance settled late, with a position loop that was slow."""
    return session.plant.unrest is not None and session.plant.unrest.late


def _foreseen(session: Session, seen: Seen) -> Callable[[Gains], float] | None:
    """What tells when a planned move settles with gains of all loops [s]; None where nothing does.

    The twin; and once that has foreseen an axis that settles sooner than it did, a quick position loop as well.
    """
    twin = settling_foreseen(session, session.plant.with_part(seen.springy))
    if not has_been_late(session):
        return twin

    def settles(gains: Gains) -> float:
        by_decay = SURELY * ONCE_LATE / gains.position_gain
        return by_decay if twin is None else max(by_decay, twin(gains))

    return settles


def _moved_in(settling: float) -> str:
    return "the planned move " + (
        "does not settle." if math.isinf(settling) else f"settles in {1e3 * settling:.0f} ms."
    )
