"""AXIS.json: what the engineer knows of an axis, each value as printed, with unit and convention."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from cadrel.core.parameters import REGISTRY, Entry, EntryProblem, check_entry, conventions_for, preset_of
from cadrel.exchange.document import load_document
from cadrel.exchange.errors import FileProblem
from cadrel.exchange.schemas import axis_schema


@dataclass(frozen=True, slots=True)
class AxisFile:
    """What an axis file holds."""

    name: str
    comment: str
    values: dict[str, Entry]


def read_axis(text: str | bytes, *, name: str = "axis file") -> AxisFile:
    """Return what an axis file holds. Raises `FileProblem`, nothing half-taken."""
    body = load_document(text, name=name, schema=axis_schema())
    values = checked_entries(body["values"], name=name)
    return AxisFile(str(body.get("name", "")), str(body.get("comment", "")), values)


def checked_entries(raw_values: Mapping[str, Any], *, name: str) -> dict[str, Entry]:
    """Return the entries of a document that its schema has passed. Raises `FileProblem` naming the first bad one."""
    values: dict[str, Entry] = {}
    for key, raw in raw_values.items():
        entry: Entry = {k: v for k, v in raw.items() if k != "note"}  # type: ignore[assignment]
        entry.setdefault("source", "sheet" if key.startswith("sheet.") else "typed")
        values[key] = entry
    for key, entry in values.items():
        try:
            check_entry(key, entry, values)
        except EntryProblem as problem:
            raise FileProblem(name=name, where=f"values / {key}", why=problem.parts[0]) from problem
        p = REGISTRY[key]
        if p.convention and not entry.get("convention") and not preset_of(p, values):
            meant = " or ".join(c.label for c in conventions_for(p, values))
            raise FileProblem(name=name, where=f"values / {key}", why=f"It may be {meant}; say which.")
    return values


def axis_document(name: str, values: Mapping[str, Entry], *, comment: str = "") -> dict[str, Any]:
    """Return the document of an axis; `read_axis` of its JSON gives the same entries."""
    about = {"name": name, "comment": comment} if comment else {"name": name}
    return {"format": "cadrel-axis", "version": 1, **about, "values": {k: dict(v) for k, v in values.items()}}
