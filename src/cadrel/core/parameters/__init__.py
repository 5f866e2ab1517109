"""THE registry of parameters: declared once, read by forms, help, bench, comparison, formats and manual.

    parameter.py   Parameter, Help, Step: the shapes
    route.py       the steps in working order and what each depends on
    motor.py       motors of every kind as printed, the cable, and what the drive keeps
    devices.py     the kinds of feedback device and what tells them apart
    feedback.py    feedback devices as printed
    machine.py     mechanics, power, limits
    loops.py       commutation, current, velocity, position
    goal.py        what the axis must reach
    registry.py    all of them by key; start reading here

A parameter stored in the project only (`storage="project"`) is kept as entered; one stored in the drive is an
SI float at the motor shaft, per phase, peak.
"""

from cadrel.core.parameters.devices import BY_CODE, DEVICE_KINDS, DeviceKind, kinds_with
from cadrel.core.parameters.loops import DEAD_SHAPES, SECTIONS
from cadrel.core.parameters.parameter import Entry, Help, Parameter
from cadrel.core.parameters.registry import (
    ANGLE_RESTS_ON,
    DRIVE_KEYS,
    REGISTRY,
    EntryProblem,
    applies,
    check_entry,
    choice_of,
    conventions_for,
    default_drive_values,
    defaults,
    has_preset,
    is_given,
    is_required,
    of_step,
    option_of,
    parameter,
    preset_of,
    units_for,
)
from cadrel.core.parameters.route import STEPS, Step, field_of, full_label, invalidated_by, steps_after

__all__ = [
    "ANGLE_RESTS_ON",
    "BY_CODE",
    "DEAD_SHAPES",
    "DEVICE_KINDS",
    "DRIVE_KEYS",
    "REGISTRY",
    "SECTIONS",
    "STEPS",
    "DeviceKind",
    "Entry",
    "EntryProblem",
    "Help",
    "Parameter",
    "Step",
    "applies",
    "check_entry",
    "choice_of",
    "conventions_for",
    "default_drive_values",
    "defaults",
    "field_of",
    "full_label",
    "has_preset",
    "invalidated_by",
    "is_given",
    "is_required",
    "kinds_with",
    "of_step",
    "option_of",
    "parameter",
    "preset_of",
    "steps_after",
    "units_for",
]
