"""The worker's sign of life: it beats for a run that speaks, and ends with the worker, however that ends."""

import json
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator

import pytest

from cadrel.bench import DriveService
from cadrel.bench.server import BenchServer
from cadrel.core.simulation import SimulatedDrive
from cadrel.link.heart import SILENT, Heart, Patient, Sight
from tests.conftest import rig_of

WORKER = """
import json, sys, time
from cadrel.link.heart import Heart, Patient
heart = Heart()
heart.begin("1", Patient(**json.loads(sys.argv[1])))
print("begun", flush=True)
while True:
    heart.spoke("1")
    time.sleep(0.2)
"""
HANGS = WORKER.split("while True", maxsplit=1)[0] + "time.sleep(600)"


@pytest.fixture
def drive() -> Iterator[tuple[SimulatedDrive, int]]:
    made = SimulatedDrive("axis", rig_of("tile-pusher"))
    server = BenchServer(DriveService({"axis": made}), 0)
    thread = threading.Thread(target=server.run)
    thread.start()
    yield made, server.server_address[1]
    server.shutdown()
    thread.join(timeout=5)


def patient_of(drive: SimulatedDrive, port: int) -> Patient:
    lease = drive.take_control("worker")
    consent = drive.give_consent("run", until=drive.time + 20)
    return Patient(host="127.0.0.1", port=port, secret="", axis="axis", lease=lease, consent=consent)


def told_of(patient: Patient) -> str:
    return json.dumps({name: getattr(patient, name) for name in Patient.__slots__})


def silent(drive: SimulatedDrive) -> float:
    """Drive time since the run was last heard."""
    shown = drive.status()["consent"]
    return 99.0 if shown is None else float(shown["silent"])


def until(is_so: object, seconds: float = 60.0) -> None:
    end = time.monotonic() + seconds
    while not is_so():  # type: ignore[operator]
        assert time.monotonic() < end
        time.sleep(0.02)


def test_it_beats_until_the_run_ends(drive: tuple[SimulatedDrive, int]) -> None:
    heart = Heart()
    try:
        heart.begin("7", patient_of(*drive))
        until(lambda: drive[0].time > 3.0 and silent(drive[0]) < 0.5)
        heart.end("7")
        until(lambda: silent(drive[0]) > 0.8)
    finally:
        heart.close()


def test_a_killed_heart_is_started_again_at_the_next_word(drive: tuple[SimulatedDrive, int]) -> None:
    heart = Heart()
    try:
        heart.begin("7", patient_of(*drive))
        assert heart._process is not None
        heart._process.kill()
        heart._process.wait()
        heart._spoken.clear()
        heart.spoke("7")
        until(lambda: drive[0].time > 3.0 and silent(drive[0]) < 0.5)
    finally:
        heart.close()


def test_a_run_that_says_nothing_any_more_is_heard_no_more_either(drive: tuple[SimulatedDrive, int]) -> None:
    told = told_of(patient_of(*drive))
    with subprocess.Popen([sys.executable, "-c", HANGS, told], stdout=subprocess.PIPE) as worker:
        assert worker.stdout is not None
        worker.stdout.readline()
        until(lambda: drive[0].time > SILENT - 1.0 and silent(drive[0]) < 0.5)
        until(lambda: silent(drive[0]) > 1.0)
        worker.kill()


def test_only_the_time_in_which_a_process_could_have_spoken_counts_as_silence() -> None:
    before = Sight(at=10.0, runs=True, computed=3.0, wants=True)
    # It waited for something: it could have spoken all the while.
    assert Sight(at=12.0, runs=True, computed=3.1, wants=False).could_speak(before) == 2.0
    # It was given a twentieth of a processor and wants more.
    assert Sight(at=12.0, runs=True, computed=3.1, wants=True).could_speak(before) == pytest.approx(0.1)
    # It computes on several processors at once.
    assert Sight(at=12.0, runs=True, computed=7.0, wants=True).could_speak(before) == 2.0


def test_what_is_seen_of_a_process_is_what_it_does() -> None:
    busy = [sys.executable, "-c", "print('on', flush=True)\nwhile True: pass"]
    with subprocess.Popen(busy, stdout=subprocess.PIPE) as worker:
        assert worker.stdout is not None
        worker.stdout.readline()
        first = Sight.of(worker.pid)
        until(lambda: Sight.of(worker.pid).computed > first.computed + 0.2)
        assert first.runs and Sight.of(worker.pid).wants
        os.kill(worker.pid, signal.SIGSTOP)
        until(lambda: not Sight.of(worker.pid).runs)
        worker.kill()
    assert not Sight.of(worker.pid).runs
    with subprocess.Popen([sys.executable, "-c", "input()"], stdin=subprocess.PIPE) as idle:
        until(lambda: not Sight.of(idle.pid).wants)
        assert Sight.of(idle.pid).runs
        idle.kill()


@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGSTOP])
def test_a_worker_that_is_killed_or_frozen_is_heard_no_more(drive: tuple[SimulatedDrive, int], how: int) -> None:
    command = [sys.executable, "-c", WORKER, told_of(patient_of(*drive))]
    with subprocess.Popen(command, stdout=subprocess.PIPE) as worker:
        assert worker.stdout is not None
        worker.stdout.readline()
        until(lambda: drive[0].time > 2.0 and silent(drive[0]) < 0.3)
        os.kill(worker.pid, how)
        until(lambda: silent(drive[0]) > 1.0)
        os.kill(worker.pid, signal.SIGKILL)
