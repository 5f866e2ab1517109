"""The mechanics step."""

import math
from collections.abc import Mapping

from cadrel.core.axis import check_mechanics, check_move, planned_move, shown_speed, shown_torque
from cadrel.core.errors import CadrelError
from cadrel.core.mechanics import Mechanism, mechanism_from_entries
from cadrel.core.motor import motor_from_sheet
from cadrel.core.parameters import Entry
from cadrel.web.route.facts.motor import bus_or_none
from cadrel.web.route.facts.pictures import mechanism_picture
from cadrel.web.route.facts.shape import Facts, Row, parted


def mechanics_facts(values: Mapping[str, Entry]) -> Facts:
    """Return ratio, reflected inertia, what the move asks, warnings and the mechanism drawn. Raises `CadrelError`."""
    m = mechanism_from_entries(values)
    facts = Facts(pictures=[mechanism_picture(m, values)])
    facts.rows = [
        (
            "Load per motor turn" if m.kind != "linear" else "Travel per electrical turn",
            f"{math.tau * m.unit_per_rad:.5g}",
            m.unit,
        ),
    ]
    if m.kind != "linear":
        facts.rows.append(("Reflected load inertia", f"{1e4 * m.inertia_reflected:.4g}", "kg·cm²"))
    if m.torque_constant_load:
        facts.rows.append(_along("Gravity and counter-force", m.torque_constant_load, m))
    if m.torque_friction:
        facts.rows.append(_along("Friction", m.torque_friction, m))
    try:
        motor = motor_from_sheet(values)
    except CadrelError:
        return facts
    straight = motor.metres_per_rad
    whole = motor.inertia + m.inertia_reflected
    facts.rows += [
        ("Total at the motor", f"{1e4 * whole:.4g}", "kg·cm²")
        if straight is None
        else ("Total mass", f"{whole / straight**2:.4g}", "kg"),
        ("Load to motor", f"{m.inertia_reflected / motor.inertia:.3g} : 1", ""),
    ]
    facts.checks = check_mechanics(values, motor)
    bus = bus_or_none(values)
    try:
        plan = planned_move(values)
    except (CadrelError, ArithmeticError, ValueError):
        return facts
    facts.rows += [
        ("Move: peak of the motor", *parted(shown_torque(motor, plan.demand.torque_peak))),
        ("Move: rms with dwell", *parted(shown_torque(motor, plan.demand.torque_rms))),
        ("Move: top motor speed", *parted(shown_speed(motor, plan.demand.speed_top))),
    ]
    if bus:
        facts.checks += check_move(plan, values, bus)
    return facts


def _along(what: str, torque: float, m: Mechanism) -> Row:
    """A constant pull: at the motor's shaft, or along the path where nothing turns."""
    if m.kind == "linear":
        return what, f"{torque * m.motor_rad_per_load:.3g}", "N"
    return f"{what} at the motor", f"{torque:.3g}", "N·m"
