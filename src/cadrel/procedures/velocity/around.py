"""The position loop around a proposal of a velocity loop: which it would be, and how the axis stands with it."""

from functools import lru_cache

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, Winding
from cadrel.core.tuning import TuningRefused, tune_position
from cadrel.procedures.judging import at_rest_when_moved, kick_size, most_swing, position_values, strokes_looked_at
from cadrel.procedures.plant.scatter import PRECISE
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.seen import Seen


def positioned_around(session: Session, seen: Seen, gains: Gains, asked: Robustness) -> tuple[Gains, str] | None:
    """Gains with the quickest position loop around a velocity loop, and what limits it; None where there is none."""
    settling = session.axis.goal.settling_time
    working = Winding.from_drive(session.values)
    return session.computed(lambda: _quickest(seen, gains, asked, working, settling))


@lru_cache(maxsize=32)  # a proposal is held against the twin, moved and looked at with the same one
def _quickest(
    seen: Seen, gains: Gains, asked: Robustness, working: Winding, settling: float
) -> tuple[Gains, str] | None:  # fmt: skip
    """Return what `positioned_around` does, of a velocity loop that was `seen` on one plant."""
    try:
        return tune_position(
            seen.fit.load, seen.fit.winding, gains, asked, measured=seen.measured.precise(PRECISE), working=working,
            settling=settling,
        )  # fmt: skip
    except TuningRefused:
        return None  # the position loop's own run says so


def held_around(
    session: Session, seen: Seen, gains: Gains, asked: Robustness, *, share: float = 1.0
) -> tuple[float, float] | None:  # fmt: skip
    """Return the ripple of torque at rest with a position loop around the proposal, and how far it sways. [N·m], [rad]

    The position loop has a `share` of the gain of the quickest.

    A velocity loop may stand still by itself and hunt between the steps of its device once a position is held, or set
    a load swinging behind its play once a move is fed forward: the position loop could mend that only by holding
    nothing. Little torque may make it sway by as much as the window in which it should settle; what an axis at rest may
    sway by is told as none. None where no position loop can be.
    """
    positioned = positioned_around(session, seen, gains, asked)
    if positioned is None:
        return None
    around = positioned[0].with_(position_gain=share * positioned[0].position_gain)
    changes = position_values(around)
    kept = {k: session.values[k] for k in changes}
    session.write(changes)
    try:
        ripple, sways = at_rest_when_moved(
            session, kick_size(session, around.position_gain), load_swings_hz=seen.fit.load.antiresonance_hz,
            repeats=strokes_looked_at(session, has_play=seen.play is not None),
        )  # fmt: skip
        return ripple, sways if sways > most_swing(session) else 0.0
    finally:
        session.write(kept)
