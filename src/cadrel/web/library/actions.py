"""What changes the library, and what takes from it. One transaction each; no request here."""

from collections.abc import Mapping
from typing import Any

from django.db import transaction
from django.db.models import Max

from cadrel.core.axis import arriving
from cadrel.core.errors import CadrelError
from cadrel.core.parameters import Entry, is_given
from cadrel.exchange import RecordFile, record_keys
from cadrel.web.accounts.roles import require_engineer
from cadrel.web.changes.values import save_entries
from cadrel.web.library.models import Record, Revision, Use
from cadrel.web.projects.models import Axis, ValueSet


class NothingToKeep(CadrelError):
    """The axis holds no value of that kind."""

    happened = "The axis has no value of the {kind} yet."
    means = "Nothing was kept."
    remedy = "Enter the sheet first, and save it."


def entries_of(kind: str, values: Mapping[str, Entry]) -> dict[str, Entry]:
    """Return those entries that belong to a record of a kind."""
    return {p.key: values[p.key] for p in record_keys(kind) if is_given(values, p.key)}


def keys_of(kind: str) -> set[str]:
    """Return the keys that a record of a kind replaces in an axis."""
    return {p.key for p in record_keys(kind)}


@transaction.atomic
def add_record(made: RecordFile, *, author: Any, cause: str) -> Record:
    """Add a record with its first revision."""
    require_engineer(author)
    record = Record.objects.create(
        kind=made.kind, name=made.name or "Unnamed", maker=made.maker, part=made.part, comment=made.comment
    )
    Revision.objects.create(record=record, number=1, entries=dict(made.values), cause=cause, author=author)
    return record


@transaction.atomic
def keep_from_axis(axis: Axis, kind: str, *, name: str, maker: str, part: str, author: Any) -> Record:
    """Make a record of what an axis holds, and note that the axis uses it. Raises `NothingToKeep`."""
    values = entries_of(kind, axis.values)
    if not values:
        raise NothingToKeep(kind=kind)
    record = add_record(
        RecordFile(kind=kind, name=name, maker=maker, part=part, values=values),
        author=author,
        cause=f"kept from {axis}",
    )
    Use.objects.update_or_create(axis=axis, kind=kind, defaults={"revision": record.newest()})
    return record


@transaction.atomic
def revise(record: Record, values: Mapping[str, Entry], *, author: Any, cause: str) -> Revision | None:
    """Add a revision; None if nothing changed. Axes keep what they took."""
    require_engineer(author)
    Record.objects.select_for_update().get(pk=record.pk)
    if record.newest().entries == dict(values):
        return None
    number = (record.revisions.aggregate(n=Max("number"))["n"] or 0) + 1
    return Revision.objects.create(record=record, number=number, entries=dict(values), cause=cause, author=author)


@transaction.atomic
def revise_from_axis(record: Record, axis: Axis, *, author: Any) -> Revision | None:
    """Take an axis's corrected values back into its record. Raises `NothingToKeep`."""
    values = entries_of(record.kind, axis.values)
    if not values:
        raise NothingToKeep(kind=record.kind)
    revision = revise(record, values, author=author, cause=f"corrected on {axis}")
    if revision is not None:
        Use.objects.update_or_create(axis=axis, kind=record.kind, defaults={"revision": revision})
    return revision


@transaction.atomic
def copy_record(record: Record, *, author: Any) -> Record:
    """Make a record of one's own from another."""
    require_engineer(author)
    made = Record.objects.create(
        kind=record.kind,
        name=f"{record.name} (copy)"[:120],
        maker=record.maker,
        part=record.part,
        comment=record.comment,
        copied_from=record,
    )
    Revision.objects.create(
        record=made, number=1, entries=record.newest().entries, cause=f"copied from {record}"[:200], author=author
    )
    return made


@transaction.atomic
def take_into_axis(record: Record, axis: Axis, *, author: Any) -> ValueSet | None:
    """Put the newest revision into an axis: its values replace those of the kind; the rest stays."""
    require_engineer(author)
    revision = record.newest()
    changes = arriving(axis.values, revision.entries, keys_of(record.kind)).changes
    made = save_entries(axis, changes, author=author, cause=f"{record}, revision {revision.number}"[:200])
    Use.objects.update_or_create(axis=axis, kind=record.kind, defaults={"revision": revision})
    return made


def is_altered(use: Use) -> bool:
    """Whether the axis's values are no longer those it took."""
    return entries_of(use.kind, use.axis.values) != use.revision.entries
