"""Halls as the only device: the map from a second turn with another current, and a push each way."""

import math

import numpy as np

from cadrel.core.identification import HallMap
from cadrel.link import Recording
from cadrel.procedures.errors import NotConfirmed
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.phasing.plan import turning_plan
from cadrel.procedures.phasing.turning import Turning, read_turning, settle_on, shaft_reader, sweep
from cadrel.procedures.session import Session

TURN = 2 * math.pi
MOST_APART = math.radians(8)  # two turns with different currents
FEWEST_EDGES = 2
LEAST_STD = math.radians(0.5)  # what two turns cannot show
SHARES = (0.5, 0.75, 1.0, 1.0)  # of continuous current, one try after the other
LONGER = 2.0  # factor of the push from try to try
SECTORS = 3.0  # a push should pass


def learn_twice(session: Session, turning: Turning, centre: float) -> tuple[HallMap, float]:
    """Return the Hall map as the mean of two turns, and half their difference. [rad] Raises `NotConfirmed`."""
    spacing = session.axis.feedback.hall_spacing
    other = session.current_continuous if turning.current < 0.8 * session.current_continuous else 0.75 * turning.current
    plan = turning_plan(session.axis)
    shaft = shaft_reader(session, turning.per_count, turning.pairs)
    with session.enabled_around("vector", centre):
        settle_on(session, 0.0, other)
        up = sweep(session, plan.turns * TURN, plan.rate, other, "turning once more with another current", 0.5)
        down = sweep(session, 0.0, plan.rate, other, "and back", 0.6)
    again = read_turning(session, plan, up, down, other, turning.per_count, shaft)
    maps = [turning.halls(spacing), again.halls(spacing)]
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
    """Push by torque current each way until edges pass; they must pass the way it was pushed. Raises `NotConfirmed`."""
    session.enter("confirming by torque per amp", 0.8)
    motor = session.axis.motor
    passed: list[int] = []
    for k, share in enumerate(SHARES):
        current = share * session.current_continuous
        rate = 0.6 * motor.torque_constant * current / session.axis.inertia
        # Out and back is rate t²; no faster than half of what was consented to.
        light = 1.0 if any(passed) else k + 1.0  # no edge so far: heavier than entered
        seconds = min(LONGER**k * math.sqrt(SECTORS * math.pi / 3 / turning.pairs / rate),
                      light * 0.4 * session.consent.speed / rate, 0.6)  # fmt: skip
        passed = []
        for way in (1.0, -1.0):
            length = round(seconds / 250e-6)
            pulse = way * current * np.concatenate([np.ones(length), -np.ones(2 * length), np.ones(length)])
            with session.enabled_around("current", centre):
                record = session.excite_and_record(
                    ["counts", "hall", "i_q", "velocity"], "current_q", pulse, divider=4, repeats=1
                )
            session.standstill()
            moved = record["counts"][: 2 * length] - record["counts"][0]
            passed.append(int(moved.max() if abs(moved.max()) >= abs(moved.min()) else moved.min()))
        if passed[0] >= FEWEST_EDGES and passed[1] <= -FEWEST_EDGES:
            return record, (passed[0], passed[1])
        if passed[0] < 0 or passed[1] > 0:
            break
        session.note(f"{100 * share:.0f} % current passed too few Hall edges; pushed longer and harder.")
    raise NotConfirmed(
        what=f"Pushed forward, {passed[0]} Hall edges passed; pushed back, {passed[1]}. Torque current does not push "
        "the way it should."
    )
