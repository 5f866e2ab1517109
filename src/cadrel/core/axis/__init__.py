"""Entered values -> what was understood of the whole axis, what the drive should hold, and advice.

understanding.py   entries -> AxisModel
drive_values.py    entries -> SI values of every drive parameter
identified.py      which identified values another motor or load takes away, and what the sheet says instead
advice.py          warnings about mechanics, power and limits, and the planned move
"""

from cadrel.core.axis.advice import (
    PlannedMove,
    braking_of,
    check_brake,
    check_braking,
    check_limits,
    check_mechanics,
    check_move,
    check_power,
    check_travel,
    current_continuous,
    current_limit,
    planned_move,
    shown_speed,
    shown_torque,
)
from cadrel.core.axis.arriving import Arriving, arriving, parts_of
from cadrel.core.axis.drive_values import (
    START_TORQUE_FILTER_HZ,
    careful_velocity,
    drive_values,
    entry_from_drive,
    initial_gains,
)
from cadrel.core.axis.identified import SHOWN, fallen_identified, from_the_sheet
from cadrel.core.axis.understanding import (
    AxisModel,
    feedback_of,
    is_needed,
    missing_entries,
    too_coarse,
    understand,
    unsupported,
)

__all__ = [
    "SHOWN",
    "START_TORQUE_FILTER_HZ",
    "Arriving",
    "AxisModel",
    "PlannedMove",
    "arriving",
    "braking_of",
    "careful_velocity",
    "check_brake",
    "check_braking",
    "check_limits",
    "check_mechanics",
    "check_move",
    "check_power",
    "check_travel",
    "current_continuous",
    "current_limit",
    "drive_values",
    "entry_from_drive",
    "fallen_identified",
    "feedback_of",
    "from_the_sheet",
    "initial_gains",
    "is_needed",
    "missing_entries",
    "parts_of",
    "planned_move",
    "shown_speed",
    "shown_torque",
    "too_coarse",
    "understand",
    "unsupported",
]
