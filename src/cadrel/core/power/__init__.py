"""Supply, braking energy and the holding brake.

supply.py   what the bus will be, and whether the drive is built for it
braking.py  energy of a deceleration -> resistor; combinations of resistors
stopping.py the bus while an axis stops, stepped in time
brake.py    the holding brake's sequence in time
"""

from cadrel.core.power.brake import MARGIN, TORQUE_BUILD_UP, BrakeSequence, brake_sequence
from cadrel.core.power.braking import (
    RATED_RISE,
    BrakingDemand,
    Combination,
    braking_demand,
    combinations,
)
from cadrel.core.power.stopping import LIMITED_FROM, LIMITED_TO, BusCase, StopOnBus, seen_case, stop_on_bus
from cadrel.core.power.supply import CLASSES, bus_voltage, chopper_threshold, fits_class

__all__ = [
    "CLASSES",
    "LIMITED_FROM",
    "LIMITED_TO",
    "MARGIN",
    "RATED_RISE",
    "TORQUE_BUILD_UP",
    "BrakeSequence",
    "BrakingDemand",
    "BusCase",
    "Combination",
    "StopOnBus",
    "brake_sequence",
    "braking_demand",
    "bus_voltage",
    "chopper_threshold",
    "combinations",
    "fits_class",
    "seen_case",
    "stop_on_bus",
]
