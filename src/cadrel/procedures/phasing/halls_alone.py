"""Halls as the only device: the map from a second turn with another current, and a push each way."""

import math

import numpy as np

from cadrel.core.identification import HallMap
from cadrel.link import Recording
from cadrel.procedures.errors import NotConfirmed
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.phasing.plan import turning_plan
from cadrel.procedures.phasing.turning import Turning, read_turning, shaft_reader
from cadrel.procedures.phasing.vector import settle_on, sweep
from cadrel.procedures.session import Session

TURN = 2 * math.pi
MOST_APART = math.radians(8)  # two turns with different currents
FEWEST_EDGES = 2
LEAST_STD = math.radians(0.5)  # what two turns cannot show
SHARES = (0.5, 0.75, 1.0, 1.0, 1.0, 1.0, 1.0)  # of continuous current, one try after the other
STRONGER = 1.25  # times the continuous current, for the twenty seconds of a turn behind a brake
SECTOR = math.pi / 3  # electrical
SECTORS = 3.0  # a push should pass
FASTEST = 0.4  # of the consented speed
LONGER = 2.0  # factor of a push's time from try to try, at most


def learn_twice(session: Session, turning: Turning, centre: float) -> tuple[HallMap, float]:
    """Return the Hall map as the mean of two turns, and half their difference. [rad] Raises `NotConfirmed`."""
    spacing = session.axis.feedback.hall_spacing
    other = session.current_continuous if turning.current < 0.8 * session.current_continuous else 0.75 * turning.current
    if session.axis.has_brake:  # less would let a hanging load slip through
        other = min(STRONGER * session.current_continuous, session.values["limit.current"])
    plan = turning_plan(session.axis)
    shaft = shaft_reader(session, turning.per_count, turning.pairs)
    with session.enabled_around("vector", centre):
        swing = max(settle_on(session, 0.0, other), turning.swing)
        again, back = "turning once more with another current", "and back"
        up = sweep(session, plan.turns * TURN, plan.rate, other, again, 0.5, swing=swing)
        down = sweep(session, 0.0, plan.rate, other, back, 0.6, swing=swing)
    second = read_turning(session, plan, up, down, other, turning.per_count, shaft)
    maps = [turning.halls(spacing), second.halls(spacing)]
    if maps[1].fault is not None:
        raise wired_wrongly([faults.halls(maps[1].fault)])
    apart = math.remainder(maps[1].offset - maps[0].offset, TURN)
    if abs(apart) > MOST_APART:
        raise NotConfirmed(
            what=f"Two turns with different current put the Hall edges {math.degrees(abs(apart)):.0f}° apart."
        )
    # The larger current leaves less to friction and load: it weighs with its square.
    weights = np.array([turning.current, other]) ** 2
    share = float(weights[1] / weights.sum())
    offset = math.remainder(maps[0].offset + share * apart, TURN)
    errors = tuple((1 - share) * a + share * b for a, b in zip(maps[0].edge_errors, maps[1].edge_errors, strict=True))
    edges = tuple(math.remainder(offset + k * math.pi / 3 + errors[k], TURN) for k in range(6))
    return HallMap(maps[0].mirrored, offset, errors, edges), max(abs(apart) / 2, LEAST_STD)


def push_both_ways(session: Session, turning: Turning, centre: float) -> tuple[Recording, tuple[int, int]]:
    """Push by torque current each way until edges pass, as they must the way it was pushed.

    Raises `NotConfirmed`, or `WiredWrongly` where hardly any pass.
    """
    session.enter("confirming by torque per amp", 0.8)
    motor, sector = session.axis.motor, SECTOR / turning.pairs
    per_amp = 0.6 * motor.torque_constant / session.axis.inertia  # [rad/s²/A] as entered, friction off
    seconds, fastest = 0.0, 0.0
    for k, share in enumerate(SHARES):
        current = share * session.current_continuous
        if k == 0:  # out and back is rate t²
            seconds = min(
                math.sqrt(SECTORS * sector / per_amp / current), FASTEST * session.consent.speed / per_amp / current
            )
        else:  # heavier than entered; as much longer as the speed seen allows
            quicker = FASTEST * session.consent.speed / max(fastest, 1e-9) * SHARES[k - 1] / share
            seconds *= min(max(quicker, 1.0), LONGER)
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
