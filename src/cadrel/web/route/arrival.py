"""A comparison before values from elsewhere are taken into an axis."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from cadrel.core.axis import Arriving, arriving
from cadrel.core.parameters import REGISTRY, STEPS, Entry, full_label
from cadrel.web.projects.models import Axis
from cadrel.web.route.meanwhile import shown


@dataclass(frozen=True, slots=True)
class Row:
    """One value: what is held, what comes."""

    label: str
    step: str
    before: str
    after: str
    unproven: bool


@dataclass(frozen=True, slots=True)
class Comparison:
    """What taking would do, as the page lists it."""

    title: str
    changing: list[Row]
    staying: list[str]
    untouched: list[str]  # steps of which nothing comes
    unproven: list[str]
    arriving: Arriving


def comparison(axis: Axis, title: str, incoming: Mapping[str, Entry], replaced: Collection[str]) -> Comparison:
    """Return what taking values into an axis would change."""
    made = arriving(axis.values, incoming, replaced)
    held, titles = axis.values, {s.key: s.title for s in STEPS}
    moved = {*made.changed, *made.added, *made.gone}
    rows = [
        Row(
            full_label(key), titles.get(p.step, p.step), _shown(key, held.get(key)), _shown(key, made.changes.get(key)),
            key in made.unproven,
        )
        for key, p in REGISTRY.items()
        if key in moved
    ]  # fmt: skip
    touched = {REGISTRY[k].step for k in replaced} | {REGISTRY[k].step for k in incoming}
    return Comparison(
        title=title,
        changing=rows,
        staying=[full_label(k) for k in made.same],
        untouched=[s.title for s in STEPS if s.key not in touched and any(REGISTRY[k].step == s.key for k in held)],
        unproven=[full_label(k) for k in made.unproven],
        arriving=made,
    )


def _shown(key: str, entry: Entry | None) -> str:
    choices = dict(REGISTRY[key].choices)
    if entry is not None and choices:
        return choices.get(str(entry.get("value")), str(entry.get("value")))
    return shown(entry)
