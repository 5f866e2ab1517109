"""The holding brake by hand: open while a button is held, and never farther than stated."""

import math
from typing import Any

from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import leading, log
from cadrel.web.rig.errors import NotReady

MAY_MOVE = math.radians(20)  # of the motor, after which the drive closes the brake by itself


def hold_open(axis: Axis, *, who: Any, is_open: bool, is_safe: bool, holder: str) -> None:
    """Renew an opening by hand, or end it. Raises `NotReady` unless it was said to be safe, `RefusedByDrive`."""
    drive = leading(axis, who, "jog")
    if not is_open:
        drive.close_brake(holder=holder)
        return
    if not is_safe:
        raise NotReady(
            what="It was not said to be safe.", remedy="Support what hangs, then tick that it is safe, and hold again."
        )
    if drive.status()["brake"] == "closed":
        log(axis, who, "brake", "Holding brake opened by hand, said to be safe.")
    drive.hold_brake_open(travel=MAY_MOVE, holder=holder)


def may_move_text(axis: Axis) -> str:
    """Return after which way it closes by itself, in the axis's unit."""
    mechanism = axis.understood.mechanism
    return f"{MAY_MOVE * abs(mechanism.unit_per_rad):.3g} {mechanism.unit}"
