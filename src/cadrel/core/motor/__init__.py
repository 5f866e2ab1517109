"""The motor per phase in SI, derived values and the checks that find mislabelled entries.

winding.py   Motor, the frozen result of a sheet; derived values
checks.py    Motor and sheet -> list of Check, in words
envelope.py  torque over speed at a bus voltage
"""

from cadrel.core.motor.checks import Check, check_motor
from cadrel.core.motor.envelope import torque_speed_envelope
from cadrel.core.motor.winding import COPPER_TEMPCO, Motor, motor_from_sheet

__all__ = ["COPPER_TEMPCO", "Check", "Motor", "check_motor", "motor_from_sheet", "torque_speed_envelope"]
