"""Supply, braking energy and the holding brake.

supply.py   what the bus will be, and whether the drive is built for it
braking.py  energy of a deceleration -> resistor; combinations of resistors
brake.py    the holding brake's sequence in time
"""

from cadrel.core.power.brake import MARGIN, TORQUE_BUILD_UP, BrakeSequence, brake_sequence
from cadrel.core.power.braking import (
    LIMITED_FROM,
    LIMITED_TO,
    RATED_RISE,
    BrakingDemand,
    BusCase,
    Combination,
    acts_at,
    braking_demand,
    combinations,
    predicted_case,
    seen_case,
)
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
    "acts_at",
    "brake_sequence",
    "braking_demand",
    "bus_voltage",
    "chopper_threshold",
    "combinations",
    "fits_class",
    "predicted_case",
    "seen_case",
]
