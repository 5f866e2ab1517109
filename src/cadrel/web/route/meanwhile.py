"""Two who enter values of one step at the same time: what the other saved meanwhile, and what is kept of both."""

from collections.abc import Mapping
from dataclasses import dataclass

from cadrel.core.parameters import Entry, full_label
from cadrel.core.quantities import CONVENTIONS
from cadrel.web.projects.models import Axis, ValueSet

LABELS = {c.key: c.label for family in CONVENTIONS.values() for c in family}


@dataclass(frozen=True, slots=True)
class Other:
    """A value that another changed while a form was open."""

    label: str
    before: str
    now: str
    mine: str  # what this form says of it, if it says something else


@dataclass(frozen=True, slots=True)
class Meanwhile:
    """What was saved while a form was open, and the form's entries with both changes in them."""

    number: int
    author: str
    others: list[Other]
    entries: dict[str, Entry | None]


def meanwhile(axis: Axis, based_on: int, entries: Mapping[str, Entry | None]) -> Meanwhile | None:
    """Return what changed since the value set a form was drawn from; None if nothing that the form holds did.

    What this form left as it was takes the newer value; what it changed stays as typed.
    """
    newest = axis.latest_set()
    if newest is None or newest.number <= based_on:
        return None
    base = axis.value_sets.filter(number=based_on).first()
    before: Mapping[str, Entry] = base.entries if base else {}
    now: Mapping[str, Entry] = newest.entries
    others, merged = [], dict(entries)
    for key, mine in entries.items():
        was, theirs = before.get(key), now.get(key)
        if _same(was, theirs) or _same(mine, theirs):
            continue
        touched = not _same(mine, was)
        others.append(Other(full_label(key), shown(was), shown(theirs), shown(mine) if touched else ""))
        if not touched:
            merged[key] = theirs
    if not others:
        return None
    return Meanwhile(newest.number, _authors(axis, based_on, newest), others, merged)


def _authors(axis: Axis, based_on: int, newest: ValueSet) -> str:
    made = axis.value_sets.filter(number__gt=based_on).select_related("author")
    return ", ".join(sorted({str(s.author) for s in made} or {str(newest.author)}))


def _same(a: Entry | None, b: Entry | None) -> bool:
    return _said(a) == _said(b)


def _said(entry: Entry | None) -> tuple[object, ...] | None:
    if entry is None or entry.get("value") in (None, ""):
        return None
    value = entry["value"]
    try:
        value = float(value)
    except ValueError:
        value = str(value)
    return (value, entry.get("unit", ""), entry.get("convention", ""))


def shown(entry: Entry | None) -> str:
    """Return an entry as one reads it."""
    if entry is None or entry.get("value") in (None, ""):
        return "empty"
    value = entry["value"]
    number = repr(value).removesuffix(".0") if isinstance(value, float) else str(value)
    convention = LABELS.get(str(entry.get("convention", "")), "")
    return " ".join(part for part in (number, str(entry.get("unit", "")), convention) if part)
