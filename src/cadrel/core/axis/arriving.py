"""Values that come from elsewhere: a file, a sister axis, the library. They replace the parts they bring, whole.

What is evidence on the axis it was found on is none here: an identified value is kept as one from elsewhere, and the
rotor angle has to be found or confirmed on this axis before anything is closed on it.
"""

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from cadrel.core.parameters import REGISTRY, Entry

CONFIRMED_HERE = ("commutation.valid",)  # says of this very axis that something was seen on it
FOUND = ("identified", "elsewhere")


@dataclass(frozen=True, slots=True)
class Arriving:
    """What taking values from elsewhere would do, by key.

    Attributes
    ----------
    changes
        What to save: an entry, or None where one goes.
    changed, added, gone, same
        Keys by what becomes of them.
    unproven
        Keys whose values were found on another axis.
    """

    changes: dict[str, Entry | None]
    changed: list[str]
    added: list[str]
    gone: list[str]
    same: list[str]
    unproven: list[str]


def parts_of(incoming: Collection[str]) -> set[str]:
    """Return all keys of the steps from which anything comes: those parts are replaced whole."""
    steps = {REGISTRY[k].step for k in incoming}
    return {k for k, p in REGISTRY.items() if p.step in steps}


def arriving(held: Mapping[str, Entry], incoming: Mapping[str, Entry], replaced: Collection[str]) -> Arriving:
    """Return what taking `incoming` into an axis would do; of `replaced` nothing of before stays."""
    values: dict[str, Entry] = {}
    unproven = []
    for key, raw in incoming.items():
        entry: Entry = {**raw}
        if entry.get("source") in FOUND:
            entry["source"] = "elsewhere"
            unproven.append(key)
        elif entry.get("source") == "computed":
            entry["source"] = "typed"
        if key in CONFIRMED_HERE and entry.get("value") == "1":
            entry = {"value": "0", "source": "computed"}
            unproven.append(key)
        values[key] = entry
    said = {k: _said(e) for k, e in values.items()}
    before = {k: _said(e) for k, e in held.items()}
    changes: dict[str, Entry | None] = {k: None for k in replaced if k in held and k not in values}
    changes |= values
    both = [k for k in REGISTRY if k in said and k in before]
    return Arriving(
        changes=changes,
        changed=[k for k in both if said[k] != before[k]],
        added=[k for k in REGISTRY if k in said and k not in before],
        gone=[k for k in REGISTRY if k in changes and changes[k] is None],
        same=[k for k in both if said[k] == before[k]],
        unproven=[k for k in REGISTRY if k in unproven],
    )


def _said(entry: Entry) -> tuple[object, object, object]:
    value = entry.get("value")
    return (
        float(value) if isinstance(value, int | float) else value,
        entry.get("unit", ""),
        entry.get("convention", ""),
    )
