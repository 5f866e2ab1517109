"""All parameters by key, and the one check of an entered value."""

import math

from cadrel.core.errors import CoreError
from cadrel.core.parameters.goal import GOAL
from cadrel.core.parameters.loops import COMMUTATION, CURRENT, POSITION, VELOCITY
from cadrel.core.parameters.machine import LIMITS, MECHANICS, POWER
from cadrel.core.parameters.parameter import Entry, Parameter
from cadrel.core.parameters.sheet import FEEDBACK, MOTOR
from cadrel.core.quantities import CONVENTIONS, convention_factor, from_si, to_si, units_of

_ALL = (*MOTOR, *FEEDBACK, *MECHANICS, *POWER, *LIMITS, *GOAL, *COMMUTATION, *CURRENT, *VELOCITY, *POSITION)

REGISTRY: dict[str, Parameter] = {p.key: p for p in _ALL}
DRIVE_KEYS: tuple[str, ...] = tuple(p.key for p in _ALL if p.storage == "drive")

if len(REGISTRY) != len(_ALL):
    raise AssertionError("a parameter key is declared twice")


class EntryProblem(CoreError):
    """An entered value cannot be taken; `why` is one sentence for the field."""

    happened = "{label}: {why}"
    means = "The value was not taken."


def parameter(key: str) -> Parameter:
    """Return the parameter of that key. Raises `KeyError`."""
    return REGISTRY[key]


def of_step(step: str) -> list[Parameter]:
    """Return the parameters of a step, in the order of declaration."""
    return [p for p in _ALL if p.step == step]


def defaults() -> dict[str, Entry]:
    """Return an entry for every parameter that has a default, marked as such. The entries are shared: do not alter."""
    return dict(_DEFAULTS)


def _default_entry(p: Parameter) -> Entry:
    if isinstance(p.default, str):
        return {"value": p.default, "source": "default"}
    unit = p.unit or units_of(p.quantity)[0]
    assert p.default is not None
    scaled = p.default if p.quantity.startswith("axis_") else from_si(p.default, quantity=p.quantity, unit=unit)
    entry: Entry = {"value": scaled, "unit": unit, "source": "default"}
    if p.convention:
        entry["convention"] = CONVENTIONS[p.convention][0].key
    return entry


_DEFAULTS = {p.key: _default_entry(p) for p in _ALL if p.default is not None}


def default_drive_values() -> dict[str, float]:
    """Return what a drive holds when it leaves the factory, SI at the motor shaft."""
    return {p.key: float(p.default) for p in _ALL if p.storage == "drive" and p.default is not None}


def check_entry(key: str, entry: Entry) -> float:
    """Return the SI value, after convention, of one entry; for axis quantities SI at the load.

    Raises
    ------
    EntryProblem
        Not a number, not finite, an unknown unit, convention or choice, or out of bounds; `why` says it plainly.
    """
    p = REGISTRY[key]
    value = entry.get("value")
    if p.choices:
        if str(value) not in dict(p.choices):
            raise EntryProblem(label=p.label, why=f"'{value}' is not one of the choices.")
        return float(value) if str(value).isdigit() else 0.0  # type: ignore[arg-type]
    number = _number(p, value)
    unit = entry.get("unit") or p.unit or units_of(p.quantity)[0]
    if unit not in units_of(p.quantity):
        raise EntryProblem(label=p.label, why=f"'{unit}' is not a unit of it; use {', '.join(units_of(p.quantity))}.")
    si = to_si(number, quantity=p.quantity, unit=unit)
    if p.convention:
        convention = entry.get("convention") or CONVENTIONS[p.convention][0].key
        if convention not in [c.key for c in CONVENTIONS[p.convention]]:
            raise EntryProblem(label=p.label, why=f"'{convention}' is not a way to state it.")
        si *= convention_factor(p.convention, convention)
    _check_bounds(p, number, si, unit)
    return si


def _number(p: Parameter, value: object) -> float:
    if value is None or value == "":
        raise EntryProblem(label=p.label, why="is empty; type the value as printed.")
    try:
        number = float(value)  # type: ignore[arg-type]
    except (TypeError, ValueError) as cause:
        raise EntryProblem(label=p.label, why=f"'{value}' is not a number.") from cause
    if not math.isfinite(number):
        raise EntryProblem(label=p.label, why="must be a finite number.")
    return number


def _check_bounds(p: Parameter, number: float, si: float, unit: str) -> None:
    if number < 0 <= p.minimum:
        raise EntryProblem(label=p.label, why="cannot be negative.")
    if number == 0 and p.minimum > 0:
        raise EntryProblem(label=p.label, why="cannot be zero.")
    if p.whole and abs(si - round(si)) > 1e-9:
        raise EntryProblem(label=p.label, why=f"gives {si:g}, which is not a whole number; poles come in pairs.")
    if not p.minimum <= si <= p.maximum:
        bound, word = (p.minimum, "small") if si < p.minimum else (p.maximum, "large")
        shown = number * bound / si if si else bound
        raise EntryProblem(
            label=p.label, why=f"{number:g} {unit} is too {word} to be right; the bound is {shown:.4g} {unit}.".strip()
        )
