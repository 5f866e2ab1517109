"""What is asked of a loop, and what of it has no slider: typed on the loop's own page."""

from collections.abc import Mapping
from typing import Any

from cadrel.core.parameters import REGISTRY, SECTIONS, Entry, Parameter, check_entry, of_step
from cadrel.core.quantities import from_si, units_of
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from cadrel.web.route.predict import SLIDERS, loop_of


def asked_keys(step: str) -> list[str]:
    """Return the parameters of a loop's step that no slider shows."""
    loop = loop_of(step)
    return [] if loop is None else [p.key for p in of_step(step) if p.key not in SLIDERS[loop]]


def asked_fields(axis: Axis, step: str, wanted: Mapping[str, float]) -> list[dict[str, Any]]:
    """Return label, unit, help and the value now of each, in its printed unit; what is a preset is told as that."""
    fields = []
    for key in asked_keys(step):
        p, entry = REGISTRY[key], axis.values.get(key)
        unit = p.unit or units_of(p.quantity)[0]
        if p.choices:
            shown = _chosen(p, entry, wanted)
        elif entry is not None and entry.get("value") not in (None, ""):
            shown = f"{float(entry['value']):.6g}"
            unit = entry.get("unit") or unit
        else:
            preset = wanted.get(key, p.default)  # what has none is an empty field, not nought
            shown = "" if preset is None else f"{from_si(float(preset), quantity=p.quantity, unit=unit):.6g}"
        fields.append({
            "key": key, "label": p.label, "symbol": p.symbol, "unit": unit, "value": shown, "help": p.help,
            "choices": p.choices,
        })  # fmt: skip
    return fields


def _chosen(p: Parameter, entry: Entry | None, wanted: Mapping[str, float]) -> str:
    """The key of a choice in force: the one kept, the one the drive holds as a number, or the preset."""
    kept = None if entry is None else entry.get("value")
    if kept not in (None, ""):
        return str(kept) if kept in dict(p.choices) else f"{float(str(kept)):.6g}"
    return f"{float(wanted[p.key]):.6g}" if p.key in wanted else str(p.default)


def apart(fields: list[dict[str, Any]]) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
    """Return the fields to be shown one below the other, and the second-order sections as rows of four."""
    prefixes = {n: f"velocity.section{n}_" for n in SECTIONS}
    plain = [f for f in fields if not f["key"].startswith(tuple(prefixes.values()))]
    rows = []
    for n, prefix in prefixes.items():
        own = [f for f in fields if f["key"].startswith(prefix)]
        if own:
            pole = next(f["value"] for f in own if f["key"] == f"{prefix}pole")
            rows.append({"number": n, "fields": own, "is_on": float(pole or 0) > 0})
    return plain, rows


def set_asked(axis: Axis, step: str, typed: Mapping[str, str], *, who: Any) -> list[str]:
    """Keep what was typed; returns the keys that changed. Raises `EntryProblem`, and nothing is kept."""
    entries: dict[str, Entry | None] = {}
    for key in asked_keys(step):
        text = typed.get(key, "").strip().replace(",", ".")
        if not text:
            continue
        p, before = REGISTRY[key], axis.values.get(key)
        unit = (before or {}).get("unit") or p.unit or units_of(p.quantity)[0]
        entry: Entry = {"value": text, "source": "typed"}
        if not p.choices:
            entry["unit"] = unit
        check_entry(key, entry, axis.values)
        if not p.choices:  # of a choice its key is kept, as it is written
            entry["value"] = float(text)
        if before is None or before.get("value") != entry["value"]:
            entries[key] = entry
    if entries:
        save_entries(axis, entries, author=who, cause=f"asked of the {step} loop")
    return list(entries)
