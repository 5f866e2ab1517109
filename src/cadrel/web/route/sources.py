"""Where the sheet and what was identified differ: both, which one is sent, and one action to change that."""

from collections.abc import Mapping
from typing import Any

from cadrel.core.axis import SHOWN, entry_from_drive, from_the_sheet
from cadrel.core.errors import CoreError
from cadrel.core.parameters import REGISTRY, Entry, check_entry
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from cadrel.web.projects.understanding import model_or_none
from cadrel.web.rig.errors import NotReady
from cadrel.web.route.entries import shown_value

# Kind of the finding that a drive value may come from.
FOUND_AS = {
    "motor.resistance": "resistance",
    "motor.inductance": "inductance",
    "motor.flux_linkage": "flux",
    "load.inertia": "load",
}


def sources_of(axis: Axis) -> list[dict[str, Any]]:
    """Return a row for each value that was identified: sheet, found with its run, and which one is sent."""
    model = model_or_none(axis)
    if model is None:
        return []
    try:
        sheet = from_the_sheet(axis.values)
    except CoreError:
        return []
    found = {f.kind: f for f in axis.findings.with_run().filter(kind__in=FOUND_AS.values()).exclude(state="stale")}
    rows = []
    for key in SHOWN:
        finding, entry = found.get(FOUND_AS[key]), axis.values.get(key)
        if finding is None and entry is None:
            continue
        sent = sheet[key] if entry is None else check_entry(key, entry, axis.values)
        rows.append(
            {
                "key": key, "label": REGISTRY[key].label, "symbol": REGISTRY[key].symbol,
                "sheet": shown_value(key, sheet[key], model), "finding": finding,
                "found": "–" if finding is None else shown_value(key, finding.value, model),
                "sent": shown_value(key, sent, model),
                "source": "sheet" if entry is None else str(entry.get("source", "typed")),
            }
        )  # fmt: skip
    return rows


def choose_source(axis: Axis, key: str, source: str, *, who: Any) -> str:
    """Send the sheet's value, or what was found. Raises `NotReady` if there is no such choice."""
    if key not in FOUND_AS or source not in ("sheet", "found"):
        raise NotReady(what="There is no such choice.", remedy="Choose one that the page offers.")
    changes: Mapping[str, Entry | None] = {key: None}
    finding = axis.findings.filter(kind=FOUND_AS[key]).exclude(state="stale").first()
    if source == "found":
        if finding is None:
            raise NotReady(what="Nothing that holds was found of it.", remedy="Identify it first.")
        changes = {key: entry_from_drive(key, finding.value, axis=axis.understood)}
    label = REGISTRY[key].label
    cause = f"{label} from the {'sheet' if source == 'sheet' else 'finding'}"
    # What was found stays found, whichever is sent; what rests on the value that is sent falls.
    save_entries(axis, changes, author=who, cause=cause, proven_step=finding.step if finding else None)
    return f"{label}: {'the sheet' if source == 'sheet' else 'what was found'} counts now. Send it in the Drive step."
