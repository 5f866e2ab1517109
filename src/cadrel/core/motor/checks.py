"""Checks that catch a wrong label: each says the numbers it compared, and which relabelling would make them agree."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from cadrel.core.motor.relabelling import Change, likeliest, ratios_of
from cadrel.core.motor.relations import RPM, Relation
from cadrel.core.motor.sheet import motor_from_sheet
from cadrel.core.motor.winding import Motor
from cadrel.core.parameters import Entry, parameter

USUAL = {"Peak and continuous current": (2.0, 6.0), "Slip": (0.9, 0.995)}  # narrower than what can be
State = Literal["agrees", "look", "wrong"]


@dataclass(frozen=True, slots=True)
class Check:
    """One comparison: what was compared, how it came out, and what would mend it, the likeliest first."""

    title: str
    state: State
    detail: str
    remedies: tuple[tuple[Change, ...], ...] = ()


def check_motor(values: Mapping[str, Entry], *, bus_voltage: float | None = None) -> list[Check]:
    """Return every check that the given entries allow.

    Parameters
    ----------
    values : mapping of key to Entry
        Printed entries of the motor step; must be complete enough for `motor_from_sheet`.
    bus_voltage : float, optional
        DC bus, for the speed check. [V]

    Raises
    ------
    EntryProblem, UnusableInput
        An entry cannot be understood.
    """
    motor = motor_from_sheet(values)
    found = ratios_of(values)
    remedies = likeliest(values, found)
    checks = [_check(relation, sides, remedies) for relation, sides in found if relation.shown]
    hidden = [r for r, sides in found if not r.shown and r.misfit(_ratio(sides)) > 1]
    if hidden and not any(c.state == "wrong" for c in checks):
        said = {c.title for c in checks if c.state != "agrees"}
        checks += [_check(r, s, remedies) for r, s in found if r in hidden and r.title not in said]
    if bus_voltage:
        checks.append(_speed_within_bus(motor, bus_voltage))
    return checks


def _ratio(sides: tuple[float, float]) -> float:
    return sides[0] / sides[1] if sides[1] else float("inf")


def _check(relation: Relation, sides: tuple[float, float], remedies: tuple[tuple[Change, ...], ...]) -> Check:
    ratio = _ratio(sides)
    apart = f"{abs(ratio - 1):.0%} apart" if 0.3 < ratio < 3 else f"a factor of {max(ratio, 1 / ratio):.3g} apart"
    said = relation.text.format(
        left=sides[0] * relation.scale, right=sides[1] * relation.scale, ratio=ratio, apart=apart
    )
    if relation.misfit(ratio) <= 1:
        low, high = USUAL.get(relation.title, (relation.low, relation.high))
        return Check(relation.title, "agrees" if low <= ratio <= high else "look", said)
    mending = tuple(r for r in remedies if any(c.about in relation.keys for c in r))
    if mending:
        said += " They agree if " + ", or if ".join(" and ".join(_words(c) for c in r) for r in mending) + "."
    elif relation.firm:
        said += " No other label makes them agree; look for a slipped digit."
    if mending and all(c.is_heat for c in mending[0]):
        return Check(relation.title, "look", said, mending)  # warm beside cold is explained, not wrong
    return Check(relation.title, "wrong" if relation.firm or mending else "look", said, mending)


def _words(change: Change) -> str:
    label = parameter(change.about).label
    return f"the {label[0].lower()}{label[1:]} is {'in ' if change.field == 'unit' else ''}{change.label}"


def _speed_within_bus(motor: Motor, bus_voltage: float) -> Check:
    title = "Speed at this bus voltage"
    no_load, top = motor.no_load_speed(bus_voltage), motor.speed_max
    if motor.metres_per_rad is not None:
        per, unit = motor.metres_per_rad, "m/s"
    else:
        per, unit = 1 / RPM, "rpm"
    said = f"{bus_voltage:.0f} V lets it reach {no_load * per:.4g} {unit} unloaded; the sheet allows {top * per:.4g}."
    if motor.base_speed is not None:
        said = f"{bus_voltage:.0f} V reaches rated flux up to {no_load * per:.4g} {unit}; above, the field is weakened."
    return Check(title, "agrees" if 0.5 * top <= no_load <= 6 * top else "look", said)
