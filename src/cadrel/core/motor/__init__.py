"""The motor per phase in SI, derived values and the checks that find mislabelled entries.

winding.py      Motor, one frozen class for every kind; derived values, temperature
sheet.py        printed entries -> Motor; start reading here
induction.py    an induction motor's nameplate
cable.py        resistance of the motor cable
relations.py    what a sheet's numbers say about each other
relabelling.py  which label, changed, makes them agree
checks.py       entries -> list of Check, in words
envelope.py     torque over speed at a bus voltage
"""

from cadrel.core.motor.cable import COPPER_RESISTIVITY, cable_resistance
from cadrel.core.motor.checks import Check, check_motor
from cadrel.core.motor.envelope import torque_speed_envelope
from cadrel.core.motor.induction import InductionModel, Nameplate, model_from_nameplate
from cadrel.core.motor.relabelling import Change
from cadrel.core.motor.sheet import motor_from_sheet, nameplate_model, reader_of
from cadrel.core.motor.winding import COPPER_TEMPCO, Motor

__all__ = [
    "COPPER_RESISTIVITY",
    "COPPER_TEMPCO",
    "Change",
    "Check",
    "InductionModel",
    "Motor",
    "Nameplate",
    "cable_resistance",
    "check_motor",
    "model_from_nameplate",
    "motor_from_sheet",
    "nameplate_model",
    "reader_of",
    "torque_speed_envelope",
]
