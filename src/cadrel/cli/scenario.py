"""The demonstration's data: a made-up tile-glazing line. Loaded once; made by running the real procedures."""

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from cadrel.bench import DriveService
from cadrel.bench.store import save_permanent
from cadrel.cli.stack import ROOT
from cadrel.core.axis import understand
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.exchange import read_axis
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures import PROCEDURES, Session, in_order
from cadrel.procedures.route import consent_for, load_project_values

AXES = {
    "tile-pusher": "Tile pusher",
    "glaze-table": "Glaze table",
    "reject-gate": "Reject gate",
    "glaze-arm": "Glaze arm",
    "kiln-car-lift": "Kiln-car lift",
    "spray-carriage": "Spray carriage",
}
# axis -> kind of record -> name, maker, part number; all invented
RECORDS = {
    "tile-pusher": {
        "motor": ("QS-6208", "Fernhag", "62-0847"),
        "feedback": ("E25, 2500 lines, Halls", "Fernhag", "25-2500H"),
    },
    "glaze-arm": {"motor": ("RM-71", "Norwend", "RM71.310"), "feedback": ("Resolver in RM-71", "Norwend", "")},
    "kiln-car-lift": {
        "motor": ("SV-90B, with brake", "Norwend", "SV90B.540"),
        "feedback": ("Ring A19", "Halmark", "A19-12"),
    },
    "spray-carriage": {"motor": ("LM-32", "Ostrel", "LM32-06"), "feedback": ("Open scale S20", "Halmark", "S20-1600")},
}


def load_scenario(memory: Path, *, bench_port: int, logins: Sequence[tuple[str, str, str]]) -> None:
    """Make users, the project and its axes, and commission the tile pusher; nothing if it is there already."""
    from cadrel.web.projects.models import Project

    if Project.objects.exists():
        return
    users = make_users(logins)
    engineer = users["engineer"]
    from cadrel.web.changes.projects import add_axis
    from cadrel.web.changes.values import save_entries
    from cadrel.web.projects.models import Drive

    project = Project.objects.create(name="Glazing line 2", machine="Tile glazing, Halde works", author=engineer)
    for name, title in AXES.items():
        drive = Drive.objects.create(
            project=project, name=f"Cabinet A, {title.lower()}", host="127.0.0.1", port=bench_port
        )
        axis = add_axis(drive, name=title, remote=name, author=engineer)
        values = read_axis((ROOT / "demo" / "axes" / f"{name}.json").read_bytes(), name=name).values
        save_entries(axis, values, author=engineer, cause="entered from the sheets")
        keep_in_library(axis, name, who=engineer)
        if name == "tile-pusher":
            commission_into_project(axis, memory, who=engineer)


def keep_in_library(axis: Any, name: str, *, who: Any) -> None:
    """Keep an axis's motor and feedback device as records of the library."""
    from cadrel.web.library.actions import keep_from_axis

    for kind, (title, maker, part) in RECORDS.get(name, {}).items():
        keep_from_axis(axis, kind, name=title, maker=maker, part=part, author=who)


def make_users(logins: Sequence[tuple[str, str, str]]) -> dict[str, Any]:
    """Make the roles and one user for each."""
    from django.contrib.auth.models import Group, User

    made = {}
    for name, password, role in logins:
        group, _ = Group.objects.get_or_create(name=role)
        user = User.objects.create_user(name, password=password)
        user.groups.add(group)
        made[role] = user
    return made


def commission_into_project(axis: Any, memory: Path, *, who: Any) -> None:
    """Run every procedure on a drive in this process and keep runs, findings and decisions as a user would."""
    from cadrel.web.changes.outcomes import keep_outcome, take_proposal
    from cadrel.web.runs.plant import plant_of

    rig = json.loads((ROOT / "demo" / "rigs" / f"{axis.remote}.json").read_text())["truth"]
    simulated = SimulatedDrive(axis.remote, RigTruth.from_dict(rig), seed=5)
    service = DriveService({axis.remote: simulated})
    drive = LinkedDrive(LocalLink(service.answer, service.advance), axis.remote)
    sent = load_project_values(drive, axis.values, owner=who.get_username())
    *loops, acceptance = in_order()
    for procedure in (*loops, PROCEDURES["stops"], acceptance, acceptance):
        key = procedure.key
        before = drive.read()
        session = Session(
            drive=drive,
            axis=understand(axis.values),
            consent=consent_for(key, understand(axis.values), sent),
            plant=plant_of(axis),
        )
        outcome = procedure.run(session)
        proposal = keep_outcome(
            axis, key, outcome, before=before, after=drive.read(), who=who, notes="\n".join(session.notes)
        )
        if proposal is not None:
            take_proposal(proposal, list(outcome.changes), who=who)
    from cadrel.web.rig.actions import wanted_values

    drive.write(wanted_values(axis))  # the project keeps values in printed units: the last digits may differ
    drive.store()
    save_permanent(simulated, memory)
