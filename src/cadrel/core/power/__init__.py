"""Supply, braking energy and the holding brake.

supply.py   what the bus will be, and whether the drive is built for it
braking.py  energy of a deceleration -> resistor; combinations of resistors
brake.py    the holding brake's sequence in time
"""

from cadrel.core.power.brake import MARGIN, TORQUE_BUILD_UP, BrakeSequence, brake_sequence
from cadrel.core.power.braking import BrakingDemand, Combination, braking_demand, combinations
from cadrel.core.power.supply import CLASSES, bus_voltage, fits_class

__all__ = [
    "CLASSES",
    "MARGIN",
    "TORQUE_BUILD_UP",
    "BrakeSequence",
    "BrakingDemand",
    "Combination",
    "brake_sequence",
    "braking_demand",
    "bus_voltage",
    "combinations",
    "fits_class",
]
