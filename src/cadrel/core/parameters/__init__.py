"""THE registry of parameters: declared once, read by forms, help, bench, comparison, formats and manual.

    parameter.py   Parameter, Help, Step: the shapes
    route.py       the steps in working order and what each depends on
    sheet.py       motor and feedback as printed
    machine.py     mechanics, power, limits
    loops.py       commutation, current, velocity, position
    goal.py        what the axis must reach
    registry.py    all of them by key; start reading here

A parameter stored in the project only (`storage="project"`) is kept as entered; one stored in the drive is an
SI float at the motor shaft, per phase, peak.
"""

from cadrel.core.parameters.parameter import Entry, Help, Parameter
from cadrel.core.parameters.registry import (
    DRIVE_KEYS,
    REGISTRY,
    EntryProblem,
    check_entry,
    default_drive_values,
    defaults,
    of_step,
    parameter,
)
from cadrel.core.parameters.route import STEPS, Step, invalidated_by, steps_after

__all__ = [
    "DRIVE_KEYS",
    "REGISTRY",
    "STEPS",
    "Entry",
    "EntryProblem",
    "Help",
    "Parameter",
    "Step",
    "check_entry",
    "default_drive_values",
    "defaults",
    "invalidated_by",
    "of_step",
    "parameter",
    "steps_after",
]
