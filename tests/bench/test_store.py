"""What the stand-in keeps when its process ends."""

import json
from pathlib import Path

from cadrel.bench import DriveService
from cadrel.bench.store import load_permanent, save_permanent
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkedDrive, LocalLink
from tests.conftest import rig_of


def fresh() -> SimulatedDrive:
    return SimulatedDrive("axis", rig_of("tile-pusher"))


def test_stored_values_outlive_the_process_and_unstored_ones_do_not(tmp_path: Path) -> None:
    simulated = fresh()
    service = DriveService({"axis": simulated}, keep=lambda d, v: save_permanent(d, tmp_path, v))
    drive = LinkedDrive(LocalLink(service.answer, service.advance), "axis")
    drive.take_control("test")
    drive.write({"velocity.gain": 0.123})
    drive.store()
    drive.write({"velocity.gain": 0.999})
    again = fresh()
    load_permanent(again, tmp_path)
    assert again.memory.working["velocity.gain"] == 0.123
    assert again.memory.permanent == simulated.memory.permanent


def test_a_broken_or_absent_memory_leaves_factory_values(tmp_path: Path) -> None:
    for text in (None, "{", json.dumps({"no.such": 1.0})):
        if text is not None:
            (tmp_path / "axis.json").write_text(text)
        drive = fresh()
        before = dict(drive.memory.working)
        load_permanent(drive, tmp_path)
        assert drive.memory.working == before
