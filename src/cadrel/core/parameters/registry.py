"""All parameters by key, and the one check of an entered value."""

import math
from collections.abc import Mapping

from cadrel.core.errors import CoreError
from cadrel.core.parameters.feedback import FEEDBACK
from cadrel.core.parameters.goal import GOAL
from cadrel.core.parameters.loops import COMMUTATION, CURRENT, HALL_EDGES, INVERTER, POSITION, SIGNALS, VELOCITY
from cadrel.core.parameters.machine import LIMITS, MECHANICS, POWER
from cadrel.core.parameters.motor import MOTOR
from cadrel.core.parameters.parameter import Entry, Parameter
from cadrel.core.quantities import CONVENTIONS, Convention, convention_factor, from_si, to_si, units_of

_ALL = (
    *MOTOR, *FEEDBACK, *MECHANICS, *POWER, *LIMITS, *GOAL, *COMMUTATION, *HALL_EDGES, *SIGNALS, *CURRENT, *INVERTER,
    *VELOCITY, *POSITION,
)  # fmt: skip

REGISTRY: dict[str, Parameter] = {p.key: p for p in _ALL}
DRIVE_KEYS: tuple[str, ...] = tuple(p.key for p in _ALL if p.storage == "drive")
ANGLE_RESTS_ON: tuple[str, ...] = tuple(
    key
    for key in DRIVE_KEYS
    if key.startswith(("motor.pole_pairs", "motor.phase_order", "feedback."))
    and key != "feedback.word_latency"  # a later word is no other angle
)

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
    """Return an entry for every parameter that has a preset, marked as such. The entries are shared: do not alter."""
    return dict(_DEFAULTS)


def _default_entry(p: Parameter) -> Entry:
    if isinstance(p.default, str):
        return {"value": p.default, "source": "default"}
    unit = p.unit or units_of(p.quantity)[0]
    assert p.default is not None
    entry: Entry = {
        "value": from_si(p.default, quantity=p.quantity, unit=unit),
        "unit": unit,
        "source": "default",
    }
    if p.convention:
        entry["convention"] = CONVENTIONS[p.convention][0].key
    return entry


def has_preset(p: Parameter) -> bool:
    """Whether an entry left out counts with the default. At the load none does: no number fits mm and degrees alike."""
    return p.default is not None and not p.quantity.startswith("axis_")


_DEFAULTS = {p.key: _default_entry(p) for p in _ALL if has_preset(p)}


def default_drive_values() -> dict[str, float]:
    """Return what a drive holds when it leaves the factory, SI at the motor shaft."""
    return {p.key: float(p.default) for p in _ALL if p.storage == "drive" and p.default is not None}


def is_given(values: Mapping[str, Entry], key: str) -> bool:
    """Whether a value was entered."""
    return values.get(key, {}).get("value") not in (None, "")


def choice_of(values: Mapping[str, Entry], key: str) -> str:
    """Return the key of the option chosen; the default's where none is, or where it is none of the options."""
    p = REGISTRY[key]
    value = option_of(values.get(key, {}).get("value"))
    return value if value in dict(p.choices) else str(p.default)


def option_of(value: object) -> str:
    """Return the key of an option as it is written; a whole number that was kept as 1.0 is the option 1."""
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)


def applies(p: Parameter, values: Mapping[str, Entry]) -> bool:
    """Whether the choices made call for a parameter."""
    return all(choice_of(values, key) in options for key, options in p.when)


def is_required(p: Parameter, values: Mapping[str, Entry]) -> bool:
    """Whether the work cannot go on without a value."""
    return p.required and not has_preset(p) and applies(p, values)


def units_for(p: Parameter) -> list[str]:
    """Return the printed units of a parameter: its quantity's, and percent where it may be stated of another."""
    return units_of(p.quantity) + (["%", "‰"] if p.relative_to else [])


def conventions_for(p: Parameter, values: Mapping[str, Entry]) -> list[Convention]:
    """Return the conventions that the kind of motor allows, the commonest first."""
    kind = choice_of(values, "sheet.kind")
    return [c for c in CONVENTIONS.get(p.convention or "", ()) if kind in c.kinds]


def preset_of(p: Parameter, values: Mapping[str, Entry]) -> str:
    """Return the convention that is taken where none is said; empty where it must be said.

    Poles and pole pairs are printed equally often, and so are a stepper's currents as rms and as peak: a preset would
    be wrong by two, or by 1.41, on every other sheet.
    """
    allowed = conventions_for(p, values)
    trap = p.convention == "poles" or (p.convention == "sine" and choice_of(values, "sheet.kind") == "stepper")
    return "" if trap or not allowed else allowed[0].key


def check_entry(key: str, entry: Entry, values: Mapping[str, Entry] | None = None) -> float:
    """Return the SI value, after convention, of one entry; for axis quantities SI at the load.

    `values` are the axis's other entries: the kind of motor, and what a percentage is of. Without them a synchronous
    motor is meant.

    Raises
    ------
    EntryProblem
        Not a number, not finite, an unknown unit, convention or choice, or out of bounds; `why` says it plainly.
    """
    p = REGISTRY[key]
    value = entry.get("value")
    if p.choices:
        option = option_of(value)
        if option not in dict(p.choices):
            raise EntryProblem(label=p.label, why=f"'{value}' is not one of the choices.")
        return float(option) if option.isdigit() else 0.0
    number = _number(p, value)
    unit = entry.get("unit") or p.unit or units_of(p.quantity)[0]
    if unit not in units_for(p):
        raise EntryProblem(label=p.label, why=f"'{unit}' is not a unit of it; use {', '.join(units_for(p))}.")
    if unit in RELATIVE and p.relative_to:
        si = _share(p, number * RELATIVE[unit], values or {})
    else:
        si = to_si(number, quantity=p.quantity, unit=unit)
        if p.convention:
            si *= convention_factor(p.convention, _convention(p, entry, values or {}))
    _check_bounds(p, number, si, unit)
    return si


RELATIVE = {"%": 1e-2, "‰": 1e-3}


def _share(p: Parameter, share: float, values: Mapping[str, Entry]) -> float:
    whole = REGISTRY[str(p.relative_to)]
    try:
        return share * check_entry(whole.key, values.get(whole.key, {}), values)
    except EntryProblem as cause:
        raise EntryProblem(label=p.label, why=f"is given in parts of the {whole.label.lower()}; type that.") from cause


def _convention(p: Parameter, entry: Entry, values: Mapping[str, Entry]) -> str:
    allowed = [c.key for c in conventions_for(p, values)]
    convention = entry.get("convention") or (allowed[0] if allowed else CONVENTIONS[str(p.convention)][0].key)
    known = {c.key: c.label for c in CONVENTIONS[str(p.convention)]}
    if convention not in known:
        raise EntryProblem(label=p.label, why=f"'{convention}' is not a way to state it.")
    if convention not in allowed:
        kind = dict(REGISTRY["sheet.kind"].choices)[choice_of(values, "sheet.kind")]
        raise EntryProblem(label=p.label, why=f"'{known[convention]}' does not fit a motor of the kind '{kind}'.")
    return convention


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
    if p.whole and (not math.isfinite(si) or abs(si - round(si)) > 1e-6 * max(1.0, abs(si))):
        hint = "; poles come in pairs" if p.convention == "poles" else ""
        raise EntryProblem(label=p.label, why=f"gives {si:g}, which is not a whole number{hint}.")
    if not p.minimum <= si <= p.maximum:
        bound, word = (p.minimum, "small") if si < p.minimum else (p.maximum, "large")
        shown = _as_printed(p, number, si, bound, unit)
        raise EntryProblem(
            label=p.label, why=f"{number:g} {unit} is too {word} to be right; the bound is {shown:.4g} {unit}.".strip()
        )


def _as_printed(p: Parameter, number: float, si: float, bound: float, unit: str) -> float:
    """The bound as one would have printed it: through the same unit, and the same factor of convention."""
    if unit in units_of(p.quantity):
        plain = to_si(number, quantity=p.quantity, unit=unit)
        factor = si / plain if plain and math.isfinite(plain) else 1.0
        return from_si(bound / factor if factor else bound, quantity=p.quantity, unit=unit)
    return number * bound / si if si else bound
