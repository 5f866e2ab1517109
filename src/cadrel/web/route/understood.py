"""The right half of an entry step: what was understood, checks, derived values, pictures."""

import json
import math
from collections.abc import Mapping
from functools import lru_cache
from typing import Any

import numpy as np

from cadrel.core.axis import AxisModel, bus_voltage, understand
from cadrel.core.errors import CadrelError
from cadrel.core.mechanics import mechanism_from_entries
from cadrel.core.motion import move_profile, sample_profile
from cadrel.core.motor import Motor, check_motor, motor_from_sheet, torque_speed_envelope
from cadrel.core.parameters import Entry, check_entry, defaults

RPM = 60 / (2 * math.pi)
Rows = list[tuple[str, str, str]]


def understood_of(step: str, values: Mapping[str, Entry]) -> dict[str, Any]:
    """Return rows (label, value, unit), checks and a picture for a step; `problem` says why there are none."""
    return _understood(step, json.dumps(values, sort_keys=True))


@lru_cache(maxsize=256)
def _understood(step: str, text: str) -> dict[str, Any]:
    """As above, by the entries' text: every page shows the whole route, and values change far less often than pages."""
    values: dict[str, Entry] = json.loads(text)
    builder = {"motor": _motor, "feedback": _feedback, "mechanics": _mechanics, "power": _power, "limits": _limits}[
        step
    ]
    try:
        return {"rows": [], "checks": [], "picture": None, "problem": None, **builder({**defaults(), **values})}
    except CadrelError as error:
        return {"rows": [], "checks": [], "picture": None, "problem": error.parts[0]}


def _bus(values: Mapping[str, Entry]) -> float | None:
    try:
        return bus_voltage(values)
    except CadrelError:
        return None


def _motor(values: Mapping[str, Entry]) -> dict[str, Any]:
    motor = motor_from_sheet(values)
    bus = _bus(values)
    rows: Rows = [
        ("Phase resistance", f"{motor.resistance:.4g}", "ohm"),
        ("Phase inductance", f"{1e3 * motor.inductance:.4g}", "mH"),
        ("Flux linkage", f"{1e3 * motor.flux_linkage:.4g}", "mWb"),
        ("Pole pairs", f"{motor.pole_pairs}", ""),
        ("Torque per A peak", f"{motor.torque_constant:.4g}", "N·m/A"),
        ("Torque per A rms", f"{motor.torque_constant * math.sqrt(2):.4g}", "N·m/A"),
        ("Motor constant Km", f"{motor.motor_constant:.3g}", "N·m/√W"),
        ("Electrical time constant", f"{1e3 * motor.electrical_time_constant:.3g}", "ms"),
        ("Mechanical time constant", f"{1e3 * motor.mechanical_time_constant:.3g}", "ms"),
        ("Short-circuit current", f"{motor.short_circuit_current / math.sqrt(2):.3g}", "A rms"),
        ("Winding loss, continuous", f"{motor.winding_loss(motor.current_continuous):.3g}", "W"),
    ]
    if bus:
        rows.append(("No-load speed at this bus", f"{motor.no_load_speed(bus) * RPM:.0f}", "rpm"))
    return {
        "rows": rows,
        "checks": check_motor(values, bus_voltage=bus),
        "picture": _torque_map(motor, bus) if bus else None,
    }


def _torque_map(motor: Motor, bus: float) -> dict[str, Any]:
    """Torque over speed as SVG points, with axes to match."""
    top = min(motor.no_load_speed(bus), 1.05 * motor.speed_max)
    speed = np.linspace(0, top, 60)
    peak = torque_speed_envelope(motor, speed, current=motor.current_peak, bus_voltage=bus)
    held = torque_speed_envelope(motor, speed, current=motor.current_continuous, bus_voltage=bus)
    high = 1.08 * float(peak.max())
    left, width, base, height = 46.0, 440.0, 196.0, 180.0

    def points(torque: np.ndarray) -> str:
        inner = " ".join(
            f"{left + width * s / top:.1f},{base - height * t / high:.1f}" for s, t in zip(speed, torque, strict=True)
        )
        return f"{left},{base} {inner} {left + width},{base}"

    return {
        "kind": "torque",
        "peak": points(peak),
        "continuous": points(held),
        "x": [(f"{left + width * k / 4:.0f}", f"{top * RPM * k / 4:.0f}") for k in range(5)],
        "y": [(f"{base - height * k / 3:.0f}", f"{high * k / 3:.3g}") for k in range(4)],
    }


def _feedback(values: Mapping[str, Entry]) -> dict[str, Any]:
    lines = check_entry("feedback.lines", values.get("feedback.lines", {}))
    counts = 4 * lines
    rows: Rows = [
        ("Counts per motor revolution", f"{counts:.0f}", ""),
        ("One count", f"{360 / counts:.3g}", "° of the shaft"),
        ("Speed of one count per velocity sample", f"{60 / counts / 250e-6:.3g}", "rpm"),
    ]
    checks = []
    try:
        mechanism = mechanism_from_entries(values)
        one = 2 * math.pi / counts * mechanism.unit_per_rad
        rows.append(("One count at the load", f"{one:.3g}", mechanism.unit))
        top = check_entry("sheet.speed_max", values.get("sheet.speed_max", {}))
        rate = top / (2 * math.pi) * counts
        limit = check_entry("feedback.edge_rate_max", values["feedback.edge_rate_max"])
        rows.append(("Edge rate at the motor's top speed", f"{rate / 1e3:.4g}", "kHz"))
        checks.append(
            {
                "title": "Edge rate",
                "state": "agrees" if rate <= limit else "wrong",
                "detail": f"{rate / 1e3:.0f} kHz at top speed; the input stands {limit / 1e3:.0f} kHz.",
            }
        )
        pairs = check_entry("sheet.poles", values.get("sheet.poles", {}))
        rows.append(("One count, electrical", f"{360 * pairs / counts:.3g}", "°"))
        checks.append(
            {
                "title": "Angle resolution",
                "state": "agrees" if counts / pairs >= 400 else "look",
                "detail": f"{counts / pairs:.0f} counts make one electrical turn; 400 or more keep torque smooth.",
            }
        )
    except CadrelError:
        checks.append(
            {
                "title": "Edge rate and load unit",
                "state": "look",
                "detail": "Shown once motor and mechanics are entered.",
            }
        )
    halls = str(values["feedback.halls"].get("value")) == "1"
    return {"rows": rows, "checks": checks, "picture": {"kind": "halls"} if halls else None}


def _mechanics(values: Mapping[str, Entry]) -> dict[str, Any]:
    m = mechanism_from_entries(values)
    rows: Rows = [
        ("Load per motor turn", f"{2 * math.pi * m.unit_per_rad:.5g}", m.unit),
        ("Reflected load inertia", f"{1e4 * m.inertia_reflected:.4g}", "kg·cm²"),
    ]
    checks = []
    try:
        rotor = check_entry("sheet.inertia", values.get("sheet.inertia", {}))
        ratio = m.inertia_reflected / rotor
        rows += [
            ("Total at the motor", f"{1e4 * (rotor + m.inertia_reflected):.4g}", "kg·cm²"),
            ("Inertia ratio, load to motor", f"{ratio:.3g} : 1", ""),
        ]
        state = "agrees" if ratio <= 10 else ("look" if ratio < 100 else "wrong")
        tail = "" if ratio <= 10 else " Is the gear entered upside down?" if ratio >= 100 else " More can be tuned."
        checks.append(
            {"title": "Inertia ratio", "state": state, "detail": f"{ratio:.3g} : 1; up to 10 : 1 is comfortable.{tail}"}
        )
    except CadrelError:
        pass
    return {"rows": rows, "checks": checks}


def _power(values: Mapping[str, Entry]) -> dict[str, Any]:
    bus = bus_voltage(values)
    rows: Rows = [
        ("Nominal DC bus", f"{bus:.0f}", "V"),
        ("Undervoltage threshold", f"{0.7 * bus:.0f}", "V"),
        ("Largest phase voltage", f"{bus / math.sqrt(3):.0f}", "V peak"),
    ]
    checks = []
    resistor = check_entry("power.brake_resistor", values["power.brake_resistor"])
    if resistor:
        rows.append(("Brake resistor, peak power", f"{bus**2 * 1.37 / resistor / 1e3:.3g}", "kW"))
    try:
        motor = motor_from_sheet(values)
        m = mechanism_from_entries(values)
        speed = check_entry("limit.velocity", values.get("limit.velocity", {})) * m.motor_rad_per_load
        energy = 0.5 * (motor.inertia + m.inertia_reflected) * speed**2
        rows.append(("Kinetic energy at the velocity limit", f"{energy:.3g}", "J"))
        room = 0.5 * 560e-6 * ((1.17 * bus) ** 2 - bus**2)
        state = "agrees" if resistor or energy < room else "look"
        checks.append(
            {
                "title": "Braking energy",
                "state": state,
                "detail": f"{energy:.3g} J come back from full speed; a 560 µF bus takes about {room:.3g} J. "
                + ("A resistor is fitted." if resistor else "No resistor is entered."),
            }
        )
    except CadrelError:
        pass
    return {"rows": rows, "checks": checks}


def _limits(values: Mapping[str, Entry]) -> dict[str, Any]:
    axis = understand(values)
    scale = axis.mechanism.motor_rad_per_load

    def motor_side(key: str) -> float:
        return check_entry(key, values[key]) * scale

    v, a, j = motor_side("limit.velocity"), motor_side("limit.acceleration"), motor_side("limit.jerk")
    profile = move_profile(axis.goal.distance, velocity=v, acceleration=a, jerk=j)
    torque = axis.inertia * a
    peak = axis.motor.torque_constant * axis.motor.current_peak
    unit, per = axis.mechanism.unit, axis.mechanism.unit_per_rad
    top = float(sample_profile(profile, np.linspace(0, profile.duration, 400))[1].max())
    rows: Rows = [
        ("Fastest move within the limits", f"{1e3 * profile.duration:.0f}", "ms"),
        ("It reaches", f"{top * per:.4g}", f"{unit}/s"),
        ("Motor speed then", f"{top * RPM:.0f}", "rpm"),
        ("Torque for the acceleration", f"{torque:.3g}", "N·m"),
        ("Peak torque of the motor", f"{peak:.3g}", "N·m"),
    ]
    counts = axis.goal.window / (2 * math.pi / axis.counts_per_rev)
    checks = [
        _check(
            "Move time",
            profile.duration <= axis.goal.move_time,
            f"The limits allow {1e3 * profile.duration:.0f} ms; the goal is {1e3 * axis.goal.move_time:.0f} ms.",
        ),
        _check(
            "Velocity limit",
            1.05 * top <= v or top < 0.999 * v,
            f"The move reaches {top * per:.4g} {unit}/s, the limit is {v * per:.4g}; 10 to 20 % above is usual.",
        ),
        _check(
            "Torque",
            torque < 0.7 * peak,
            f"The acceleration takes {100 * torque / peak:.0f} % of peak torque; leave a third in reserve.",
        ),
        _check(
            "Motor speed",
            v <= axis.motor.speed_max,
            f"The velocity limit is {v * RPM:.0f} rpm at the motor; it stands {axis.motor.speed_max * RPM:.0f}.",
        ),
        _check("Window", counts >= 2, f"The window is {counts:.1f} counts of the encoder; two or more can be met."),
    ]
    return {"rows": rows, "checks": checks, "picture": _profile_picture(axis, profile)}


def _check(title: str, good: bool, detail: str) -> dict[str, str]:
    return {"title": title, "state": "agrees" if good else "look", "detail": detail}


def _profile_picture(axis: AxisModel, profile: Any) -> dict[str, Any]:
    t = np.linspace(0, profile.duration, 120)
    x, v, _ = sample_profile(profile, t) * axis.mechanism.unit_per_rad
    left, width, base, height = 46.0, 440.0, 196.0, 180.0

    def points(y: np.ndarray) -> str:
        return " ".join(
            f"{left + width * a / t[-1]:.1f},{base - height * b / (1.05 * y.max()):.1f}"
            for a, b in zip(t, y, strict=True)
        )

    return {
        "kind": "profile",
        "position": points(x),
        "velocity": points(v),
        "x": [(f"{left + width * k / 4:.0f}", f"{250 * t[-1] * k:.0f}") for k in range(5)],
        "top_position": f"{x.max():.4g} {axis.mechanism.unit}",
        "top_velocity": f"{v.max():.4g} {axis.mechanism.unit}/s",
    }
