"""The planned move on gains that are not yet settled: what friction to feed forward, and whether the load rests."""

import math
from dataclasses import replace

from cadrel.core.control import Gains
from cadrel.core.errors import CadrelError
from cadrel.core.identification import IdentifiedPlant
from cadrel.core.motion import Profile
from cadrel.core.tuning import FRICTION_SHARE
from cadrel.core.twin import Twin
from cadrel.procedures.acceptance import moved, plan_stroke
from cadrel.procedures.errors import AxisStopped
from cadrel.procedures.foreseen import Foreseen, foresee, rest_of_load
from cadrel.procedures.judging import position_values
from cadrel.procedures.session import Session

ROOM = 0.9  # of travel and speed agreed to, that a planned move may take


def friction_share(session: Session, gains: Gains, plant: IdentifiedPlant | None = None) -> float:
    """Return how much of the sliding friction to feed forward: some, where the planned move on the twin likes it.

    A stiff loop follows closer with it. In one of low gain the integral that carries friction at the end of a move is
    what brings the last of the way; fed forward, friction is taken away with the command, and the axis sticks short.
    """
    profile = _profile(session)
    if profile is None:
        return 0.0  # nothing to judge by
    goal = session.axis.goal
    twins = [_twin(session, gains, plant or session.plant, share) for share in (0.0, FRICTION_SHARE)]
    without, with_it = session.computed(lambda: [foresee(twin, profile, goal) for twin in twins])
    better = _settling(with_it) <= _settling(without) and with_it.following_error < without.following_error
    return FRICTION_SHARE if better else 0.0


def settling_when_moved(session: Session, gains: Gains, plant: IdentifiedPlant) -> float:
    """Run the planned move once with gains of all loops; return when motor and load have settled after it. [s]

    The motor is seen. Of the load, which no device shows, the twin tells when it rests, its resonance where it is and
    at either end of the drift asked for: a notch in the command meets none of them exactly. Infinite where one of them
    does not settle within the dwell, where the move cannot be run within what was agreed to, and where no load was
    identified that a twin could have. The drive has its position loop from before again.
    """
    goal, asked, profile = session.axis.goal, session.axis.robustness, _profile(session)
    if plant.total is None or profile is None or goal.distance > ROOM * session.consent.travel:
        return math.inf
    if profile.peak_speed > ROOM * session.consent.speed:
        return math.inf
    share = friction_share(session, gains, plant)
    twin = _twin(session, gains, plant, share)
    drifts = (0.0, -asked.resonance_drift, asked.resonance_drift) if twin.load.stiffness is not None else (0.0,)
    drifted = [replace(twin, load=twin.load.drifted(drift)) if drift else twin for drift in drifts]
    rests = max(
        session.computed(lambda: [rest_of_load(foresee(t, profile, goal).record, goal.window) for t in drifted])
    )
    if math.isinf(rests):
        return rests
    told = {**position_values(gains), "position.friction_feedforward": share}
    kept, swings = {k: session.values[k] for k in told}, session.swings
    session.write(told)
    try:
        _, moves = moved(session, profile, 1)
    except AxisStopped:
        session.stand_again()
        return math.inf
    finally:
        session.write(kept)
    session.standstill()
    return math.inf if session.swings > swings else max(rests, *(_or_never(m.settling_time) for m in moves))


def _profile(session: Session) -> Profile | None:
    try:
        return plan_stroke(session)
    except CadrelError:
        return None


def _twin(session: Session, gains: Gains, plant: IdentifiedPlant, share: float) -> Twin:
    """The axis with these gains, a share of friction fed forward. [1]"""
    values = {
        **session.values, **gains.to_drive(), "position.velocity_feedforward": 1.0,
        "position.acceleration_feedforward": 1.0, "position.friction_feedforward": share,
    }  # fmt: skip
    return Twin.of_identified(session.axis, values, plant, session.rates)


def _settling(move: Foreseen) -> float:
    """Of motor and load, the later one. [s]"""
    return max(_or_never(move.settling), _or_never(move.load_settling))


def _or_never(settling: float | None) -> float:
    return math.inf if settling is None else settling
