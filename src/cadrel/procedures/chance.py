"""How often the move is run before an axis is accepted: more often where one that passes tells little of the next."""

import math

import numpy as np

from cadrel.core.motion import move_profile, stroke_sequence
from cadrel.core.response import MoveMetrics
from cadrel.core.twin import Twin
from cadrel.procedures.judging import RESTED, ripple_criterion
from cadrel.procedures.real_move import gentlest_limits
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.rest_foreseen import ripples_after
from cadrel.procedures.velocity.seen import ONCE_LATE

BY_CHANCE = 4  # times as many moves, where it is chance how the axis stands after one
MOST_REPEATS = 200
SETTLED = 0.25  # of the settling time asked for, by when a move has surely settled
PLACES = np.linspace(1.0, 0.9, 20)  # of the move, after which a twin is looked at: each ends amid another count


def repeats_judged(session: Session) -> int:
    """Return how often the move is run: as often as was asked, and more often once the axis did not stand after one.

    What trembles after one move of six passes the next six by chance in one case of three, the next 24 hardly ever.
    """
    goal = session.axis.goal
    return goal.repeats if session.plant.unrest is None else more_often(goal.repeats)


def more_often(repeats: int) -> int:
    """Return how often the move is run where it is chance how the axis stands after one."""
    return min(BY_CHANCE * repeats, MOST_REPEATS)


def settled_by_chance(session: Session, moves: list[MoveMetrics]) -> bool:
    """Whether moves that settled in time tell little of the next ones.

    With a position loop that is slow for the settling time, what a move leaves comes in by friction's leave: once it
    took a good part of that time it may take longer.
    """
    worst, most = max(or_never(m.settling_time) for m in moves), session.axis.goal.settling_time
    return is_slow(session) and SETTLED * most < worst <= most


def may_be_woken(session: Session) -> bool:
    """Whether the axis's twin trembles, after some of many such moves, by more than was asked.

    Between two steps of a device a loop may stand still or hunt, by where it came to rest. Its twin is easier to wake:
    no noise and no breakaway is in it. An axis whose twin is woken may stand still after many moves, and hunt after
    the next; one whose twin never is has not been seen to. Nothing is told of a move that is too long for a twin.
    """
    if session.plant.total is None:
        return False
    twin = Twin.of_identified(session.axis, session.values, session.plant, session.rates)
    limits = gentlest_limits(session.axis.goal, session.values)
    strokes = [
        stroke_sequence(move_profile(share * session.axis.goal.distance, **limits), dwell=RESTED, repeats=1)
        for share in PLACES
    ]
    if strokes[0].duration > twin.longest:
        return False
    ripples = session.computed(lambda: ripples_after(twin, strokes))
    return not ripple_criterion(session, max(ripples)).passed


def is_slow(session: Session) -> bool:
    """Whether the position loop is slow for the settling time asked for, and a softer velocity loop may mend it."""
    needs = session.axis.goal.settling_time * session.values["position.gain"] < ONCE_LATE
    return needs and session.axis.robustness.matters != "disturbance"


def or_never(settling: float | None) -> float:
    """When a move has settled, never being infinite. [s]"""
    return math.inf if settling is None else settling
