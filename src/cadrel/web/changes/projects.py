"""Projects, drives and axes: made, named, copied, laid aside, deleted."""

from typing import Any

from django.db import transaction

from cadrel.core.axis import arriving
from cadrel.core.parameters import REGISTRY
from cadrel.web.accounts.errors import NotPossible
from cadrel.web.accounts.roles import require_administrator, require_engineer
from cadrel.web.projects.models import Axis, Drive, Project, ValueSet
from cadrel.web.runs.models import Event

LONGEST_NAME = 60
LONGEST_MACHINE = 200
LONGEST_NOTES = 5000


def _named(what: str, text: str) -> str:
    name = " ".join(text.split())
    if not name:
        raise NotPossible(what=f"Give the {what} a name.", remedy="Type one.")
    if len(name) > LONGEST_NAME:
        raise NotPossible(what=f"The name of the {what} is too long.", remedy=f"Up to {LONGEST_NAME} letters, please.")
    return name


def _bounded(what: str, text: str, most: int) -> str:
    if len(text) > most:
        raise NotPossible(what=f"The {what} is too long.", remedy=f"Up to {most} letters, please.")
    return text.strip()


def _port(text: str | int) -> int:
    raw = str(text).strip()
    if not (raw.isascii() and raw.isdecimal() and len(raw) < 6 and 0 < int(raw) < 65536):
        raise NotPossible(what="A port is a whole number from 1 to 65535.", remedy="Type it again.")
    return int(raw)


@transaction.atomic
def create_project(
    *, name: str, machine: str, drive: str, host: str, port: int | str, axis: str, remote: str, author: Any
) -> Axis:
    """Make a project with its first drive and axis. Raises `NotPossible`, `PermissionDenied`."""
    require_engineer(author)
    project = Project.objects.create(
        name=_named("project", name), machine=_bounded("machine", machine, LONGEST_MACHINE), author=author
    )
    made = add_drive(project, name=drive, host=host, port=port, author=author)
    return add_axis(made, name=axis, remote=remote, author=author)


@transaction.atomic
def add_drive(project: Project, *, name: str, host: str, port: int | str, author: Any, notes: str = "") -> Drive:
    """Add a drive to a project."""
    require_engineer(author)
    return Drive.objects.create(
        project=project,
        name=_named("drive", name),
        host=_bounded("address", host, 100) or "127.0.0.1",
        port=_port(port),
        notes=_bounded("notes", notes, LONGEST_NOTES),
    )


@transaction.atomic
def add_axis(drive: Drive, *, name: str, remote: str, author: Any, notes: str = "") -> Axis:
    """Add an axis with an empty value set. Raises `NotPossible` if the drive's axis is taken already."""
    require_engineer(author)
    remote = _named("axis in the drive", remote)
    _must_be_free(drive, remote)
    axis = Axis.objects.create(
        drive=drive, name=_named("axis", name), remote=remote, notes=_bounded("notes", notes, LONGEST_NOTES)
    )
    ValueSet.objects.create(axis=axis, number=1, entries={}, cause="axis created", author=author)
    Event.objects.create(axis=axis, who=author, kind="created", text=f"Axis {axis.name} created.")
    return axis


def _must_be_free(drive: Drive, remote: str, *, but: Axis | None = None) -> None:
    taken = Axis.objects.filter(drive=drive, remote=remote, archived=False)
    if but is not None:
        taken = taken.exclude(pk=but.pk)
    other = taken.first()
    if other is not None:
        raise NotPossible(
            what=f"{other.name} is the drive's axis {remote} already.", remedy="Choose another axis of the drive."
        )


@transaction.atomic
def describe_project(project: Project, *, name: str, machine: str, notes: str, author: Any) -> None:
    """Rename a project, and keep its notes."""
    require_engineer(author)
    project.name = _named("project", name)
    project.machine = _bounded("machine", machine, LONGEST_MACHINE)
    project.notes = _bounded("notes", notes, LONGEST_NOTES)
    project.save(update_fields=["name", "machine", "notes"])


@transaction.atomic
def describe_drive(drive: Drive, *, name: str, host: str, port: str, notes: str, author: Any) -> None:
    """Rename a drive, say where it is reached, and keep its notes. Raises `NotPossible` while an axis is connected."""
    require_engineer(author)
    where = (_bounded("address", host, 100) or "127.0.0.1", _port(port))
    if where != (drive.host, drive.port) and drive.axes.filter(connected=True).exists():
        raise NotPossible(what="An axis of the drive is connected.", remedy="Disconnect it first in its Drive step.")
    drive.name, (drive.host, drive.port) = _named("drive", name), where
    drive.notes = _bounded("notes", notes, LONGEST_NOTES)
    drive.save(update_fields=["name", "host", "port", "notes"])


@transaction.atomic
def describe_axis(axis: Axis, *, name: str, notes: str, author: Any, remote: str | None = None) -> None:
    """Rename an axis, keep its notes, and say which axis of the drive it is."""
    require_engineer(author)
    before = axis.name
    if remote is not None and remote.strip() != axis.remote:
        remote = _named("axis in the drive", remote)
        _must_be_free(axis.drive, remote, but=axis)
        if axis.connected:
            raise NotPossible(what=f"{axis.name} is connected.", remedy="Disconnect it first in its Drive step.")
        axis.remote = remote
    axis.name, axis.notes = _named("axis", name), _bounded("notes", notes, LONGEST_NOTES)
    axis.save(update_fields=["name", "notes", "remote"])
    if before != axis.name:
        Event.objects.create(axis=axis, who=author, kind="renamed", text=f"{before} is {axis.name} now.")


@transaction.atomic
def copy_axis(axis: Axis, *, name: str, remote: str, author: Any, drive: Drive | None = None) -> Axis:
    """Make an axis with the values of another: what was found on that one is from elsewhere here, and not proven."""
    made = add_axis(drive or axis.drive, name=name, remote=remote, author=author, notes=axis.notes)
    brought = arriving({}, axis.values, REGISTRY).changes
    entries = {k: e for k, e in brought.items() if e is not None}
    if entries:
        ValueSet.objects.create(
            axis=made, number=2, entries=entries, cause=f"copied from {axis.name}", author=author,
            parent=made.value_sets.first(),
        )  # fmt: skip
    return made


@transaction.atomic
def copy_drive(drive: Drive, *, name: str, author: Any, project: Project | None = None) -> Drive:
    """Make a drive with copies of all its axes."""
    into = project or drive.project
    made = add_drive(into, name=name, host=drive.host, port=drive.port, author=author, notes=drive.notes)
    for axis in drive.axes.filter(archived=False):
        copy_axis(axis, name=axis.name, remote=axis.remote, author=author, drive=made)
    return made


@transaction.atomic
def copy_project(project: Project, *, name: str, author: Any) -> Project:
    """Make a project with copies of all its drives and axes."""
    require_engineer(author)
    made = Project.objects.create(
        name=_named("project", name), machine=project.machine, notes=project.notes, author=author
    )
    for drive in project.drives.all():
        copy_drive(drive, name=drive.name, author=author, project=made)
    return made


@transaction.atomic
def lay_aside(thing: Project | Axis, aside: bool, *, author: Any) -> None:
    """Archive, or take back; what is laid aside is not led and not connected. Raises `NotPossible`."""
    require_engineer(author)
    if aside:
        _must_rest(thing)
    elif isinstance(thing, Axis):
        _must_be_free(thing.drive, thing.remote, but=thing)
    thing.archived = aside
    thing.save(update_fields=["archived"])


@transaction.atomic
def delete(thing: Project | Drive | Axis, *, typed: str, author: Any) -> None:
    """Delete with everything below, runs and all; only an administrator, only with its name typed."""
    require_administrator(author)
    if typed.strip() != thing.name:
        raise NotPossible(what="The name typed is another one.", remedy=f"To delete it, type {thing.name}.")
    _must_rest(thing)
    for axis in axes_of(thing):
        axis.findings.all().delete()  # what refers to runs and value sets goes before them
        axis.verdicts.all().delete()
        axis.plant_parts.all().delete()
        axis.runs.all().delete()
    thing.delete()


def axes_of(thing: Project | Drive | Axis) -> list[Axis]:
    """Return the axes below something."""
    if isinstance(thing, Axis):
        return [thing]
    below = {"drive__project": thing} if isinstance(thing, Project) else {"drive": thing}
    return list(Axis.objects.filter(**below))


def _must_rest(thing: Project | Drive | Axis) -> None:
    for axis in axes_of(thing):
        if axis.connected or axis.jobs.active().exists():
            raise NotPossible(
                what=f"{axis.name} is connected, or a run of it is in progress.",
                remedy="Give control back and disconnect it in its Drive step first.",
            )
