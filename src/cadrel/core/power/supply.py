"""From the supply to the dc bus."""

import math
from collections.abc import Mapping

from cadrel.core.parameters import Entry, check_entry, choice_of, defaults, is_given

CLASSES = {"dc80": (10.0, 80.0), "ac230": (140.0, 375.0), "ac400": (450.0, 750.0)}  # [V dc] common practice


def bus_voltage(values: Mapping[str, Entry]) -> float:
    """Return the nominal DC bus of the entered supply: sqrt(2) x line rms, or the DC itself. [V]"""
    filled = {**defaults(), **values}
    voltage = check_entry("power.supply_voltage", filled.get("power.supply_voltage", {}), filled)
    return voltage if choice_of(filled, "power.supply_kind") == "dc" else voltage * math.sqrt(2)


CHOPPER_OVER_BUS = 1.2  # where the sheet gives no threshold


def chopper_threshold(values: Mapping[str, Entry], bus: float) -> float:
    """Return the voltage at which the resistor is switched on. [V]"""
    if is_given(values, "power.chopper_threshold"):
        return check_entry("power.chopper_threshold", values["power.chopper_threshold"], values)
    return CHOPPER_OVER_BUS * bus


def fits_class(bus: float, drive_class: str) -> bool | None:
    """Return whether a bus voltage lies in the range of a drive's class; None if the class is not known."""
    if drive_class not in CLASSES:
        return None
    low, high = CLASSES[drive_class]
    return low <= bus <= high
