"""A new value set, and what falls with it."""

from collections.abc import Collection, Mapping
from typing import Any

from django.db import transaction
from django.db.models import Max

from cadrel.core.axis import drive_values, fallen_identified
from cadrel.core.errors import CoreError
from cadrel.core.parameters import (
    ANGLE_RESTS_ON,
    REGISTRY,
    Entry,
    choice_of,
    full_label,
    invalidated_by,
    steps_after,
)
from cadrel.web.projects.models import Axis, ValueSet
from cadrel.web.runs.models import Event, Finding


@transaction.atomic
def save_entries(
    axis: Axis,
    changes: Mapping[str, Entry | None],
    *,
    author: Any,
    cause: str,
    proven_step: str | None = None,
    presets: Collection[str] = (),
) -> ValueSet | None:
    """Make a new value set with the changes, and mark as stale what rested on the old ones.

    Parameters
    ----------
    changes
        Entry by key; None removes one.
    proven_step
        The step whose measurement brought the changes: its own proof and those before it stay, later ones fall.
    presets
        Keys whose entry says what counted without one: written down now, they change nothing that was found.

    Returns
    -------
    ValueSet or None
        None if nothing changed.
    """
    Axis.objects.select_for_update().get(pk=axis.pk)
    axis._latest = None
    parent = axis.latest_set()
    before: dict[str, Entry] = dict(parent.entries) if parent else {}
    after = {k: v for k, v in {**before, **changes}.items() if v is not None}
    _take_validity_back(before, after, changes)
    fallen = [k for k in fallen_identified(before, after) if k not in changes]
    for key in fallen:
        del after[key]  # found on another motor or load: no longer sent to the drive
    changed = [k for k in REGISTRY if k not in presets and _meaning(before.get(k)) != _meaning(after.get(k))]
    if before == after:
        return None
    number = (axis.value_sets.aggregate(n=Max("number"))["n"] or 0) + 1
    made = ValueSet.objects.create(axis=axis, number=number, entries=after, cause=cause, author=author, parent=parent)
    axis._latest = made
    if fallen:
        axis.plant_parts.in_force().update(retired_because="found on another motor or load")
        labels = ", ".join(full_label(k) for k in fallen)
        text = f"Found on another motor or load, and no longer sent: {labels}."
        Event.objects.create(axis=axis, who=author, kind="retired", text=text[:400])
    if changed:
        _mark_stale(axis, changed, proven_step)
        Event.objects.create(
            axis=axis,
            who=author,
            kind="values",
            text=f"{cause}: " + ", ".join(full_label(k) for k in changed[:6]) + (" ..." if len(changed) > 6 else ""),
        )
    return made


def retired_by(axis: Axis) -> str:
    """Return what the newest value set took out of what is sent, as a sentence; empty if nothing."""
    newest = axis.latest_set()
    if newest is None:
        return ""
    event = axis.events.filter(kind="retired", created__gte=newest.created).first()
    return event.text if event else ""


def _take_validity_back(before: Mapping[str, Entry], after: dict[str, Entry], changes: Collection[str]) -> None:
    """With what the rotor angle rests on, its validity goes: closed on it, the motor might run away."""
    if "commutation.valid" in changes or choice_of(after, "commutation.valid") != "1":
        return
    try:
        old, new = drive_values(before), drive_values(after)
    except CoreError:
        return  # incomplete data cannot be sent
    if any(old[k] != new[k] for k in ANGLE_RESTS_ON):
        after["commutation.valid"] = {"value": "0", "source": "computed"}


def _meaning(entry: Entry | None) -> tuple[Any, Any, Any] | None:
    return None if entry is None else (entry.get("value"), entry.get("unit"), entry.get("convention"))


def _mark_stale(axis: Axis, changed: list[str], proven_step: str | None) -> None:
    labels: dict[str, str] = {}
    for key in changed:
        if key.startswith("phasing."):
            continue  # how a run begins; what it found rests on no such setting
        step = REGISTRY[key].step
        fallen = steps_after(proven_step) if proven_step else invalidated_by(step)
        rests = REGISTRY[key].rests
        if rests is not None:  # of a proposal taken by the step that measured it, nothing falls
            fallen = tuple(s for s in rests if s != proven_step)
        for one in fallen:
            labels.setdefault(one, REGISTRY[key].label)
    for step, label in labels.items():
        Finding.objects.filter(axis=axis, step=step).exclude(state="stale").update(
            state="stale", stale_because=f"{label} changed"
        )
