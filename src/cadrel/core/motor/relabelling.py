"""Which label, changed, makes the sheet's numbers agree."""

import itertools
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Literal

from cadrel.core.errors import CoreError
from cadrel.core.motor.relations import RELATIONS, Relation
from cadrel.core.motor.sheet import reader_of
from cadrel.core.parameters import Entry, conventions_for, is_given, parameter, units_for

UNIT_PRICE = 0.6  # a wrong convention is likelier than a wrong unit
HEAT_PRICE = 0.0  # and a resistance printed warm is nearly as likely as a wrong convention
WARM = "100"  # [°C] at which sheets print it then
CHANGE_PRICE = 2.0  # and one wrong label likelier than two
CLOSE = 0.35  # scores that near cannot be told apart: both are offered
MOST = 2  # offers
Ratios = list[tuple[Relation, tuple[float, float]]]


@dataclass(frozen=True, slots=True, order=True)
class Change:
    """One label of one entry, and what it would be instead."""

    key: str
    field: Literal["convention", "unit", "value"]
    value: str
    label: str

    @property
    def is_heat(self) -> bool:
        """Whether it says only that something is printed warm: no error of a label."""
        return self.field == "value"

    @property
    def about(self) -> str:
        """Key of the entry whose meaning it changes."""
        return "sheet.resistance" if self.is_heat else self.key

    def applied(self, values: Mapping[str, Entry]) -> dict[str, Entry]:
        """Return the entries with the label changed."""
        if self.is_heat:
            return {**values, self.key: {"value": float(self.value), "unit": "°C", "source": "typed"}}
        return {**values, self.key: {**values[self.key], self.field: self.value}}  # type: ignore[misc]


def ratios_of(values: Mapping[str, Entry]) -> Ratios:
    """Return every relation that can be evaluated, with its two sides."""
    si = reader_of(values)
    found: Ratios = []
    for relation in RELATIONS:
        if relation.applies(values):
            try:
                found.append((relation, relation.sides(si)))
            except (CoreError, ArithmeticError):
                continue  # an entry that cannot be understood has its own sentence beside the field
    return found


def _misfits(ratios: Ratios) -> dict[int, float]:
    return {id(r): r.misfit(a / b if b else float("inf")) for r, (a, b) in ratios}


def likeliest(values: Mapping[str, Entry], ratios: Ratios) -> tuple[tuple[Change, ...], ...]:
    """Return up to two relabellings that mend what disagrees and break nothing, the likeliest first.

    Notes
    -----
    Tried are all single labels, then, if none mends everything, all pairs of conventions. A relabelling counts if
    nothing that agreed disagrees after it and if it mends at least one relation; the fewest left disagreeing win, then
    the smallest sum of squared misfits over all relations, each in half-widths of what agrees.
    """
    before = _misfits(ratios)
    bad = {k for k, m in before.items() if m > 1}
    if not bad:
        return ()
    keys = {k for r, _ in ratios if id(r) in bad for k in r.keys}
    singles = list(_candidates(values, keys))
    offers = [o for c in singles if (o := _score(values, (c,), before, bad))]
    if not any(left == 0 for left, _, _ in offers):
        near = {k for r, _ in ratios if keys & set(r.keys) for k in r.keys}
        second = [c for c in _candidates(values, near) if c.field == "convention"]
        first = [c for c in second if c.key in keys]
        pairs = {tuple(sorted(p)) for p in itertools.product(first, second) if p[0].key != p[1].key}
        offers += [o for p in sorted(pairs) if (o := _score(values, p, before, bad))]
    if not offers:
        return ()
    fewest = min(left for left, _, _ in offers)
    best = sorted((score, changes) for left, score, changes in offers if left == fewest)
    return tuple(changes for score, changes in best[:MOST] if score <= best[0][0] + CLOSE)


def _score(
    values: Mapping[str, Entry], changes: tuple[Change, ...], before: dict[int, float], bad: set[int]
) -> tuple[int, float, tuple[Change, ...]] | None:
    altered: Mapping[str, Entry] = values
    for change in changes:
        altered = change.applied(altered)
    after = _misfits(ratios_of(altered))
    if set(after) != set(before) or any(m > 1 and before[k] <= 1 for k, m in after.items()):
        return None
    left = sum(m > 1 for m in after.values())
    if left >= len(bad) or (left and any(c.field == "unit" for c in changes)):
        return None  # a unit that mends only half is a slipped digit rather
    price = CHANGE_PRICE * (len(changes) - 1) + UNIT_PRICE * sum(c.field == "unit" for c in changes)
    price += HEAT_PRICE * sum(c.is_heat for c in changes)
    return left, sum(m * m for m in after.values()) + price, changes


def _candidates(values: Mapping[str, Entry], keys: set[str]) -> Iterator[Change]:
    for key in sorted(keys):
        if not is_given(values, key):
            continue
        p, entry = parameter(key), values[key]
        if key == "sheet.resistance" and not is_given(values, "sheet.resistance_at"):
            yield Change("sheet.resistance_at", "value", WARM, f"printed at {WARM} °C")
        for convention in conventions_for(p, values):
            if convention.key != (entry.get("convention") or conventions_for(p, values)[0].key):
                yield Change(key, "convention", convention.key, convention.label)
        units = units_for(p)
        for unit in units:
            if unit != (entry.get("unit") or p.unit or units[0]) and unit not in ("%", "‰", ""):
                yield Change(key, "unit", unit, unit)
