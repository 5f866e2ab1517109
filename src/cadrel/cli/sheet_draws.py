"""Motors whose numbers belong together, printed as sheets print them: any unit, any convention, rounded, scattered."""

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from cadrel.core.parameters import Entry, Parameter, conventions_for, parameter, units_for
from cadrel.core.quantities import convention_factor, from_si

HOT = 1 + 0.00393 * 80  # copper at 100 °C over copper at 20 °C, IEC 60034-1 by its temperature coefficient
PRINTED = 0.65  # share of what may be left out that is printed all the same
COUNTED = ("sheet.poles", "sheet.steps")  # whole numbers: no scatter
OF_THE_SLIP = ("sheet.frequency_rated", "sheet.speed_rated")  # a plate prints them exactly: the slip lies between
ALIKE = 1.16
# What betrays a wrong label of an entry: printed values that, together with it, say the same thing twice.
WITNESSES = {
    "sheet.torque_constant": (
        "sheet.back_emf", "sheet.torque_continuous", "sheet.motor_constant", "sheet.holding_torque",
    ),
    "sheet.force_constant": ("sheet.back_emf_linear", "sheet.force_continuous"),
    "sheet.back_emf": ("sheet.torque_constant",),
    "sheet.back_emf_linear": ("sheet.force_constant",),
    "sheet.current_continuous": ("sheet.torque_continuous", "sheet.force_continuous", "sheet.holding_torque"),
    "sheet.resistance": ("sheet.motor_constant", "sheet.motor_constant_linear", "sheet.time_constant_electrical"),
    "sheet.inductance": ("sheet.time_constant_electrical",),
    "sheet.poles": ("sheet.frequency_rated",),
    "sheet.pitch": ("sheet.frequency_rated",),
    "sheet.holding_torque": ("sheet.torque_constant",),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class DrawnSheet:
    """A motor as it is, SI by key after convention, and the way its sheet prints each value."""

    kind: str
    true: dict[str, float]
    labels: dict[str, tuple[str, str]]  # unit and convention

    def printed(
        self, rng: np.random.Generator, *, scatter: float = 0.0, digits: int = 3, warm: bool = False
    ) -> dict[str, Entry]:
        """Return the entries of a sheet: every value off by up to `scatter`, rounded; warm: R at 100 °C, unsaid."""
        entries: dict[str, Entry] = {"sheet.kind": {"value": self.kind}}
        for key, si in self.true.items():
            unit, convention = self.labels[key]
            value = si * (HOT if warm and key == "sheet.resistance" else 1.0)
            if key not in COUNTED and not (self.kind == "induction" and key in OF_THE_SLIP):
                value *= 1 + rng.uniform(-scatter, scatter)
            p = parameter(key)
            if convention:
                value /= convention_factor(str(p.convention), convention)
            shown = from_si(value, quantity=p.quantity, unit=unit)
            entry: Entry = {"value": float(f"{shown:.{digits}g}") if key not in COUNTED else float(round(shown))}
            if unit:
                entry["unit"] = unit
            if convention:
                entry["convention"] = convention
            entries[key] = entry
        return entries

    def wrong_labels(self) -> Iterator[tuple[str, str]]:
        """Every convention that an entry has not, of those another printed value can check: key, convention.

        Two conventions within `ALIKE` of each other are one to any check: block-commutated and sine peak are.
        """
        for key, (_, convention) in self.labels.items():
            alone = key == "sheet.poles" and "sheet.speed_rated" not in self.true  # a frequency needs a speed
            if convention and not alone and set(WITNESSES.get(key, ())) & set(self.true):
                for other in conventions_for(parameter(key), {"sheet.kind": {"value": self.kind}}):
                    ratio = other.factor / convention_factor(str(parameter(key).convention), convention)
                    if other.key != convention and not 1 / ALIKE < ratio < ALIKE:
                        yield key, other.key


def draw_sheet(rng: np.random.Generator) -> DrawnSheet:
    """Return a drawn motor of any kind."""
    kind = str(rng.choice(["rotary", "rotary", "rotary", "linear", "dc", "voice_coil", "stepper", "induction"]))
    made = {
        "rotary": _rotary, "linear": _straight, "voice_coil": _straight, "dc": _rotary, "stepper": _stepper,
        "induction": _induction,
    }[kind]  # fmt: skip
    needed, more = made(kind, rng)
    true = needed | {k: v for k, v in more.items() if rng.random() < PRINTED}
    block = kind == "rotary" and rng.random() < 0.15  # a sheet for block commutation prints all for it
    labels = {key: _label(parameter(key), kind, rng, block=block) for key in true}
    return DrawnSheet(kind, true, labels)


def _label(p: Parameter, kind: str, rng: np.random.Generator, *, block: bool) -> tuple[str, str]:
    units = [u for u in units_for(p) if u not in ("%", "‰", "AWG")]
    allowed = [c.key for c in conventions_for(p, {"sheet.kind": {"value": kind}})]
    of_block = [c for c in allowed if c.endswith("block")]
    allowed = of_block if block and of_block else [c for c in allowed if c not in of_block]
    return str(rng.choice(units)), str(rng.choice(allowed)) if allowed else ""


def _log(rng: np.random.Generator, low: float, high: float) -> float:
    return float(math.exp(rng.uniform(math.log(low), math.log(high))))


Values = dict[str, float]


def _winding(rng: np.random.Generator, phases: int, constant: float) -> tuple[Values, float]:
    """R, L, currents by a drawn loss; and the loss per square of the current."""
    resistance = _log(rng, 0.1, 20)
    per_square = 0.5 * phases * resistance
    continuous = math.sqrt(_log(rng, 20, 400) / per_square)
    return {
        "sheet.resistance": resistance,
        "sheet.inductance": resistance * _log(rng, 0.4e-3, 20e-3),
        "sheet.current_continuous": continuous,
        "sheet.current_peak": continuous * rng.uniform(2.2, 5.5),
    }, per_square


def _heat(rng: np.random.Generator, values: Values, per_square: float) -> Values:
    hottest = float(rng.choice([130.0, 155.0, 180.0]))
    loss = per_square * (1 + 0.00393 * (hottest - 20)) * values["sheet.current_continuous"] ** 2
    return {"sheet.temperature_max": hottest, "sheet.thermal_resistance": (hottest - 40) / loss}


def _rotary(kind: str, rng: np.random.Generator) -> tuple[Values, Values]:
    phases, per_amp = (3, 1.5) if kind == "rotary" else (2, 1.0)
    emf = _log(rng, 0.02, 1.5)
    torque = per_amp * emf
    values, per_square = _winding(rng, phases, torque)
    inertia = _log(rng, 1e-3, 12e-3) * torque**2 / (0.5 * phases * values["sheet.resistance"])
    top = _log(rng, 150, 700)
    rated = top * rng.uniform(0.5, 0.95)
    held = torque * values["sheet.current_continuous"]
    pairs = int(rng.integers(2, 12))
    values |= {"sheet.inertia": inertia, "sheet.speed_max": top}
    both = {"sheet.torque_constant": torque, "sheet.back_emf": emf}
    more = {
        "sheet.torque_continuous": held,
        "sheet.torque_peak": torque * values["sheet.current_peak"] * rng.uniform(0.7, 1.0),
        "sheet.motor_constant": torque / math.sqrt(per_square),
        "sheet.time_constant_electrical": values["sheet.inductance"] / values["sheet.resistance"],
        "sheet.time_constant_mechanical": per_square * inertia / torque**2,
        "sheet.speed_rated": rated,
        **_heat(rng, values, per_square),
    }
    if rng.random() < 0.6:
        rated_torque = held * rng.uniform(0.6, 0.95)
        more |= {"sheet.torque_rated": rated_torque, "sheet.power_rated": rated_torque * rated}
    if kind == "rotary":
        values["sheet.poles"] = float(pairs)
        more["sheet.frequency_rated"] = pairs * rated / (2 * math.pi)
        more["sheet.voltage_rated"] = math.sqrt(1.5) * emf * rated / rng.uniform(0.5, 0.95)
    else:
        voltage = emf * top
        more |= {"sheet.voltage_rated": voltage, "sheet.no_load_speed": voltage / emf * rng.uniform(0.93, 0.99)}
    return (values | both, more) if rng.random() < 0.8 else (values | {"sheet.back_emf": emf}, more)


def _straight(kind: str, rng: np.random.Generator) -> tuple[Values, Values]:
    phases, per_amp = (3, 1.5) if kind == "linear" else (2, 1.0)
    emf = _log(rng, 3, 120)
    force = per_amp * emf
    values, per_square = _winding(rng, phases, force)
    held = force * values["sheet.current_continuous"]
    top = _log(rng, 0.5, 6)
    values |= {"sheet.mass_moving": held / top * _log(rng, 5e-3, 0.1), "sheet.velocity_max": top}
    pitch = float(rng.choice([0.012, 0.024, 0.030, 0.032, 0.042, 0.060]))
    if kind == "linear":
        values["sheet.pitch"] = pitch
    both = {"sheet.force_constant": force, "sheet.back_emf_linear": emf}
    more = {
        "sheet.force_continuous": held,
        "sheet.force_peak": force * values["sheet.current_peak"] * rng.uniform(0.7, 1.0),
        "sheet.motor_constant_linear": force / math.sqrt(per_square),
        "sheet.time_constant_electrical": values["sheet.inductance"] / values["sheet.resistance"],
        **_heat(rng, values, per_square),
    }
    if kind == "linear":
        more["sheet.frequency_rated"] = top / pitch
    return values | both, more


def _stepper(kind: str, rng: np.random.Generator) -> tuple[Values, Values]:
    torque = _log(rng, 0.05, 3)
    values, per_square = _winding(rng, 2, torque)
    values |= {
        "sheet.steps": 200.0,
        "sheet.inertia": _log(rng, 2e-3, 20e-3) * torque**2 / values["sheet.resistance"],
        "sheet.speed_max": _log(rng, 50, 250),
        "sheet.torque_constant": torque,
    }
    more = {
        "sheet.holding_torque": torque * values["sheet.current_continuous"],
        "sheet.back_emf": torque,
        "sheet.motor_constant": torque / math.sqrt(per_square),
        "sheet.time_constant_electrical": values["sheet.inductance"] / values["sheet.resistance"],
    }
    return values, more


def _induction(kind: str, rng: np.random.Generator) -> tuple[Values, Values]:
    power, frequency = _log(rng, 400, 30e3), float(rng.choice([50.0, 60.0, 87.0, 100.0]))
    pairs, slip = int(rng.integers(1, 5)), rng.uniform(0.012, 0.06)
    efficiency, factor, voltage = (
        rng.uniform(0.72, 0.93),
        rng.uniform(0.7, 0.9),
        float(rng.choice([230.0, 400.0, 480.0])),
    )
    current = power / (efficiency * factor * math.sqrt(3) * voltage) * math.sqrt(2)
    speed = 2 * math.pi * frequency / pairs * (1 - slip)
    return {
        "sheet.power_rated": power, "sheet.voltage_rated": voltage, "sheet.current_rated": current,
        "sheet.frequency_rated": frequency, "sheet.speed_rated": speed, "sheet.power_factor": factor,
        "sheet.inertia": _log(rng, 1e-3, 0.1), "sheet.speed_max": 1.5 * speed,
    }, {"sheet.torque_rated": power / speed}  # fmt: skip
