"""The mechanism between motor and load."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from cadrel.core.parameters import Entry, check_entry, defaults


@dataclass(frozen=True, slots=True, kw_only=True)
class Mechanism:
    """Gear, then an optional conversion to straight motion.

    `motor_rad_per_load`: motor angle per SI unit of the load, which is a metre if `is_linear`, else a radian.
    """

    motor_rad_per_load: float
    is_linear: bool
    inertia_reflected: float  # [kg·m²] load, at the motor shaft

    @property
    def unit(self) -> str:
        """Unit the engineer thinks in."""
        return "mm" if self.is_linear else "°"

    @property
    def unit_per_rad(self) -> float:
        """User units per motor radian. [mm/rad] or [°/rad]"""
        load = 1 / self.motor_rad_per_load
        return load * 1e3 if self.is_linear else math.degrees(load)


def mechanism_from_entries(values: Mapping[str, Entry]) -> Mechanism:
    """Return the mechanism understood from the mechanics step. Raises `EntryProblem`."""
    filled = {**defaults(), **values}
    ratio = check_entry("mechanics.ratio", filled["mechanics.ratio"])
    mass = check_entry("mechanics.load_mass", filled["mechanics.load_mass"])
    inertia = check_entry("mechanics.load_inertia", filled["mechanics.load_inertia"])
    check_entry("mechanics.kind", filled["mechanics.kind"])
    linear = str(filled["mechanics.kind"]["value"]) != "rotary"
    if not linear:
        return Mechanism(motor_rad_per_load=ratio, is_linear=False, inertia_reflected=inertia / ratio**2)
    feed = check_entry("mechanics.feed", filled["mechanics.feed"])
    per_metre = ratio * 2 * math.pi / feed
    return Mechanism(
        motor_rad_per_load=per_metre, is_linear=True, inertia_reflected=inertia / ratio**2 + mass / per_metre**2
    )
