"""A loop that swings ever wider is noticed within three of its periods, and nothing else is taken for one."""

import math
from collections.abc import Callable
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import pytest

from cadrel.core.motion import move_profile, stroke_sequence
from cadrel.core.parameters import Entry
from cadrel.core.simulation import SimulatedDrive
from cadrel.core.simulation.layout import TICK, TV, fresh_state
from cadrel.core.simulation.oscillation import LOUD, _swings_wider
from cadrel.link import LinkedDrive
from tests.conftest import rig_of
from tests.core.simulation.test_drive import started

Make = Callable[..., tuple[LinkedDrive, SimulatedDrive]]
SWINGS = 80.0  # [Hz] of the shaft below


@pytest.fixture
def springy(make_drive: Make, pusher: dict[str, Entry]) -> tuple[LinkedDrive, SimulatedDrive]:
    """A load of ten times the motor's inertia on a shaft that swings at 80 Hz, and gains made for all of it as one."""
    truth = rig_of("tile-pusher")
    load = 10 * truth.inertia_motor
    both = truth.inertia_motor * load / (truth.inertia_motor + load)
    stiffness = both * (2 * math.pi * SWINGS) ** 2
    truth = replace(
        truth, inertia_load=load, stiffness=stiffness, damping=2 * 0.02 * math.sqrt(stiffness * both), backlash_deg=0.0
    )
    drive, simulated = make_drive(truth)
    wild = {"velocity.gain": 2 * math.pi * 40 * (truth.inertia_motor + load), "velocity.reset_time": 0.04}
    started(drive, truth, pusher, wild)
    return drive, simulated


def record(drive: LinkedDrive, seconds: float, *, kick: bool = True) -> dict[str, np.ndarray]:
    """Stand under velocity control for a while, pushed once; returns what was recorded."""
    drive.enable("velocity", guard_low=-1e3, guard_high=1e3, guard_speed=500)
    drive.arm(["i_q_ref", "velocity", "i_q"], divider=4, samples=round(seconds / (4 * TICK)), pre=0, trigger={})
    if kick:
        drive.run_at(3.0, acceleration=1e4)
    for _ in range(round((seconds + 0.1) / 0.02)):
        drive.beat()
        drive.link.wait(0.02)
    return drive.recording().channels


def when(drive: LinkedDrive, kind: str) -> list[float]:
    return [e["time"] for e in drive.events(0) if e["kind"] == kind]


def test_gains_are_halved_within_50_ms_of_a_swing_that_can_be_noticed(
    springy: tuple[LinkedDrive, SimulatedDrive],
) -> None:
    drive, simulated = springy
    before = drive.read()
    drive.write({"velocity.oscillation_reaction": 2.0})
    begun = simulated.time
    wild = record(drive, 0.6)
    # Left alone it swings up to the limit, and stays there.
    rating = min(before["motor.current_continuous"], simulated.truth.drive_current_continuous)
    assert np.abs(wild["i_q_ref"][-200:]).max() > 0.95 * before["limit.current"]
    assert not when(drive, "gains_halved") and drive.status()["swings"] == 0
    loud = begun + 4 * TICK * np.argmax(np.abs(wild["i_q_ref"]) > LOUD * rating)
    drive.disable()
    drive.link.wait(0.5)
    drive.write({"velocity.oscillation_reaction": 0.0})
    later = simulated.time - begun
    tame = record(drive, 0.6)
    first = when(drive, "gains_halved")[0] - later
    assert first - loud < 0.05, "noticed within 50 ms of drive time"
    status, after = drive.status(), drive.read()
    assert status["mode"] == "velocity" and not status["fault"], "and it goes on"
    assert status["swings"] >= 1
    assert 0.5 * SWINGS < status["swung_hz"] < 8 * SWINGS
    assert first + later <= status["swung_at"] + 1e-9 <= simulated.time
    share = 0.5 ** status["swings"]
    assert after["velocity.gain"] == pytest.approx(share * before["velocity.gain"])
    assert after["velocity.reset_time"] == pytest.approx(before["velocity.reset_time"] / share)
    assert np.std(tame["i_q_ref"][-400:]) < 0.1 * rating


def test_a_drive_told_to_cut_power_does_and_says_why(springy: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, _ = springy
    drive.write({"velocity.oscillation_reaction": 1.0})
    gain = drive.read()["velocity.gain"]
    drive.enable("velocity", guard_low=-1e3, guard_high=1e3, guard_speed=500)
    drive.run_at(3.0, acceleration=1e4)
    for _ in range(30):
        drive.beat()
        drive.link.wait(0.02)
    status = drive.status()
    assert status["mode"] == "off" and status["fault"] == "oscillation"
    assert drive.read()["velocity.gain"] == gain


def test_moves_at_the_limit_steps_and_noise_are_no_swing(make_drive: Make, pusher: dict[str, Entry]) -> None:
    truth = rig_of("tile-pusher")
    drive, simulated = make_drive(truth)
    values = started(drive, truth, pusher)
    drive.enable("position", guard_low=-1e3, guard_high=1e3, guard_speed=500)
    profile = move_profile(
        0.8, velocity=0.9 * values["limit.velocity"], acceleration=values["limit.acceleration"], jerk=1e9
    )
    sequence = stroke_sequence(profile, dwell=0.01, repeats=6)
    drive.run_path(sequence.segments)
    for _ in range(round(sequence.duration / 0.02) + 10):
        drive.beat()
        drive.link.wait(0.02)
    for size in (0.05, -0.05, 0.4):
        drive.excite("position", np.full(400, size), divider=4, repeats=1)
        for _ in range(15):
            drive.beat()
            drive.link.wait(0.02)
    assert drive.status()["swings"] == 0 and drive.status()["mode"] == "position"
    assert simulated.time > 0.5


def noticed_after(current: np.ndarray) -> float | None:
    """Seconds until a current [A] is taken for a swing that grows, by a drive of 4 A continuous and 12 A at most."""
    state = fresh_state(supply_voltage=300.0, theta=0.0, seed=1)
    limits = SimpleNamespace(current_limit=12.0, current_continuous=4.0)
    for k, value in enumerate(current):
        if _swings_wider.py_func(state, limits, float(value)):
            return TV * (k + 1)
    return None


def test_a_current_that_alternates_by_the_sample_for_some_samples_is_no_swing() -> None:
    # What filters made of a step of the command at the limit, as recorded: it is over after ten samples.
    limited = np.array([23.0, -49.0, 78.0, -16.0, 54.0, -5.4, 38.0, -11.0, 23.0, -11.8, 9.0, -4.0])
    assert noticed_after(np.concatenate([limited, np.zeros(400)])) is None


@pytest.mark.parametrize("hz", [25.0, 80.0, 240.0, 600.0])
def test_a_swing_that_doubles_in_20_ms_is_noticed_soon_after_it_is_loud(hz: float) -> None:
    time = TV * np.arange(1200)
    grown = 0.02 * 2 ** (time / 0.02)
    swing = np.clip(grown * np.sin(2 * math.pi * hz * time), -30.0, 30.0)
    found = noticed_after(swing)
    assert found is not None
    loud = float(time[np.argmax(grown > LOUD * 4.0)])
    assert found - loud < max(0.05, 3 / hz)


@pytest.mark.parametrize("hz", [25.0, 80.0, 240.0, 600.0])
def test_a_swing_that_keeps_its_size_or_dies_is_none_that_grows(hz: float) -> None:
    time = TV * np.arange(2000)
    for rate in (0.0, -0.05):
        assert noticed_after(8.0 * 2 ** (rate * time / 0.02) * np.sin(2 * math.pi * hz * time)) is None
