"""The motor step."""

import math
from collections.abc import Mapping

from cadrel.core.axis import current_continuous, current_limit, planned_move
from cadrel.core.errors import CadrelError
from cadrel.core.motor import Motor, cable_resistance, check_motor, motor_from_sheet, nameplate_model, reader_of
from cadrel.core.parameters import Entry, is_given
from cadrel.core.power import bus_voltage
from cadrel.web.route.facts.pictures import torque_map
from cadrel.web.route.facts.shape import Facts, Row

RPM = 60 / (2 * math.pi)


def motor_facts(values: Mapping[str, Entry]) -> Facts:
    """Return per-phase values, derived values, checks and the torque-speed map. Raises `CadrelError`."""
    motor = motor_from_sheet(values)
    bus = bus_or_none(values)
    facts = Facts(rows=_winding(motor) + _constants(motor) + _derived(values, motor, bus))
    facts.checks = check_motor(values, bus_voltage=bus)
    if bus:
        facts.pictures.append(_map(values, motor, bus))
    return facts


def bus_or_none(values: Mapping[str, Entry]) -> float | None:
    """Return the nominal bus, or None while the supply is not entered."""
    try:
        return bus_voltage(values)
    except CadrelError:
        return None


def _map(values: Mapping[str, Entry], motor: Motor, bus: float) -> dict[str, object]:
    try:
        plan = planned_move(values)
    except (CadrelError, ArithmeticError, ValueError):
        plan = None
    return torque_map(
        motor,
        bus,
        peak=current_limit(values, motor),
        continuous=current_continuous(values, motor),
        demand=plan.demand if plan else None,
    )


def _winding(motor: Motor) -> list[Row]:
    return [
        (f"Phase resistance at {motor.temperature:.0f} °C", f"{motor.resistance:.4g}", "ohm"),
        ("Phase inductance", f"{1e3 * motor.inductance:.4g}", "mH"),
        ("Electrical time constant", f"{1e3 * motor.electrical_time_constant:.3g}", "ms"),
    ]


def _constants(motor: Motor) -> list[Row]:
    kt, root2 = motor.torque_constant, math.sqrt(2)
    if motor.metres_per_rad is not None:
        kf = motor.torque_constant / motor.metres_per_rad
        if motor.kind == "voice_coil":
            return [("Force per A", f"{kf:.4g}", "N/A")]
        return [
            ("Flux linkage", f"{1e3 * motor.flux_linkage:.4g}", "mWb"),
            ("Force per A peak", f"{kf:.4g}", "N/A"),
            ("Force per A rms", f"{kf * root2:.4g}", "N/A"),
            ("Pitch, N to N", f"{1e3 * 2 * math.pi * motor.metres_per_rad:.5g}", "mm"),
        ]
    if motor.kind == "dc":
        return [("Torque per A", f"{kt:.4g}", "N·m/A")]
    return [
        ("Flux linkage", f"{1e3 * motor.flux_linkage:.4g}", "mWb"),
        ("Pole pairs", f"{motor.pole_pairs}", ""),
        ("Torque per A peak", f"{kt:.4g}", "N·m/A"),
        ("Torque per A rms", f"{kt * root2:.4g}", "N·m/A"),
    ]


def _derived(values: Mapping[str, Entry], motor: Motor, bus: float | None) -> list[Row]:
    si = reader_of(values)
    straight = motor.metres_per_rad
    km = motor.motor_constant / (straight or 1.0)
    rows: list[Row] = [
        ("Motor constant Km", f"{km:.3g}", "N/√W" if straight else "N·m/√W"),
        ("Winding loss, continuous", f"{motor.winding_loss(motor.current_continuous):.3g}", "W"),
    ]
    if not straight and motor.kind != "induction":
        rows.append(("Mechanical time constant", f"{1e3 * motor.mechanical_time_constant:.3g}", "ms"))
    if motor.kind == "rotary":
        rows.append(("Short-circuit current", f"{motor.short_circuit_current / math.sqrt(2):.3g}", "A rms"))
    if motor.kind == "induction":
        rows += _plate(values, motor)
    if bus:
        speed = motor.no_load_speed(bus)
        shown = (f"{speed * straight:.3g}", "m/s") if straight else (f"{speed * RPM:.0f}", "rpm")
        rows.append(("No-load speed at this bus" if motor.kind != "induction" else "Rated flux up to", *shown))
    if motor.reactance_share:
        rows.append(("Electrical frequency at top speed", f"{motor.pole_pairs * motor.speed_max / math.tau:.4g}", "Hz"))
    if si("cable.length") > 0:
        cable = cable_resistance(length=si("cable.length"), section=si("cable.section"))
        rows.append(("of it the cable", f"{cable * (1 if motor.phases == 3 else 2):.3g}", "ohm"))
    if is_given(values, "sheet.thermal_time") and motor.current_peak > motor.current_continuous:
        ratio = (motor.current_continuous / motor.current_peak) ** 2
        rows.append(("Peak current, from cold, for", f"{-si('sheet.thermal_time') * math.log(1 - ratio):.3g}", "s"))
    return rows


def _plate(values: Mapping[str, Entry], motor: Motor) -> list[Row]:
    model = nameplate_model(values)
    return [
        ("Synchronous speed", f"{model.synchronous_speed * RPM:.0f}", "rpm"),
        ("Slip at rated load", f"{100 * model.slip:.2f}", "%"),
        ("Rated torque", f"{model.torque:.4g}", "N·m"),
        ("Efficiency", f"{100 * model.efficiency:.0f}", "%"),
        ("Magnetising current", f"{model.magnetising_current / math.sqrt(2):.3g}", "A rms"),
        ("Rotor time constant", f"{1e3 * model.rotor_time_constant:.3g}", "ms"),
    ]
