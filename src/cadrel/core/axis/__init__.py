"""Entered values -> what was understood of the whole axis, and what the drive should hold.

understanding.py   entries -> AxisModel
drive_values.py    entries -> SI values of every drive parameter
"""

from cadrel.core.axis.drive_values import drive_values, entry_from_drive, initial_gains
from cadrel.core.axis.understanding import AxisModel, bus_voltage, missing_entries, understand

__all__ = [
    "AxisModel",
    "bus_voltage",
    "drive_values",
    "entry_from_drive",
    "initial_gains",
    "missing_entries",
    "understand",
]
