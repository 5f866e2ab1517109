"""Entry forms from the registry: what was typed, what was understood, what is wrong, per field."""

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cadrel.core.axis import AxisModel, is_needed
from cadrel.core.parameters import (
    REGISTRY,
    Entry,
    EntryProblem,
    Parameter,
    applies,
    check_entry,
    choice_of,
    conventions_for,
    defaults,
    is_required,
    of_step,
    option_of,
    preset_of,
    units_for,
)
from cadrel.core.quantities import UnreadableCell, from_si, read_printed, units_of

# Where the drive's own value follows from the entries, the step shows it as computed instead of asking for it.
HIDDEN = {
    "motor": {"motor."},
    "feedback": {
        "feedback.counts",
        "feedback.device",
        "feedback.periods",
        "feedback.word_",
        "feedback.second_counts",
        "feedback.position_device",
    },
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
    "back_emf_linear": "V·s/m",
    "force_constant": "N/A",
    "speed": "rad/s",
    "flux": "mWb",
    "length": "mm",
}
INNER = {
    "winding": "per phase",
    "sine": "peak of sine",
    "per_sine": "per A peak",
    "back_emf": "per phase, peak",
    "poles": "pole pairs",
    "pitch": "a pair of poles",
    "holding": "at a vector of rated current",
}
DIRECT_INNER = {"winding": "", "sine": "", "per_sine": "per A", "back_emf": ""}  # dc: nothing to convert


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
    needed: bool = True

    @property
    def dom_id(self) -> str:
        """Element id."""
        return "f-" + self.parameter.key.replace(".", "-")


def fields_of(step: str, values: Mapping[str, Entry]) -> list[Parameter]:
    """Parameters a step asks for under the choices made, what is needed first."""
    hidden = tuple(HIDDEN.get(step, ()))
    asked = [p for p in of_step(step) if not p.key.startswith(hidden or ("\0",)) and applies(p, values)]
    return sorted(asked, key=lambda p: not is_needed(p, values))


def with_choices(step: str, values: Mapping[str, Entry], post: Mapping[str, str]) -> dict[str, Entry]:
    """Return the entries with the choices of a posted form in force: they decide what else is asked."""
    chosen: dict[str, Entry] = dict(values)
    for p in of_step(step):
        if p.choices and post.get(p.key) in dict(p.choices):
            chosen[p.key] = {"value": post[p.key], "source": "typed"}
    return chosen


def parse(
    step: str, post: Mapping[str, str], values: Mapping[str, Entry]
) -> tuple[dict[str, Entry | None], dict[str, str]]:
    """Return entries and problems (a sentence by key) of a posted form. Empty and not required: None.

    `values` are the axis's entries. What the choices made do not call for is left as it is.
    """
    chosen = with_choices(step, values, post)
    entries: dict[str, Entry | None] = {}
    problems: dict[str, str] = {}
    for p in fields_of(step, chosen):
        if p.key not in post and (p.key in values or not is_required(p, chosen)):
            continue  # the form did not hold it: it stays as it is
        raw = post.get(p.key, "").strip()
        if raw == "":
            entries[p.key] = None
            if is_required(p, chosen):
                problems[p.key] = "is empty; type the value as printed."
            continue
        entry = _entry(p, raw, post, chosen)
        entries[p.key] = entry
        if not p.choices:
            try:
                _take_printed(p, raw, entry, chosen)
            except UnreadableCell as cell:
                problems[p.key] = str(cell.facts["why"])
            if p.key not in problems and entry.get("convention") == "":
                meant = " or ".join(c.label for c in conventions_for(p, chosen))
                problems[p.key] = f"may be {meant}; say which the sheet prints."
    together: dict[str, Entry] = {**chosen, **{k: e for k, e in entries.items() if e is not None}}
    for key, made in entries.items():
        if made is None or key in problems:
            continue
        try:
            check_entry(key, made, together)
        except EntryProblem as problem:
            problems[key] = str(problem.facts["why"])
        else:
            if not REGISTRY[key].choices:
                made["value"] = float(made["value"])
    return entries, problems


def changed_by(entries: Mapping[str, Entry | None], values: Mapping[str, Entry]) -> dict[str, Entry | None]:
    """Return what of a form's entries says something else than what is written already, which keeps its source."""
    return {k: e for k, e in entries.items() if e is None or k not in values or not _says(k, e, values[k], values)}


def presets_among(entries: Mapping[str, Entry | None], values: Mapping[str, Entry]) -> set[str]:
    """Return the keys of a form's entries that were not written yet, and say what counted without them."""
    base = defaults()
    presets = {k: base[k] for k in entries if k not in values and k in base and k not in COMPUTED}
    return {k for k, preset in presets.items() if _says(k, entries[k], preset, values)}


def _says(key: str, entry: Entry | None, other: Entry, values: Mapping[str, Entry]) -> bool:
    """Whether two entries say the same: number, unit and convention, or choice."""
    p = REGISTRY[key]
    if entry is None or other.get("value") in (None, ""):
        return entry is None and other.get("value") in (None, "")
    if p.choices:
        return option_of(other["value"]) == option_of(entry["value"])

    def said(e: Entry) -> tuple[float, str, str]:
        unit = str(e.get("unit") or p.unit or units_of(p.quantity)[0])
        return float(e["value"]), unit, str(e.get("convention") or preset_of(p, values))

    try:
        return said(other) == said(entry)
    except ValueError:  # what was kept is no number: what is typed now is a change
        return False


def _take_printed(p: Parameter, raw: str, entry: Entry, chosen: Mapping[str, Entry]) -> None:
    """Take number, unit and convention of a cell typed or pasted as printed; what it does not say stays as chosen.

    Raises
    ------
    UnreadableCell
        It cannot be read, or in two ways.
    """
    labels = {c.key: c.label for c in conventions_for(p, chosen)}
    printed = read_printed(raw, quantity=p.quantity, units=units_for(p), conventions=labels)
    entry["value"] = printed.value
    if printed.unit is not None:
        entry["unit"] = printed.unit
    if printed.convention is not None:
        entry["convention"] = printed.convention


def _entry(p: Parameter, raw: str, post: Mapping[str, str], chosen: Mapping[str, Entry]) -> Entry:
    entry: Entry = {"value": raw, "source": "sheet" if p.key.startswith("sheet.") else "typed"}
    if not p.choices:
        entry["unit"] = post.get(f"{p.key}.unit", "") or p.unit or units_of(p.quantity)[0]
        allowed = [c.key for c in conventions_for(p, chosen)]
        if allowed:
            told = post.get(f"{p.key}.convention", "")
            # The kind of motor may just have been changed, and the old convention with it.
            fits = told in allowed or (told and choice_of(chosen, "sheet.kind") == post.get("sheet.kind.before", ""))
            entry["convention"] = told if fits else preset_of(p, chosen)
    return entry


def form_of(
    step: str,
    entries: Mapping[str, Entry | None],
    problems: Mapping[str, str],
    *,
    values: Mapping[str, Entry],
) -> list[Field]:
    """Return the rows of a step's form; `values` decide what is asked, `entries` fill it."""
    base = defaults()
    linear = choice_of(values, "sheet.kind") in ("linear", "voice_coil") or (
        choice_of(values, "mechanics.kind") != "rotary"
    )
    rows = []
    for p in fields_of(step, values):
        if p.key in entries:
            entry = entries[p.key] or {}
        else:  # the form did not hold it, as another choice asked for other things: it is as it was
            entry = values.get(p.key) or ({} if p.key in COMPUTED else base.get(p.key)) or {}
        units = _units(p, linear)
        unit = str(entry.get("unit") or (p.unit if p.unit in units else units[0]))
        allowed = conventions_for(p, values)
        rows.append(
            Field(
                parameter=p,
                value=_shown(entry.get("value", "")),
                unit=unit,
                units=units if unit in units else [unit, *units],
                convention=str(entry.get("convention") or preset_of(p, values)),
                conventions=[(c.key, c.label) for c in allowed],
                source=str(entry.get("source", "")),
                problem=problems.get(p.key, ""),
                understood="" if p.key in problems else understood_text(p, entry, values),
                needed=is_needed(p, values),
            )
        )
    return rows


def first_to_fill(fields: list[Field]) -> str:
    """Return the key of the field to begin with: the first one that is wrong, or needed and still empty."""
    wrong = next((f for f in fields if f.problem), None)
    empty = next((f for f in fields if f.needed and not f.value), None)
    first = wrong or empty
    return first.parameter.key if first else ""


def asked_of(fields: list[Field]) -> str:
    """Return a mark of which fields a form holds, with which conventions: if it changes the form is drawn anew."""
    return hashlib.sha1(
        "|".join(f"{f.parameter.key}:{len(f.conventions)}:{'/'.join(f.units)}" for f in fields).encode()
    ).hexdigest()[:12]


def _units(p: Parameter, linear: bool) -> list[str]:
    if p.choices:
        return [""]
    units = units_for(p)
    if p.quantity.startswith("axis_"):
        rotary = [u for u in units if u.startswith(("°", "rev", "rad", "rpm"))]
        return [u for u in units if u not in rotary] if linear else rotary
    return units


def _shown(value: Any) -> str:
    return repr(value).removesuffix(".0") if isinstance(value, float) else str(value)


def understood_text(p: Parameter, entry: Entry, values: Mapping[str, Entry]) -> str:
    """Return what an entry means inside, where that differs from what is printed."""
    if entry.get("value") in (None, ""):
        return COMPUTED.get(p.key, "needed" if is_required(p, values) else p.improves)
    relative = entry.get("unit") in ("%", "‰") and p.relative_to
    if not p.convention and not relative:
        return ""
    try:
        si = check_entry(p.key, entry, values)
    except EntryProblem:
        return ""
    unit = SHOWN_UNIT.get(p.quantity, units_of(p.quantity)[0])
    value = from_si(si, quantity=p.quantity, unit=unit)
    direct = choice_of(values, "sheet.kind") in ("dc", "voice_coil")
    inner = (DIRECT_INNER if direct else INNER).get(p.convention or "", "")
    return f"{value:.5g} {unit} {inner}".replace("  ", " ").strip()


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
