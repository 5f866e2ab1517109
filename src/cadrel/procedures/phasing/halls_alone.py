"""Halls as the only device: the map from a second turn with another current, and a push each way."""

import math

import numpy as np

from cadrel.core.identification import HallMap
from cadrel.link import Recording
from cadrel.procedures.errors import HallEdgesMoved, NotConfirmed
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.confirming import friction_seen
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.phasing.plan import turning_plan
from cadrel.procedures.phasing.turning import Turning, read_turning, shaft_reader
from cadrel.procedures.phasing.vector import settle_on, sweep
from cadrel.procedures.session import Session

TURN = 2 * math.pi
MOST_APART = math.radians(8)  # two turns with different currents
FURTHEST = 10.0  # times a difference that two turns may be drawn out by: with one and the same current it tells nothing
ALIKE_STD = math.radians(3.0)  # doubted then: load or friction of a quarter of the torque turn a shaft by 14°
STRONGER_YET = 1.1  # times the current of a turn, from which on another one tells more
FEWEST_EDGES = 2
LEAST_STD = math.radians(0.5)  # what two turns cannot show
# Of continuous current: the first push at the most; in how many it rises to all of it; and how many follow with that.
FIRST, HARDER, AT_MOST = 0.5, 4, 3
NET = 0.6  # of the acceleration entered, that friction and a heavier load leave
STRONGER = 1.25  # times the continuous current, for the twenty seconds of a turn behind a brake
SECTOR = math.pi / 3  # electrical
SECTORS = 3.0  # a push should pass
FASTEST = 0.4  # of the consented speed
SURELY = 0.7  # of it, that a longer push may reach by what the one before left open
LONGER = 2.0  # factor of a push's time from try to try, at most


def learn_twice(session: Session, turning: Turning, centre: float) -> tuple[HallMap, float]:
    """Return the Hall map as the mean of two turns, and half their difference. [rad]

    Where they are far apart, load and friction hold the shaft behind the vector, the less the larger its current: a
    third turn takes as much as may be, and the two with the largest currents count.

    Raises
    ------
    HallEdgesMoved
        These are far apart as well.
    WiredWrongly
        The Halls' wires are exchanged or inverted.
    """
    strongest = min(STRONGER * session.current_continuous, session.values["limit.current"])
    other = session.current_continuous if turning.current < 0.8 * session.current_continuous else 0.75 * turning.current
    if session.axis.has_brake:  # less would let a hanging load slip through
        other = strongest
    turns = [(turning.current, turning.halls(session.axis.feedback.hall_spacing))]
    turns.append(_turned_with(session, turning, centre, other))
    if _apart(turns) > MOST_APART and strongest > STRONGER_YET * max(turning.current, other):
        session.note(
            f"Turns with {turning.current:.2g} A and {other:.2g} A put the Hall edges "
            f"{math.degrees(_apart(turns)):.0f}° apart: one more with {strongest:.2g} A."
        )
        turns = [max(turns, key=lambda turn: turn[0]), _turned_with(session, turning, centre, strongest)]
    (first, one), (second, two) = turns
    if _apart(turns) > MOST_APART:
        raise HallEdgesMoved(first=first, other=second, apart=math.degrees(_apart(turns)))
    # The larger current leaves less to friction and load: it weighs with its square.
    share = second**2 / (first**2 + second**2)
    offset = math.remainder(one.offset + share * math.remainder(two.offset - one.offset, TURN), TURN)
    errors = tuple((1 - share) * a + share * b for a, b in zip(one.edge_errors, two.edge_errors, strict=True))
    edges = tuple(math.remainder(offset + k * math.pi / 3 + errors[k], TURN) for k in range(6))
    return HallMap(one.mirrored, offset, errors, edges), max(_doubt(turns, share), LEAST_STD)


def _doubt(turns: list[tuple[float, HallMap]], share: float) -> float:
    """Return the std of edges of which the second turn has a share; half of what no current would lack. [rad]

    Load and friction hold a shaft back by what goes with one over the current. Where both turns are off by that, their
    difference is a part of it: drawn out to a current without end, it says by how much the mean is.
    """
    (first, _), (second, _) = turns
    if abs(second - first) * FURTHEST < max(first, second):
        return max(0.5 * _apart(turns), ALIKE_STD)
    further = max(first, second) / abs(second - first)
    return 0.5 * _apart(turns) * (further - (share if second > first else 1 - share))


def _turned_with(session: Session, turning: Turning, centre: float, current: float) -> tuple[float, HallMap]:
    """Turn the vector forth and back once more with a current; return that [A] and the Hall map it shows.

    Raises `WiredWrongly` where that shows no map.
    """
    plan = turning_plan(session.axis)
    shaft = shaft_reader(session, turning.per_count, turning.pairs)
    with session.enabled_around("vector", centre):
        swing = max(settle_on(session, 0.0, current), turning.swing)
        again, back = "turning once more with another current", "and back"
        up = sweep(session, plan.turns * TURN, plan.rate, current, again, 0.5, swing=swing)
        down = sweep(session, 0.0, plan.rate, current, back, 0.6, swing=swing)
    found = read_turning(session, plan, up, down, current, turning.per_count, shaft).halls(
        session.axis.feedback.hall_spacing
    )
    if found.fault is not None:
        raise wired_wrongly([faults.halls(found.fault)])
    return current, found


def _apart(turns: list[tuple[float, HallMap]]) -> float:
    """By how much two turns put the Hall edges apart. [rad]"""
    return abs(math.remainder(turns[1][1].offset - turns[0][1].offset, TURN))


def push_both_ways(session: Session, turning: Turning, centre: float) -> tuple[Recording, tuple[int, int]]:
    """Push by torque current each way until edges pass, as they must the way it was pushed.

    Raises `NotConfirmed`, or `WiredWrongly` where hardly any pass.
    """
    session.enter("confirming by torque per amp", 0.8)
    motor, sector = session.axis.motor, SECTOR / turning.pairs
    torque, inertia, agreed = (
        motor.torque_constant * session.current_continuous, session.axis.inertia, session.consent.speed,
    )  # fmt: skip
    # A push that passes the edges it should, at a speed well within what was agreed to: of a light shaft a faint one.
    faint = (inertia * (FASTEST * agreed) ** 2 / (SECTORS * sector) + friction_seen(session, turning)) / torque
    shares = [*np.geomspace(min(FIRST, faint), 1.0, HARDER), *[1.0] * AT_MOST]
    seconds, fastest, passed = 0.0, 0.0, [0]
    for k, share in enumerate(shares):
        current, gross = share * session.current_continuous, share * torque / inertia  # [rad/s²] as entered
        if k == 0:  # out and back is rate t²
            by_way = math.sqrt(SECTORS * sector / (NET * gross))
            seconds = (
                SECTORS * sector / (FASTEST * agreed) if faint < FIRST else min(by_way, FASTEST * agreed / NET / gross)
            )
        else:  # heavier than entered; as much longer as the speed seen allows
            quicker = FASTEST * agreed / max(fastest, 1e-9) * shares[k - 1] / share
            # Halls alone hardly tell a speed. Out and back was less than an edge more than passed, and what current is
            # added accelerates what was entered: no faster can it become, however much friction took before.
            went = (max(abs(p) for p in passed) + 1) * sector / seconds**2
            added = (1 - shares[k - 1] / share) * gross
            surely = SURELY * agreed / min(went + added, gross)
            seconds = min(seconds * min(max(quicker, 1.0), LONGER), surely)
        passed = []
        for way in (1.0, -1.0):
            length = round(seconds / session.rates.velocity)
            pulse = way * current * np.concatenate([np.ones(length), -np.ones(2 * length), np.ones(length)])
            with session.enabled_around("current", centre):
                record = session.excite_and_record(
                    ["counts", "hall", "i_q", "velocity"], "current_q", pulse, divider=session.rates.ticks, repeats=1
                )
            session.standstill()
            moved = record["counts"][: 2 * length] - record["counts"][0]
            passed.append(int(moved.max() if abs(moved.max()) >= abs(moved.min()) else moved.min()))
            fastest = max(fastest, float(np.abs(record["velocity"]).max()))
        if passed[0] >= FEWEST_EDGES and passed[1] <= -FEWEST_EDGES:
            return record, (passed[0], passed[1])
        if passed[0] <= -FEWEST_EDGES or passed[1] >= FEWEST_EDGES:
            raise NotConfirmed(
                what=f"Pushed forward, {passed[0]} Hall edges passed; pushed back, {passed[1]}. Torque current does "
                "not push the way it should."
            )
        session.note(f"{100 * share:.0f} % current passed too few Hall edges; pushed longer and harder.")
    raise wired_wrongly([faults.too_heavy(passed=passed, seconds=seconds, current=session.current_continuous)])
