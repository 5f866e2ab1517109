"""A bench over TCP, an engineer, and an axis that was connected, led, sent, stored and restarted."""

import threading
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import Group, User
from django.test import Client
from django.utils import timezone

from cadrel.bench.server import BenchServer
from cadrel.bench.service import DriveService
from cadrel.core.control import Gains, TwoMass, Winding, velocity_plant
from cadrel.core.identification import SpringyLoad, TotalLoad
from cadrel.core.response import FrequencyResponse
from cadrel.core.simulation import SimulatedDrive
from cadrel.procedures import Outcome, RunRecord
from cadrel.web.changes.outcomes import keep_outcome
from cadrel.web.changes.projects import create_project
from cadrel.web.changes.values import save_entries
from cadrel.web.jobs.models import WorkerSign
from cadrel.web.projects.models import Axis
from cadrel.web.rig import actions, links
from cadrel.web.rig.actions import wanted_values
from tests.conftest import rig_of, values_of

SEEN = np.geomspace(5, 900, 60)  # [Hz] lines of the plant of an axis that counts as measured


@pytest.fixture(autouse=True)
def folders(settings: Any, tmp_path: Path) -> None:
    """What is kept on disk is this test's own."""
    settings.SPOOL, settings.KNOWN_AXES = tmp_path / "spool", tmp_path / "axes.json"


def client_of(user: User) -> Client:
    client = Client()
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    return client


def text_of(response: Any) -> str:
    """A page's markup, with its lines joined: where a line ends means nothing to a browser."""
    return " ".join(response.content.decode().split())


@pytest.fixture
def bench() -> Iterator[tuple[int, SimulatedDrive]]:
    drive = SimulatedDrive("tile-pusher", rig_of("tile-pusher"), seed=2)
    server = BenchServer(DriveService({"tile-pusher": drive}), 0)
    thread = threading.Thread(target=server.run)
    thread.start()
    yield server.server_address[1], drive
    for link in links._links.values():
        link.close()
    links._links.clear()
    server.shutdown()
    thread.join(timeout=5)


@pytest.fixture
def engineer() -> User:
    user = User.objects.create_user("enno", password="a-long-password")
    user.groups.add(Group.objects.get_or_create(name="engineer")[0])
    return user


@pytest.fixture
def lift(engineer: User) -> Axis:
    """The demonstration's lift as entered, on a drive that nobody reaches."""
    made = create_project(
        name="P", machine="M", drive="D", host="127.0.0.1", port=1, axis="Lift", remote="a", author=engineer
    )
    save_entries(made, values_of("kiln-car-lift"), author=engineer, cause="entered")
    return made


@pytest.fixture
def axis(bench: tuple[int, SimulatedDrive], engineer: User) -> Axis:
    made = create_project(
        name="P",
        machine="",
        drive="D",
        host="127.0.0.1",
        port=bench[0],
        axis="A",
        remote="tile-pusher",
        author=engineer,
    )
    save_entries(made, values_of("tile-pusher"), author=engineer, cause="entered")
    return made


def again(axis: Axis) -> Axis:
    return Axis.objects.select_related("drive", "leader").get(pk=axis.pk)


@pytest.fixture
def led(axis: Axis, engineer: User) -> Axis:
    """Connected, led, sent, stored and restarted."""
    actions.connect(axis, who=engineer)
    actions.take_control(again(axis), who=engineer)
    actions.send_values(again(axis), who=engineer)
    actions.store(again(axis), who=engineer)
    actions.restart(again(axis), who=engineer)
    WorkerSign.objects.create(name="worker", heard=timezone.now() + timedelta(minutes=5))
    return again(axis)


@pytest.fixture
def measured(axis: Axis, engineer: User) -> Axis:
    """The axis with a load and a plant found, as the load and the velocity run would leave them."""
    values = wanted_values(axis)
    load = TwoMass(inertia_motor=2.2e-4, inertia_load=1.4e-4, stiffness=400.0, damping=0.03)
    gains = Gains.from_drive(values, axis.rates)
    value = velocity_plant(load, Winding.from_drive(values), gains, SEEN)
    plant = FrequencyResponse(SEEN, value, np.ones(len(SEEN)), 0.01 * np.abs(value))
    springy = SpringyLoad(load=load, small_signal_resistance=values["motor.resistance"], measured=plant, noise=0.05)
    for step, part in (
        ("load", TotalLoad(inertia=load.inertia, viscous_total=1e-4, coulomb=0.02)),
        ("velocity", springy),
    ):
        run = RunRecord(kind=step, title=step, period=1e-3, channels={"position": np.zeros(4)}, excitation={})
        keep_outcome(axis, step, Outcome(runs=[run], plant=part), before={}, after={}, who=engineer)
    return axis
