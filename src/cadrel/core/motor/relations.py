"""What the numbers of a sheet say about each other: one row per relation, for each kind of motor.

A relation compares a left with a right side, both SI, and states within which ratio they count as agreeing. Rows with
`firm` False are plausibility: outside they are worth a look, and no proof of an error.
"""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from cadrel.core.motor.induction import Nameplate
from cadrel.core.motor.sheet import TWO_PI, Reader
from cadrel.core.motor.winding import COPPER_TEMPCO
from cadrel.core.parameters import Entry, choice_of, is_given

BASE, EACH = 1.05, 0.035  # sheets round, constants are given warm, and every printed value is a few percent off
SURROUNDINGS = 40.0  # [°C] that sheets rate for
RPM = TWO_PI / 60
SQRT2 = math.sqrt(2)


@dataclass(frozen=True, slots=True)
class Relation:
    """`low <= left / right <= high`; `text` says it with {left}, {right} and {ratio}."""

    title: str
    kinds: tuple[str, ...]
    keys: tuple[str, ...]
    sides: Callable[[Reader], tuple[float, float]]
    low: float
    high: float
    text: str
    scale: float = 1.0  # SI to what the text shows
    firm: bool = True
    shown: bool = True  # False: only weighs relabellings against each other

    def applies(self, values: Mapping[str, Entry]) -> bool:
        """Whether the kind of motor and the entries allow it."""
        return choice_of(values, "sheet.kind") in self.kinds and all(is_given(values, k) for k in self.keys)

    def misfit(self, ratio: float) -> float:
        """Return the distance from the middle of what agrees, in half-widths: up to 1 it agrees."""
        if not (ratio > 0 and math.isfinite(ratio)):
            return 1e3
        middle, half = 0.5 * math.log(self.low * self.high), 0.5 * math.log(self.high / self.low)
        return abs(math.log(ratio) - middle) / half


def apart(printed: float) -> float:
    """Return by which factor two sides still count as the same, from how many printed values they are made of.

    A value that enters squared counts twice, one under a root half. Two values that are each 5 % off are 10 % apart at
    the worst; of more of them it is ever less likely that all are off the same way.
    """
    return BASE + EACH * printed


def _within(printed: float) -> tuple[float, float]:
    share = apart(printed)
    return 1 / share, share


def _constants(torque: str, voltage: str, per_amp: float, unit: str, kinds: tuple[str, ...]) -> Relation:
    name = "Force" if "force" in torque else "Torque"
    amps = "A" if per_amp == 1.0 and kinds != ("stepper",) else "A peak"
    return Relation(
        f"{name} constant and back-EMF", kinds, (torque, voltage),
        lambda si: (si(torque), per_amp * si(voltage)), *_within(2),
        f"The {name.lower()} constant as stated is {{left:.4g}} {unit} per {amps}; the back-EMF as stated makes "
        "{right:.4g}, {apart}.",
    )  # fmt: skip


def _pull(
    torque: str, current: str, pull: str, per_amp: float, kinds: tuple[str, ...], *, shown: bool = True
) -> Relation:
    name, unit = ("force", "N") if "force" in pull else ("torque", "N·m")
    return Relation(
        f"Continuous {name}", kinds, (torque, current, pull),
        lambda si: (per_amp * si(torque) * si(current), si(pull)), *_within(3),
        f"{name.capitalize()} constant times continuous current is {{left:.4g}} {unit}; the sheet prints {{right:.4g}}.",
        shown=shown,
    )  # fmt: skip


def _peak(torque: str, pull: str, kinds: tuple[str, ...]) -> Relation:
    name, unit = ("force", "N") if "force" in pull else ("torque", "N·m")
    return Relation(
        f"Peak {name}", kinds, (torque, "sheet.current_peak", pull),
        lambda si: (si(pull), si(torque) * si("sheet.current_peak")), 0.6 / apart(3), apart(3),
        f"The sheet prints {{left:.4g}} {unit} at peak current, the constant makes {{right:.4g}}: {{ratio:.0%}}; iron "
        "saturates to 60 to 100 %.",
    )  # fmt: skip


def _motor_constant(
    constant: str, torque: str, phases: int, kinds: tuple[str, ...], per_amp: float = 1.0, *, shown: bool = True
) -> Relation:
    return Relation(
        "Motor constant", kinds, (constant, torque, "sheet.resistance"),
        lambda si: (si(constant), per_amp * si(torque) / math.sqrt(0.5 * phases * si("sheet.resistance"))), *_within(2.5),
        "The sheet prints {left:.4g}; constant over root of winding loss makes {right:.4g}, {apart}.", shown=shown,
    )  # fmt: skip


def _thermal(phases: int, kinds: tuple[str, ...]) -> Relation:
    def sides(si: Reader) -> tuple[float, float]:
        hot = si("sheet.temperature_max")
        warm = si("sheet.resistance") * (1 + COPPER_TEMPCO * (hot - 20))
        return 0.5 * phases * warm * si("sheet.current_continuous") ** 2 * si(
            "sheet.thermal_resistance"
        ), hot - SURROUNDINGS

    return Relation(
        "Winding loss and heat", kinds,
        ("sheet.resistance", "sheet.current_continuous", "sheet.thermal_resistance", "sheet.temperature_max"),
        sides, 0.64, 1.56,
        "Loss at continuous current warms the winding by {left:.0f} K; from 40 °C to its limit are {right:.0f} K.",
        firm=False,
    )  # fmt: skip


def _frequency(turns: Callable[[Reader], float], keys: tuple[str, ...], kinds: tuple[str, ...]) -> Relation:
    return Relation(
        "Electrical frequency", kinds, ("sheet.frequency_rated", *keys),
        lambda si: (turns(si), si("sheet.frequency_rated")), *_within(2),
        "Speed and poles as stated make {left:.4g} Hz; the sheet prints {right:.4g} Hz.",
    )  # fmt: skip


def _run_up(inertia: str, pull: str, speed: str, kinds: tuple[str, ...]) -> Relation:
    return Relation(
        "Inertia" if "inertia" in inertia else "Mass", kinds, (inertia, pull, speed),
        lambda si: (si(inertia) * si(speed) / si(pull), 0.02), 0.01, 50.0,
        "At continuous pull the bare motor reaches top speed in {left:.3g} ms; 1 to 500 ms is usual.", scale=1e3,
        firm=False,
    )  # fmt: skip


def _time_constants(phases: int, kinds: tuple[str, ...]) -> tuple[Relation, Relation, Relation]:
    def mechanical(si: Reader) -> tuple[float, float]:
        made = 0.5 * phases * si("sheet.resistance") * si("sheet.inertia") / si("sheet.torque_constant") ** 2
        return si("sheet.time_constant_mechanical"), made

    return (
        Relation(
            "Electrical time constant", kinds, ("sheet.time_constant_electrical", "sheet.inductance", "sheet.resistance"),
            lambda si: (si("sheet.time_constant_electrical"), si("sheet.inductance") / si("sheet.resistance")),
            *_within(3), "The sheet prints {left:.3g} ms; L / R as stated is {right:.3g} ms.", scale=1e3,
        ),
        Relation(
            "Electrical time constant", kinds, ("sheet.inductance", "sheet.resistance"),
            lambda si: (si("sheet.inductance") / si("sheet.resistance"), 3e-3), 0.03, 20.0,
            "L / R is {left:.3g} ms; 0.1 to 60 ms is what motors have.", scale=1e3, firm=False,
        ),
        Relation(
            "Mechanical time constant", kinds,
            ("sheet.time_constant_mechanical", "sheet.resistance", "sheet.inertia", "sheet.torque_constant"),
            mechanical, *_within(5), "The sheet prints {left:.3g} ms; R, J and Kt as stated make {right:.3g} ms.", scale=1e3,
        ),
    )  # fmt: skip


def _rated(kinds: tuple[str, ...]) -> Relation:
    return Relation(
        "Rated power", kinds, ("sheet.power_rated", "sheet.torque_rated", "sheet.speed_rated"),
        lambda si: (si("sheet.torque_rated") * si("sheet.speed_rated"), si("sheet.power_rated")), *_within(3),
        "Rated torque times rated speed is {left:.4g} W; the sheet prints {right:.4g} W.",
    )  # fmt: skip


def _efficiency(si: Reader) -> tuple[float, float]:
    plate = Nameplate(
        power=si("sheet.power_rated"), torque=None, voltage=si("sheet.voltage_rated"),
        current=si("sheet.current_rated") / SQRT2, frequency=1, speed=1, power_factor=si("sheet.power_factor"),
    )  # fmt: skip
    return float(plate.power or 0), math.sqrt(3) * plate.voltage * plate.current * plate.power_factor


def _slip(si: Reader) -> tuple[float, float]:
    synchronous = TWO_PI * si("sheet.frequency_rated")
    # The fewest poles that reach the printed speed, or nearly: a plate's speed may be rounded up.
    pairs = max(1.0, math.floor(apart(2) * synchronous / si("sheet.speed_rated")))
    return pairs * si("sheet.speed_rated"), synchronous


ROTARY, LINEAR, DC, COIL, STEPPER, INDUCTION = (
    ("rotary",), ("linear",), ("dc",), ("voice_coil",), ("stepper",), ("induction",),
)  # fmt: skip
KT, KE, KF, KL = "sheet.torque_constant", "sheet.back_emf", "sheet.force_constant", "sheet.back_emf_linear"
IC, MC, FC = "sheet.current_continuous", "sheet.torque_continuous", "sheet.force_continuous"

RELATIONS: tuple[Relation, ...] = (
    _constants(KT, KE, 1.5, "N·m", ROTARY),
    _constants(KT, KE, 1.0, "N·m", DC),
    _constants(KT, KE, 1.0, "N·m", STEPPER),
    _constants(KF, KL, 1.5, "N", LINEAR),
    _constants(KF, KL, 1.0, "N", COIL),
    _pull(KT, IC, MC, 1.0, ROTARY + DC),
    _pull(KE, IC, MC, 1.5, ROTARY, shown=False),
    _pull(KE, IC, MC, 1.0, DC, shown=False),
    _pull(KF, IC, FC, 1.0, LINEAR + COIL),
    _pull(KL, IC, FC, 1.5, LINEAR, shown=False),
    _pull(KL, IC, FC, 1.0, COIL, shown=False),
    Relation(
        "Holding torque", STEPPER, (KT, IC, "sheet.holding_torque"),
        lambda si: (si(KT) * si(IC), si("sheet.holding_torque")), *_within(3),
        "Kt times rated current is {left:.4g} N·m; the holding torque as stated makes {right:.4g} N·m.",
    ),
    Relation(
        "Holding torque", STEPPER, (KE, IC, "sheet.holding_torque"),
        lambda si: (si(KE) * si(IC), si("sheet.holding_torque")), *_within(3),
        "Back-EMF constant times rated current is {left:.4g} N·m; the holding torque as stated makes {right:.4g} N·m.",
    ),
    _peak(KT, "sheet.torque_peak", ROTARY + DC),
    _peak(KF, "sheet.force_peak", LINEAR + COIL),
    _motor_constant("sheet.motor_constant", KT, 3, ROTARY),
    _motor_constant("sheet.motor_constant", KT, 2, DC + STEPPER),
    _motor_constant("sheet.motor_constant", KE, 3, ROTARY, 1.5, shown=False),
    _motor_constant("sheet.motor_constant", KE, 2, DC + STEPPER, shown=False),
    _motor_constant("sheet.motor_constant_linear", KL, 3, LINEAR, 1.5, shown=False),
    _motor_constant("sheet.motor_constant_linear", KL, 2, COIL, shown=False),
    _motor_constant("sheet.motor_constant_linear", KF, 3, LINEAR),
    _motor_constant("sheet.motor_constant_linear", KF, 2, COIL),
    *_time_constants(3, ROTARY),
    *_time_constants(2, DC + STEPPER),
    *_time_constants(3, LINEAR)[:2],
    *_time_constants(2, COIL)[:2],
    _thermal(3, ROTARY + LINEAR),
    _thermal(2, DC + COIL + STEPPER),
    _frequency(lambda si: si("sheet.poles") * si("sheet.speed_rated") / TWO_PI, ("sheet.poles", "sheet.speed_rated"), ROTARY),
    _frequency(lambda si: si("sheet.velocity_max") / si("sheet.pitch"), ("sheet.pitch", "sheet.velocity_max"), LINEAR),
    _rated(ROTARY + DC + INDUCTION),
    Relation(
        "Rated voltage", ROTARY, ("sheet.voltage_rated", KE, "sheet.speed_rated"),
        lambda si: (si(KE) * si("sheet.speed_rated") * math.sqrt(1.5), si("sheet.voltage_rated")), 0.35 / apart(3), 0.98 * apart(3),
        "At rated speed the back-EMF is {left:.4g} V rms line to line; the rated voltage is {right:.4g} V, and must "
        "leave some for the current.",
    ),
    Relation(
        "No-load speed", DC, ("sheet.no_load_speed", KE, "sheet.voltage_rated"),
        lambda si: (si("sheet.no_load_speed") / RPM, si("sheet.voltage_rated") / si(KE) / RPM), 0.93 / apart(3), apart(3),
        "The sheet prints {left:.0f} rpm; rated voltage over back-EMF constant makes {right:.0f} rpm.",
    ),
    Relation(
        "Peak and continuous current", ROTARY + LINEAR + DC + COIL + STEPPER, (IC, "sheet.current_peak"),
        lambda si: (si("sheet.current_peak"), si(IC)), 1 / apart(2), 10.0,
        "Peak is {ratio:.2g} times continuous; 2 to 6 is usual.",
    ),
    _run_up("sheet.inertia", MC, "sheet.speed_max", ROTARY + DC),
    _run_up("sheet.mass_moving", FC, "sheet.velocity_max", LINEAR + COIL),
    Relation(
        "Speeds", ROTARY + DC, ("sheet.speed_max", "sheet.speed_rated"),
        lambda si: (si("sheet.speed_max"), si("sheet.speed_rated")), 1 / apart(2), 12.0,
        "Maximum speed is {ratio:.2g} times rated speed.",
    ),
    Relation(
        "Nameplate", INDUCTION,
        ("sheet.power_rated", "sheet.voltage_rated", "sheet.current_rated", "sheet.power_factor"),
        _efficiency, 0.5 / apart(4), 0.96 * apart(4),
        "Shaft power is {left:.0f} W of {right:.0f} W taken in: an efficiency of {ratio:.0%}; 50 to 97 % is possible.",
    ),
    Relation(
        "Slip", INDUCTION, ("sheet.frequency_rated", "sheet.speed_rated"), _slip, 0.8 / apart(2), 0.9985 * apart(2),
        "The rotor turns at {ratio:.1%} of the synchronous speed; 90 to 99.5 % is usual at rated load.",
    ),
)  # fmt: skip
