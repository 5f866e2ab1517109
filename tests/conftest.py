"""Shared by all tests: a rig, what an engineer knows of it, and a drive in this process."""

import json
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from cadrel.bench import DriveService
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.exchange import read_axis
from cadrel.link import LinkedDrive, LocalLink

DEMO = Path(__file__).resolve().parents[1] / "demo"
RIGS = Path(__file__).resolve().parent / "rigs"

# How fast an example runs, or is drawn, is the machine's affair.
settings.register_profile("any machine", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("any machine")


def rig_of(name: str, **changes: object) -> RigTruth:
    """A rig of the tests' own, kinder than the demonstration's: what is measured on it is held to fine tolerances."""
    truth = json.loads((RIGS / f"{name}.json").read_text())["truth"]
    return RigTruth.from_dict(truth | changes)


def values_of(name: str) -> dict[str, Entry]:
    """What an engineer knows of a demonstration axis."""
    return read_axis((DEMO / "axes" / f"{name}.json").read_bytes()).values


@pytest.fixture
def pusher() -> dict[str, Entry]:
    return values_of("tile-pusher")


@pytest.fixture
def make_drive() -> Callable[..., tuple[LinkedDrive, SimulatedDrive]]:
    """Build a drive around a rig; the client speaks the wire's bytes to it."""

    def make(truth: RigTruth | None = None, seed: int = 1) -> tuple[LinkedDrive, SimulatedDrive]:
        simulated = SimulatedDrive("axis", truth or rig_of("tile-pusher"), seed=seed)
        service = DriveService({"axis": simulated})
        return LinkedDrive(LocalLink(service.answer, service.advance), "axis"), simulated

    return make
