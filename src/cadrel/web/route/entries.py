"""Entry forms from the registry: what was typed, what was understood, what is wrong, per field."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cadrel.core.axis import AxisModel
from cadrel.core.parameters import REGISTRY, Entry, EntryProblem, Parameter, check_entry, defaults, of_step
from cadrel.core.quantities import CONVENTIONS, from_si, units_of

# Where the drive's own value follows from the entries, the step shows it as computed instead of asking for it.
HIDDEN = {
    "motor": {"motor."},
    "feedback": {"feedback.counts"},
    "mechanics": set(),
    "power": {"power.undervoltage"},
    "limits": set(),
}
COMPUTED = {"limit.current": "empty: the smaller of motor peak and drive peak"}  # not asked for, but may be set
SHOWN_UNIT = {
    "resistance": "ohm",
    "inductance": "mH",
    "inertia": "kg·cm²",
    "torque_constant": "N·m/A",
    "back_emf": "V·s/rad",
    "speed": "rad/s",
    "flux": "mWb",
}
INNER = {
    "winding": "per phase",
    "sine": "peak of sine",
    "per_sine": "per A peak",
    "back_emf": "per phase, peak",
    "poles": "pole pairs",
}


@dataclass(frozen=True, slots=True)
class Field:
    """One row of a form."""

    parameter: Parameter
    value: str
    unit: str
    units: list[str]
    convention: str
    conventions: list[tuple[str, str]]
    source: str
    problem: str
    understood: str

    @property
    def dom_id(self) -> str:
        """Element id."""
        return "f-" + self.parameter.key.replace(".", "-")


def fields_of(step: str) -> list[Parameter]:
    """Parameters a step asks for."""
    hidden = tuple(HIDDEN.get(step, ()))
    return [p for p in of_step(step) if not p.key.startswith(hidden or ("\0",))]


def parse(step: str, post: Mapping[str, str]) -> tuple[dict[str, Entry | None], dict[str, str]]:
    """Return entries and problems (a sentence by key) of a posted form. Empty and not required: None."""
    entries: dict[str, Entry | None] = {}
    problems: dict[str, str] = {}
    for p in fields_of(step):
        raw = post.get(p.key, "").strip().replace(",", ".")
        if raw == "":
            entries[p.key] = None
            if p.required and p.default is None:
                problems[p.key] = "is empty; type the value as printed."
            continue
        entry: Entry = {"value": raw, "source": "sheet" if p.key.startswith("sheet.") else "typed"}
        if not p.choices:
            entry["unit"] = post.get(f"{p.key}.unit", "") or p.unit or units_of(p.quantity)[0]
            if p.convention:
                entry["convention"] = post.get(f"{p.key}.convention", "") or CONVENTIONS[p.convention][0].key
        try:
            check_entry(p.key, entry)
        except EntryProblem as problem:
            problems[p.key] = str(problem.facts["why"])
        else:
            if not p.choices:
                entry["value"] = float(raw)
        entries[p.key] = entry
    return entries, problems


def form_of(
    step: str, entries: Mapping[str, Entry | None], problems: Mapping[str, str], *, linear: bool
) -> list[Field]:
    """Return the rows of a step's form."""
    base = defaults()
    rows = []
    for p in fields_of(step):
        preset = base.get(p.key) if p.key not in entries and p.key not in COMPUTED else None
        entry = entries.get(p.key) or preset or {}
        value = entry.get("value", "")
        units = _units(p, linear)
        unit = str(entry.get("unit") or (p.unit if p.unit in units else units[0]))
        rows.append(
            Field(
                parameter=p,
                value=_shown(value),
                unit=unit,
                units=units if unit in units else [unit, *units],
                convention=str(entry.get("convention", "")),
                conventions=[(c.key, c.label) for c in CONVENTIONS.get(p.convention or "", ())],
                source=str(entry.get("source", "")),
                problem=problems.get(p.key, ""),
                understood="" if p.key in problems else understood_text(p, entry),
            )
        )
    return rows


def _units(p: Parameter, linear: bool) -> list[str]:
    if p.choices:
        return [""]
    units = units_of(p.quantity)
    if p.quantity.startswith("axis_"):
        rotary = [u for u in units if u.startswith(("°", "rev", "rad", "rpm"))]
        return [u for u in units if u not in rotary] if linear else rotary
    return units


def _shown(value: Any) -> str:
    return f"{value:.6g}" if isinstance(value, float) else str(value)


def understood_text(p: Parameter, entry: Entry) -> str:
    """Return what an entry means inside, where that differs from what is printed."""
    if entry.get("value") in (None, ""):
        return COMPUTED.get(p.key, "")
    if not p.convention:
        return ""
    try:
        si = check_entry(p.key, entry)
    except EntryProblem:
        return ""
    unit = SHOWN_UNIT.get(p.quantity, units_of(p.quantity)[0])
    value = from_si(si, quantity=p.quantity, unit=unit)
    return f"{value:.5g} {unit} {INNER[p.convention]}".replace("  ", " ")


def shown_value(key: str, si: float, axis: AxisModel | None) -> str:
    """Return a drive value in its printed unit, with unit."""
    p = REGISTRY[key]
    if p.choices:
        return dict(p.choices).get(str(round(si)), f"{si:g}")
    unit = p.unit or units_of(p.quantity)[0]
    if p.quantity.startswith("axis_") and axis is not None:
        si /= axis.mechanism.motor_rad_per_load
        unit = _units(p, axis.mechanism.is_linear)[0]
    return f"{from_si(si, quantity=p.quantity, unit=unit):.5g} {unit}".strip()
