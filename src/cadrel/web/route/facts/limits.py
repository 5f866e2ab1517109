"""The limits and goal step."""

from collections.abc import Mapping

from cadrel.core.axis import check_limits, check_move, current_limit, planned_move, shown_speed, shown_torque
from cadrel.core.parameters import Entry
from cadrel.web.route.facts.motor import bus_or_none
from cadrel.web.route.facts.pictures import profile_picture
from cadrel.web.route.facts.shape import Facts, parted


def limits_facts(values: Mapping[str, Entry]) -> Facts:
    """Return the move within the limits, advice and warnings. Raises `CadrelError`."""
    plan = planned_move(values)
    axis, top = plan.axis, plan.demand.speed_top
    unit, per = axis.mechanism.unit, axis.mechanism.unit_per_rad
    facts = Facts(checks=check_limits(plan, values), pictures=[profile_picture(plan.profile, per, unit)])
    bus = bus_or_none(values)
    if bus:
        facts.checks += check_move(plan, values, bus)
    most = current_limit(values, axis.motor)
    facts.rows = [
        ("Fastest move within the limits", f"{1e3 * plan.profile.duration:.0f}", "ms"),
        ("It reaches", f"{top * per:.4g}", f"{unit}/s"),
        ("Motor speed then", *parted(shown_speed(axis.motor, top))),
        ("It takes, at most", *parted(shown_torque(axis.motor, plan.demand.torque_peak))),
        ("Advised: velocity limit", f"{1.1 * top * per:.4g} to {1.2 * top * per:.4g}", f"{unit}/s"),
        ("Advised: current limit", f"{most:.4g}", "A peak"),
        ("Advised: following-error window", f"{5 * axis.goal.following_error * per:.4g}", unit),
    ]
    return facts
