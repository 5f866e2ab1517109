"""The mechanics step."""

import math
from collections.abc import Mapping

from cadrel.core.axis import check_mechanics, check_move, planned_move
from cadrel.core.errors import CadrelError
from cadrel.core.mechanics import mechanism_from_entries
from cadrel.core.motor import motor_from_sheet
from cadrel.core.parameters import Entry
from cadrel.web.route.facts.motor import bus_or_none
from cadrel.web.route.facts.pictures import mechanism_picture
from cadrel.web.route.facts.shape import Facts


def mechanics_facts(values: Mapping[str, Entry]) -> Facts:
    """Return ratio, reflected inertia, what the move asks, warnings and the mechanism drawn. Raises `CadrelError`."""
    m = mechanism_from_entries(values)
    facts = Facts(pictures=[mechanism_picture(m, values)])
    facts.rows = [
        ("Load per motor turn", f"{math.tau * m.unit_per_rad:.5g}", m.unit),
        ("Reflected load inertia", f"{1e4 * m.inertia_reflected:.4g}", "kg·cm²"),
    ]
    if m.torque_constant_load:
        facts.rows.append(("Gravity and counter-force at the motor", f"{m.torque_constant_load:.3g}", "N·m"))
    if m.torque_friction:
        facts.rows.append(("Friction at the motor", f"{m.torque_friction:.3g}", "N·m"))
    try:
        motor = motor_from_sheet(values)
    except CadrelError:
        return facts
    facts.rows += [
        ("Total at the motor", f"{1e4 * (motor.inertia + m.inertia_reflected):.4g}", "kg·cm²"),
        ("Inertia ratio, load to motor", f"{m.inertia_reflected / motor.inertia:.3g} : 1", ""),
    ]
    facts.checks = check_mechanics(values, motor)
    bus = bus_or_none(values)
    try:
        plan = planned_move(values)
    except (CadrelError, ArithmeticError, ValueError):
        return facts
    facts.rows += [
        ("Move: peak torque", f"{plan.demand.torque_peak:.3g}", "N·m"),
        ("Move: rms torque with dwell", f"{plan.demand.torque_rms:.3g}", "N·m"),
        ("Move: top motor speed", f"{plan.demand.speed_top * 60 / math.tau:.4g}", "rpm"),
    ]
    if bus:
        facts.checks += check_move(plan, values, bus)
    return facts
