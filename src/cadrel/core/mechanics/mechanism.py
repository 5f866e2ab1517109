"""The mechanism between motor and load."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from cadrel.core.parameters import Entry, check_entry, choice_of, defaults

GRAVITY = 9.80665  # [m/s²] standard
STRAIGHT_MOTORS = ("linear", "voice_coil")


@dataclass(frozen=True, slots=True, kw_only=True)
class Mechanism:
    """Up to two stages, then an optional conversion to straight motion.

    `motor_rad_per_load`: motor angle per SI unit of the load, which is a metre if `is_linear`, else a radian.
    """

    motor_rad_per_load: float
    is_linear: bool
    inertia_reflected: float  # [kg·m²] load, gear and counterweight, at the motor shaft
    kind: str = "rotary"
    ratio: float = 1.0  # of all stages, motor turns per output turn
    efficiency: float = 1.0
    torque_constant_load: float = 0.0  # [N·m] at the motor, against moving forward: gravity and counter-force
    torque_friction: float = 0.0  # [N·m] at the motor

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
    """Return the mechanism understood from the mechanics step. Raises `EntryProblem`.

    A straight motor carries its load directly: its mechanism follows from its magnetic pitch.
    """
    filled = {**defaults(), **values}

    def si(key: str) -> float:
        return check_entry(key, filled.get(key, {}), filled)

    kind = choice_of(filled, "sheet.kind")
    if kind in STRAIGHT_MOTORS:
        per_metre = 2 * math.pi / si("sheet.pitch") if kind == "linear" else 1.0
        return _straight("linear", 1.0, per_metre, 0.0, si, filled)
    ratio = si("mechanics.ratio") * si("mechanics.ratio_second")
    turning = si("mechanics.gear_inertia") + si("mechanics.load_inertia") / ratio**2
    si("mechanics.kind")
    element = choice_of(filled, "mechanics.kind")
    if element == "rotary":
        return Mechanism(
            motor_rad_per_load=ratio,
            is_linear=False,
            inertia_reflected=turning,
            ratio=ratio,
            efficiency=si("mechanics.efficiency"),
        )
    return _straight(element, ratio, ratio * 2 * math.pi / si("mechanics.feed"), turning, si, filled)


def _straight(
    kind: str, ratio: float, per_metre: float, turning: float, si: Callable[[str], float], values: Mapping[str, Entry]
) -> Mechanism:
    mass = si("mechanics.load_mass")
    orientation = choice_of(values, "mechanics.orientation")
    counterweight = si("mechanics.counterweight") if orientation != "horizontal" else 0.0
    slope = {"horizontal": 0.0, "vertical": math.pi / 2, "incline": si("mechanics.incline")}[orientation]
    own = si("sheet.mass_moving") if kind == "linear" and slope else 0.0  # a straight motor's coil climbs too
    force = (mass + own - counterweight) * GRAVITY * math.sin(slope) + si("mechanics.counter_force")
    return Mechanism(
        motor_rad_per_load=per_metre,
        is_linear=True,
        inertia_reflected=turning + (mass + counterweight) / per_metre**2,
        kind=kind,
        ratio=ratio,
        efficiency=si("mechanics.efficiency"),
        torque_constant_load=force / per_metre,
        torque_friction=si("mechanics.friction_force") / per_metre,
    )
