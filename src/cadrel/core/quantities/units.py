"""The printed unit as a data sheet writes it, its quantity, and its factor to SI.

A table of our own, since general unit libraries read sheet text differently from the trade: 1 Hz is not
1 rad/s here, lb·in is a torque, and 1 rpm is a speed.
"""

import math
from dataclasses import dataclass

from cadrel.core.errors import CoreError

POUND_FORCE = 4.4482216152605  # [N] exact: 0.45359237 kg x 9.80665 m/s²
INCH = 0.0254  # [m] exact
OUNCE_FORCE = POUND_FORCE / 16
FOOT = 12 * INCH
POUND = 0.45359237  # [kg] exact
KILOGRAM_FORCE = 9.80665  # [N] exact
RPM = 2 * math.pi / 60
HORSEPOWER = 550 * FOOT * POUND_FORCE  # [W] mechanical


class UnknownUnit(CoreError):
    """The unit is not one of the quantity's."""

    happened = "The unit '{unit}' is not one of {quantity}."
    means = "The value cannot be understood."
    remedy = "Use one of: {known}."


FARTHEST_POWER = 150  # of 92; beyond it there is no number


@dataclass(frozen=True, slots=True)
class Unit:
    """One printed unit: `si = value * factor + offset`, or `si = factor / value` where it is `reciprocal`.

    A `gauge` of wire counts downwards: the cross-section of number 36 times 92 to (36 - n) / 19.5 (ASTM B258).
    """

    text: str
    quantity: str
    factor: float
    si: str
    offset: float = 0.0
    reciprocal: bool = False
    gauge: bool = False

    def to_si(self, value: float) -> float:
        """Return a printed value in SI; zero of a reciprocal unit is infinite."""
        if self.reciprocal:
            return self.factor / value if value else math.inf
        if self.gauge:
            power = (36 - value) / 19.5
            return self.factor * 92**power if abs(power) < FARTHEST_POWER else (math.inf if power > 0 else 0.0)
        return value * self.factor + self.offset

    def from_si(self, value: float) -> float:
        """Return an SI value as printed."""
        if self.reciprocal:
            return self.factor / value if value else math.inf
        if self.gauge:
            return 36 - 19.5 * math.log(value / self.factor, 92) if value > 0 else math.inf
        return (value - self.offset) / self.factor


_TABLE: dict[str, tuple[str, dict[str, float]]] = {
    "resistance": ("ohm", {"ohm": 1, "mohm": 1e-3, "µohm": 1e-6}),
    "inductance": ("H", {"mH": 1e-3, "µH": 1e-6, "H": 1}),
    "flux": ("Wb", {"mWb": 1e-3, "Wb": 1}),
    "current": ("A", {"A": 1, "mA": 1e-3}),
    "voltage": ("V", {"V": 1, "mV": 1e-3, "kV": 1e3}),
    "torque": (
        "N·m",
        {
            "N·m": 1,
            "mN·m": 1e-3,
            "µN·m": 1e-6,
            "N·cm": 1e-2,
            "lb·in": POUND_FORCE * INCH,
            "oz·in": OUNCE_FORCE * INCH,
            "lb·ft": POUND_FORCE * FOOT,
            "kgf·cm": KILOGRAM_FORCE * 1e-2,
        },
    ),
    "torque_constant": (
        "N·m/A",
        {"N·m/A": 1, "mN·m/A": 1e-3, "lb·in/A": POUND_FORCE * INCH, "oz·in/A": OUNCE_FORCE * INCH},
    ),
    "back_emf": (
        "V·s/rad",
        {
            "V/krpm": 1 / (1000 * RPM),
            "V·s/rad": 1,
            "mV·s/rad": 1e-3,
            "mV/rpm": 1e-3 / RPM,
            "V/rpm": 1 / RPM,
            "rpm/V": 1 / RPM,
        },
    ),
    "force": ("N", {"N": 1, "kN": 1e3, "mN": 1e-3, "lbf": POUND_FORCE}),
    "force_constant": ("N/A", {"N/A": 1, "mN/A": 1e-3, "lbf/A": POUND_FORCE}),
    "back_emf_linear": ("V·s/m", {"V·s/m": 1, "mV·s/m": 1e-3, "V/(in/s)": 1 / INCH}),
    "motor_constant": (
        "N·m/√W",
        {"N·m/√W": 1, "mN·m/√W": 1e-3, "lb·in/√W": POUND_FORCE * INCH, "oz·in/√W": OUNCE_FORCE * INCH},
    ),
    "motor_constant_linear": ("N/√W", {"N/√W": 1, "lbf/√W": POUND_FORCE}),
    "linear_speed": ("m/s", {"m/s": 1, "mm/s": 1e-3, "in/s": INCH, "m/min": 1 / 60}),
    "power": ("W", {"W": 1, "kW": 1e3, "hp": HORSEPOWER}),
    "energy": ("J", {"J": 1, "kJ": 1e3}),
    "capacitance": ("F", {"µF": 1e-6, "mF": 1e-3, "F": 1}),
    "temperature": ("°C", {"°C": 1, "°F": 5 / 9}),
    "temperature_coefficient": ("1/K", {"%/K": 1e-2, "1/K": 1}),
    "thermal_resistance": ("K/W", {"K/W": 1, "°C/W": 1}),
    "area": ("m²", {"mm²": 1e-6, "m²": 1, "AWG": math.pi / 4 * (0.005 * INCH) ** 2}),
    "cable_length": ("m", {"m": 1, "ft": FOOT}),
    "steps": ("1/rev", {"1/rev": 1, "°/step": 360}),
    "scale": ("m", {"µm": 1e-6, "nm": 1e-9, "mm": 1e-3}),
    "inertia": (
        "kg·m²",
        {
            "kg·cm²": 1e-4,
            "kg·m²": 1,
            "g·cm²": 1e-7,
            "kg·mm²": 1e-6,
            "lb·in·s²": POUND_FORCE * INCH,
            "oz·in·s²": OUNCE_FORCE * INCH,
            "lb·in²": POUND * INCH**2,
            "oz·in²": POUND / 16 * INCH**2,
        },
    ),
    "mass": ("kg", {"kg": 1, "g": 1e-3, "lb": POUND}),
    "speed": ("rad/s", {"rpm": RPM, "rad/s": 1, "1/s": 2 * math.pi}),
    "angle": ("rad", {"°": math.pi / 180, "rad": 1}),
    "length": ("m", {"mm": 1e-3, "m": 1, "µm": 1e-6, "in": INCH}),
    "time": ("s", {"ms": 1e-3, "s": 1, "µs": 1e-6, "min": 60}),
    "frequency": ("Hz", {"Hz": 1, "kHz": 1e3, "MHz": 1e6}),
    "loop_gain": ("1/s", {"1/s": 1}),
    "count": ("", {"": 1}),
    "plain": ("", {"": 1}),
    "ratio": ("", {"": 1, "%": 1e-2, "‰": 1e-3}),
    "level": ("dB", {"dB": 1}),
    "current_gain": ("V/A", {"V/A": 1}),
    "velocity_gain": ("N·m·s", {"N·m·s": 1, "mN·m·s": 1e-3}),
    # At the load, through the mechanism: SI is metre or radian of the load (mechanics turns it into motor radians).
    "axis_position": ("load", {"mm": 1e-3, "m": 1, "µm": 1e-6, "in": INCH, "°": math.pi / 180, "rev": 2 * math.pi}),
    "axis_velocity": (
        "load/s",
        {"mm/s": 1e-3, "m/s": 1, "m/min": 1 / 60, "in/s": INCH, "°/s": math.pi / 180, "rpm": RPM},
    ),
    "axis_acceleration": (
        "load/s²",
        {"m/s²": 1, "mm/s²": 1e-3, "g": 9.80665, "°/s²": math.pi / 180, "rad/s²": 1},
    ),
    "axis_jerk": ("load/s³", {"m/s³": 1, "mm/s³": 1e-3, "°/s³": math.pi / 180, "rad/s³": 1}),
}

_OFFSETS = {"°F": -32 * 5 / 9}
_RECIPROCAL = {"rpm/V", "°/step"}
_GAUGE = {"AWG"}

UNITS: dict[tuple[str, str], Unit] = {
    (quantity, text): Unit(
        text, quantity, float(factor), si, _OFFSETS.get(text, 0.0), text in _RECIPROCAL, text in _GAUGE
    )
    for quantity, (si, rows) in _TABLE.items()
    for text, factor in rows.items()
}


def units_of(quantity: str) -> list[str]:
    """Return the printed units of a quantity, the commonest first."""
    return list(_TABLE[quantity][1])


def unit_of(quantity: str, unit: str) -> Unit:
    """Return the table's row of a printed unit. Raises `UnknownUnit`."""
    found = UNITS.get((quantity, unit))
    if found is None:
        raise UnknownUnit(unit=unit, quantity=quantity.replace("_", " "), known=", ".join(units_of(quantity)))
    return found


def to_si(value: float, *, quantity: str, unit: str) -> float:
    """Return a printed value in SI.

    Raises
    ------
    UnknownUnit
        The unit is not one of the quantity's.
    """
    return unit_of(quantity, unit).to_si(value)


def from_si(value: float, *, quantity: str, unit: str) -> float:
    """Return an SI value in the printed unit. Raises `UnknownUnit`."""
    return unit_of(quantity, unit).from_si(value)
