"""The move that an axis is for, within its limits: what acceptance runs, and after which a loop is looked at."""

from collections.abc import Mapping

from cadrel.core.axis.understanding import Goal
from cadrel.core.errors import CadrelError
from cadrel.core.motion import Profile, move_profile
from cadrel.core.parameters import field_of
from cadrel.procedures.errors import NotAllowed
from cadrel.procedures.session import Session

USE_OF_TIME = 0.97  # of the allowed move time: no harsher than the goal needs
ROOM = 0.9  # of travel and speed agreed to, that the move may take where something else is looked for


def move_within_consent(session: Session) -> Profile | None:
    """Return the move, where it stays well within travel and speed agreed to; else None."""
    if session.axis.goal.distance > ROOM * session.consent.travel:
        return None
    try:
        profile = plan_stroke(session)
    except CadrelError:
        return None
    return profile if profile.peak_speed <= ROOM * session.consent.speed else None


def plan_stroke(session: Session) -> Profile:
    """Return the gentlest profile that keeps the goal's move time within the limits, towards where there is room.

    Raises
    ------
    NotAllowed
        The limits make it longer than the goal allows, or there is no room to either side.
    """
    v, goal = session.values, session.axis.goal
    here = float(session.drive.status()["position"])
    direction = 1.0 if here + goal.distance <= v["limit.travel_max"] else -1.0
    if direction < 0 and here - goal.distance < v["limit.travel_min"]:
        raise NotAllowed(
            why="The move does not fit between the travel limits.",
            remedy=f"Move the axis, or widen {field_of('limit.travel_min')} and {field_of('limit.travel_max')}.",
        )
    return move_profile(direction * goal.distance, **gentlest_limits(goal, v))


def gentlest_limits(goal: Goal, v: Mapping[str, float]) -> dict[str, float]:
    """Return velocity, acceleration and jerk of the gentlest profile that keeps the goal's move time. SI

    Raises
    ------
    NotAllowed
        The limits make it longer than the goal allows.
    """
    limits = {"velocity": v["limit.velocity"], "acceleration": v["limit.acceleration"], "jerk": v["limit.jerk"]}
    fastest = move_profile(goal.distance, **limits)
    if fastest.duration > goal.move_time:
        raise NotAllowed(
            why=f"With these limits the move takes {1e3 * fastest.duration:.0f} ms, the goal is "
            f"{1e3 * goal.move_time:.0f} ms.",
            remedy=f"Raise {field_of('limit.velocity')}, {field_of('limit.acceleration')} or {field_of('limit.jerk')}, "
            f"or {field_of('goal.move_time')}.",
        )
    slower = max(1.0, USE_OF_TIME * goal.move_time / fastest.duration)
    return {
        "velocity": limits["velocity"] / slower,
        "acceleration": limits["acceleration"] / slower**2,
        "jerk": limits["jerk"] / slower**3,
    }
