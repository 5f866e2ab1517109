"""The feedback devices of the stand-in: what arrives is the shaft's angle, with the imperfections asked for."""

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest

from cadrel.core.errors import UnusableInput
from cadrel.core.simulation import FAULTS, RigTruth, SimulatedDrive, plant_of, wired
from cadrel.core.simulation.refused import DriveRefused
from cadrel.procedures.route import load_project_values
from tests.conftest import rig_of, values_of

DEVICE_CODE = {"incremental": 0.0, "sincos": 1.0, "resolver": 2.0, "serial": 3.0, "halls": 4.0}


def word_values(truth: RigTruth) -> dict[str, float]:
    """What the drive has to know of a serial word to read it."""
    return {
        "feedback.word_length": float(truth.word_bits), "feedback.word_skip": float(truth.trailing_bits),
        "feedback.word_checksum": {"none": 0.0, "parity": 1.0, "crc6": 6.0}[truth.word_checksum],
        "feedback.word_gray": float(truth.word_coding == "gray"),
        "feedback.word_error": float(truth.word_flags >= 1), "feedback.word_warning": float(truth.word_flags >= 2),
    }  # fmt: skip


def drive_with(truth: RigTruth, **values: float) -> SimulatedDrive:
    """A drive set to the rig's device, restarted so that the setting is in force."""
    drive = SimulatedDrive("axis", truth, seed=4)
    counts = {
        "incremental": 4.0 * truth.encoder_lines, "sincos": 256.0 * truth.encoder_lines,
        "resolver": 4096.0 * truth.resolver_pairs, "serial": 2.0**truth.single_turn_bits,
        "halls": 6.0 * truth.pole_pairs,
    }[truth.device]  # fmt: skip
    periods = {"resolver": truth.resolver_pairs, "sincos": truth.encoder_lines}.get(truth.device, 1)
    drive.write(
        {
            "motor.pole_pairs": float(truth.pole_pairs), "feedback.device": DEVICE_CODE[truth.device],
            "feedback.counts": counts, "feedback.periods": float(periods),
            **word_values(truth), **values,
        }
    )  # fmt: skip
    drive.store()
    drive.restart()
    return drive


def turned(drive: SimulatedDrive, angle: float) -> float:
    """Angle the drive saw while a hand turned the shaft. [rad]"""
    before = drive.status()["position"]
    drive.turn_by_hand(angle, 2.0)
    drive.advance(2.3)
    return float(drive.status()["position"] - before)


@pytest.mark.parametrize("device", DEVICE_CODE)
@pytest.mark.parametrize("angle", [5.0, -5.0])
def test_every_device_counts_the_angle_the_shaft_turns(device: str, angle: float) -> None:
    drive = drive_with(rig_of("tile-pusher", device=device))
    before = drive.running.state.theta1
    seen, true = turned(drive, angle), drive.running.state.theta1 - before
    assert seen == pytest.approx(true, abs=math.radians(15.1) if device == "halls" else math.radians(0.5))
    assert abs(true) > 4.5


@pytest.mark.parametrize("device", ["resolver", "serial"])
def test_an_absolute_device_tells_the_same_angle_after_a_power_cycle(device: str) -> None:
    drive = drive_with(rig_of("tile-pusher", device=device))
    turned(drive, 1.3)
    before = drive.status()["counts"]
    drive.power_switch(on=False)
    drive.power_switch(on=True)
    per_turn = drive.memory.working["feedback.counts"]
    assert abs((drive.status()["counts"] - before + per_turn / 2) % per_turn - per_turn / 2) <= 3


def test_an_incremental_device_tells_nothing_after_a_power_cycle() -> None:
    drive = drive_with(rig_of("tile-pusher"))
    turned(drive, 1.3)
    drive.power_switch(on=False)
    drive.power_switch(on=True)
    assert drive.status()["counts"] == 0
    assert drive.status()["angle_quality"] == "unknown"


def test_a_drive_set_to_another_device_reads_nothing_and_says_so() -> None:
    drive = drive_with(rig_of("tile-pusher", device="resolver"), **{"feedback.device": 3.0})
    assert "a serial device, but nothing answers" in " ".join(b["text"] for b in drive.blockers("vector"))


def test_a_resolver_off_its_excitation_phase_is_weaker_by_the_cosine() -> None:
    full = SimulatedDrive("a", rig_of("tile-pusher", device="resolver", signal_noise=0.0), seed=1).raw()
    weak = SimulatedDrive(
        "a", rig_of("tile-pusher", device="resolver", signal_noise=0.0, excitation_phase_deg=60), seed=1
    ).raw()
    assert math.hypot(weak["cos"], weak["sin"]) == pytest.approx(0.5 * math.hypot(full["cos"], full["sin"]), rel=1e-6)
    dead = drive_with(rig_of("tile-pusher", device="resolver", excitation_phase_deg=80))
    assert any(b["code"] == "signals" for b in dead.blockers("vector"))


def test_line_errors_are_counted_and_more_than_tolerated_trip_the_drive() -> None:
    drive = drive_with(rig_of("tile-pusher", device="serial", word_error_rate=0.02))
    drive.advance(0.5)
    raw = drive.raw()
    assert raw["word_errors"] / raw["words"] == pytest.approx(0.02, abs=0.008)
    drive.take_control("test")
    drive.write({"power.undervoltage": 100.0})
    drive.check_lease(drive.lease)
    while drive.blockers("vector"):  # between two bad words it lets itself be enabled
        drive.advance(0.001)
    drive.enable("vector", guard_low=-1e9, guard_high=1e9, guard_speed=1e9)
    drive.advance(0.3)
    assert drive.fault == "feedback_error"


def test_play_is_lost_once_at_each_reversal() -> None:
    play = math.radians(4)
    drive = drive_with(rig_of("tile-pusher", coupling_play=play))
    turned(drive, 1.0)
    before = drive.running.state.theta1
    seen, true = turned(drive, -1.0), drive.running.state.theta1 - before
    assert seen - true == pytest.approx(play, abs=math.radians(0.3))


def test_slip_loses_forward_motion_only() -> None:
    drive = drive_with(rig_of("tile-pusher", coupling_slip=0.1))
    before = drive.running.state.theta1
    forward, true = turned(drive, 2.0), drive.running.state.theta1 - before
    assert forward == pytest.approx(0.9 * true, abs=0.02)
    before = drive.running.state.theta1
    back, true = turned(drive, -2.0), drive.running.state.theta1 - before
    assert back == pytest.approx(true, abs=0.02)


def test_the_brake_holds_with_the_power_off_and_gives_way_to_current() -> None:
    held = rig_of("tile-pusher", torque_load=1.0, brake_torque=5.0)
    drive = drive_with(held, **{"limit.current": 8.0, "motor.current_peak": 12.0, "current.gain": 10.0})
    before = drive.running.state.theta1
    drive.advance(0.5)
    assert drive.running.state.theta1 == pytest.approx(before, abs=1e-6)
    free = drive_with(replace(held, brake_torque=0.0))
    before = free.running.state.theta1
    free.advance(0.5)
    assert free.running.state.theta1 - before > 1.0


@pytest.mark.parametrize("code", FAULTS)
def test_every_fault_changes_the_rig_it_befalls(code: str) -> None:
    device = FAULTS[code].devices[0]
    truth = rig_of("tile-pusher", device=device, halls_fitted=True)
    changed = wired(replace(truth, faults=(code,)))
    assert changed != truth
    assert changed.faults == ()
    rng = np.random.default_rng(1)
    a, b = plant_of(truth, rng=rng), plant_of(changed, rng=rng)
    assert a.plant != b.plant


def test_two_faults_that_undo_each_other_leave_the_direction_as_it_was() -> None:
    truth = rig_of("tile-pusher", faults=["ab_swapped", "mounted_reversed"])
    assert wired(truth).encoder_inverted is False


@pytest.mark.parametrize("faults", [["no_such"], ["sincos_swapped"]])
def test_a_fault_the_rig_cannot_have_is_refused_with_those_it_can(faults: list[str]) -> None:
    with pytest.raises(UnusableInput, match="phases_swapped"):
        SimulatedDrive("axis", rig_of("tile-pusher", faults=faults))


def test_rewiring_needs_the_power_stage_off_and_leaves_the_shaft_where_it_is(
    make_drive: Callable[..., tuple[object, SimulatedDrive]],
) -> None:
    _, drive = make_drive(rig_of("tile-pusher"))
    before = drive.running.state.theta1
    drive.rewire({"coulomb_load": 0.5}, ["phases_swapped"])
    assert drive.truth.phases_swapped
    assert drive.running.state.theta1 == before
    assert drive.wiring()["rig"]["faults"] == ("phases_swapped",)
    drive.running.state.mode = 1
    with pytest.raises(DriveRefused, match="power stage off"):
        drive.rewire({}, [])


def test_a_held_vector_that_is_not_renewed_loses_its_current(
    make_drive: Callable[..., tuple[object, SimulatedDrive]],
) -> None:
    client, drive = make_drive(rig_of("tile-pusher"))
    load_project_values(client, values_of("tile-pusher"), owner="test")  # type: ignore[arg-type]
    drive.check_lease(drive.lease)
    drive.enable("vector", guard_low=-1e9, guard_high=1e9, guard_speed=1e9)
    drive.motion.vector(angle=20.0, rate=5.0, current=2.0, rise=20.0, held=True)
    drive.advance(0.08)
    assert drive.running.state.vec_current > 1.0
    drive.advance(0.1)
    assert drive.running.state.vec_current == 0.0
    stood = drive.running.state.vec_angle
    drive.advance(0.1)
    assert drive.running.state.vec_angle == stood


def test_a_vector_let_go_stops_where_it_is_at_once(make_drive: Callable[..., tuple[object, SimulatedDrive]]) -> None:
    client, drive = make_drive(rig_of("tile-pusher"))
    load_project_values(client, values_of("tile-pusher"), owner="test")  # type: ignore[arg-type]
    drive.check_lease(drive.lease)
    drive.enable("vector", guard_low=-1e9, guard_high=1e9, guard_speed=1e9)
    drive.motion.vector(angle=20.0, rate=5.0, current=2.0, rise=20.0, acceleration=5.0, held=True, holder="a press")
    drive.advance(0.08)
    stood = drive.status()["vector_angle"]
    assert 0 < stood < 1
    drive.motion.release_vector(holder="a press")
    with pytest.raises(DriveRefused, match="let go"):  # a beat that the release has overtaken
        drive.motion.vector(angle=20.0, rate=5.0, current=2.0, rise=20.0, held=True, holder="a press")
    drive.advance(0.01)
    assert drive.running.state.vec_current == 0.0
    drive.advance(0.3)
    assert drive.status()["vector_angle"] == stood


def test_a_hall_edge_crossed_back_and_forth_is_no_speed() -> None:
    truth = rig_of("tile-pusher", device="halls", hall_hysteresis_deg=0.5)
    drive = drive_with(truth)
    while drive.status()["counts"] == 0:  # to an edge
        drive.turn_by_hand(math.radians(2) / truth.pole_pairs, 0.05)
        drive.advance(0.1)
    fastest = 0.0
    for way in (-1, 1, -1, 1):  # two degrees to and fro in 20 ms: 1.7 rad/s, where a sector in that time would be 13
        drive.turn_by_hand(way * math.radians(2) / truth.pole_pairs, 0.02)
        for _ in range(60):
            drive.advance(0.001)
            fastest = max(fastest, abs(drive.running.state.velocity))
    assert fastest < 4.0


def test_writing_what_the_rotor_angle_rests_on_takes_its_validity_back() -> None:
    drive = drive_with(rig_of("tile-pusher"))
    drive.write({"commutation.valid": 1.0})
    drive.write({"velocity.gain": 0.02})
    assert drive.memory.working["commutation.valid"] == 1.0
    for key, value in (("feedback.direction", 1.0), ("motor.phase_order", 1.0), ("motor.pole_pairs", 5.0)):
        drive.write({"commutation.valid": 1.0})
        assert "commutation.valid" in drive.write({key: value})
        assert drive.memory.working["commutation.valid"] == 0.0
    drive.write({"motor.pole_pairs": 4.0, "commutation.valid": 1.0})  # said in the same breath: both from one project
    assert drive.memory.working["commutation.valid"] == 1.0
