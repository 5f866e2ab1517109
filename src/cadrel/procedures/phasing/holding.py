"""Hold the vector at angles of one electrical turn, coming from below and from above."""

import math

import numpy as np

from cadrel.core.identification import OffsetResult, offset_from_alignment
from cadrel.procedures.phasing.plan import HELD_ANGLES, HOLD, SLOW_TURN
from cadrel.procedures.phasing.turning import Turning, expected_swing
from cadrel.procedures.phasing.vector import LOOK, wait_until_still
from cadrel.procedures.session import Session

TURN = 2 * math.pi
LOOKS = 4  # at each angle, averaged: a light shaft still swings a little
SWING = 0.5  # [s] at each angle, at most: the mean of many holds takes out the rest
RATE = TURN * SLOW_TURN / 2


def hold_angles(session: Session, turning: Turning) -> OffsetResult:
    """Return the offset from held vectors: friction cancels between the two directions, the load is taken out."""
    session.enter("holding angles", 0.45)
    angles, step = HELD_ANGLES, TURN / HELD_ANGLES
    up: list[tuple[float, float]] = []
    down: list[tuple[float, float]] = []
    for k in range(angles):
        up.append(_hold_at(session, turning, (k + 1) * step, step))
    # A step over the end, so that the way back reaches the last angle from above.
    _step_to(session, turning, (angles + 1.0) * step, step)
    for k in range(angles, 0, -1):
        down.append(_hold_at(session, turning, k * step, step))
    rising, falling = np.array(up), np.array(down[::-1])
    held = offset_from_alignment(
        rising[:, 0], rising[:, 1], falling[:, 0], falling[:, 1], pole_pairs=round(session.values["motor.pole_pairs"])
    )
    offset = math.remainder(held.offset + turning.bias, TURN)
    return OffsetResult(offset, held.spread, held.friction_lag, held.followed)


def _hold_at(session: Session, turning: Turning, angle: float, step: float) -> tuple[float, float]:
    _step_to(session, turning, angle, step)
    session.hold(HOLD - LOOK * LOOKS)
    wait_until_still(session, looks=LOOKS, longest=SWING)
    counts = [session.hold(LOOK)["counts"] for _ in range(LOOKS)]
    return angle, (float(np.mean(counts)) + 0.5) * turning.per_count


def _step_to(session: Session, turning: Turning, angle: float, step: float) -> None:
    """Turn the vector by a step, to an angle; over a whole period of the swing, so that the shaft stops with it.

    A swing that friction kept from showing on slow turns is the one that the load entered makes expected.
    """
    usual, swing = step / RATE, turning.swing
    if not swing:
        expected = expected_swing(session.axis, turning.current)
        swing = expected if expected > usual else 0.0
    seconds = max(math.ceil(usual / swing - 0.3), 1) * swing if swing else usual
    session.drive.vector(angle=angle, rate=step / seconds, current=turning.current, rise=turning.current / 0.3)
    session.hold(seconds)
