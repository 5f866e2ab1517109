"""The stand-in drive: memory, power states, lease, guards, jog, recorder."""

import itertools
import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import lfilter

from cadrel.core.axis import drive_values
from cadrel.core.control.filters import Biquad, Section, notch
from cadrel.core.motion import move_profile, sample_profile
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive, machine
from cadrel.core.simulation.layout import TICK
from cadrel.core.simulation.torque_filters import backward
from cadrel.link import LinkedDrive, RefusedByDrive
from cadrel.link.stand_in import StandIn
from tests.conftest import rig_of

Make = Callable[..., tuple[LinkedDrive, SimulatedDrive]]


def started(
    drive: LinkedDrive, truth: RigTruth, entries: dict[str, Entry], gains: dict[str, float] | None = None
) -> dict[str, float]:
    """Send an axis's values with its true commutation, store and restart, and lead it; returns what was sent."""
    values = drive_values(entries, drive_current_peak=truth.drive_current_peak) | (gains or {})
    values["commutation.valid"] = 1.0
    values["commutation.offset"] = math.remainder(truth.pole_pairs * truth.index_angle, 2 * math.pi)
    values["commutation.hall_offset"] = math.radians(truth.hall_offset_deg)
    drive.take_control("test")
    drive.write(values)
    drive.store()
    drive.restart()
    drive.take_control("test")
    return values


@pytest.fixture
def ready(make_drive: Make, pusher: dict[str, Entry]) -> tuple[LinkedDrive, SimulatedDrive]:
    """A drive that holds the right values, commutation included, and is led from here."""
    truth = rig_of("tile-pusher")
    drive, simulated = make_drive(truth)
    started(drive, truth, pusher)
    return drive, simulated


def enable(drive: LinkedDrive, mode: str = "position", travel: float = 1e3) -> None:
    drive.enable(mode, guard_low=-travel, guard_high=travel, guard_speed=500)


def wait(drive: LinkedDrive, seconds: float, *, beat: bool = True) -> None:
    for _ in range(round(seconds / 0.02)):
        if beat:
            drive.beat()
        drive.link.wait(0.02)


def test_power_states_follow_the_table_of_iec_61800_7_201() -> None:
    # Rows of the standard's state diagram (from memory): the way up, the way down, and a fault from everywhere.
    state = machine.after(machine.NOT_READY, "initialised")
    for event, expected in (
        ("shutdown", "Ready to switch on"),
        ("switch on", "Switched on"),
        ("enable operation", "Operation enabled"),
        ("quick stop", "Quick stop active"),
        ("stopped", "Switch on disabled"),
    ):
        state = machine.after(state, event)
        assert state == expected
    assert machine.after("Operation enabled", "fault") == "Fault reaction active"
    assert machine.after("Fault reaction active", "reaction done") == "Fault"
    assert machine.after("Fault", "enable operation") == "Fault"
    assert machine.after("Fault", "fault reset") == "Switch on disabled"


def test_what_is_not_stored_is_gone_after_power_off(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, _ = ready
    stored = drive.read()["velocity.gain"]
    drive.write({"velocity.gain": 2 * stored, "position.gain": 33.0})
    drive.store()
    drive.write({"velocity.gain": 3 * stored})
    assert drive.status()["not_stored"] == ["velocity.gain"]
    StandIn(drive.link, "axis").power_switch(False)
    with pytest.raises(RefusedByDrive, match="no supply"):
        drive.status()
    StandIn(drive.link, "axis").power_switch(True)
    assert drive.read()["velocity.gain"] == 2 * stored
    assert drive.read()["position.gain"] == 33.0


def test_a_fresh_drive_says_everything_that_prevents_enabling(make_drive: Make) -> None:
    drive, _ = make_drive()
    StandIn(drive.link, "axis").set_switch("safe_torque_off", False)
    codes = [b["code"] for b in drive.status()["blockers"]]
    assert codes == ["safe_torque_off", "configuration", "commutation"]
    drive.take_control("test")
    with pytest.raises(RefusedByDrive, match="Safe torque off is open"):
        enable(drive)


def test_only_the_holder_of_the_lease_moves_the_axis(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, _ = ready
    other = LinkedDrive(drive.link, "axis")
    with pytest.raises(RefusedByDrive, match="test has control"):
        other.take_control("other")
    with pytest.raises(RefusedByDrive, match="without control"):
        enable(other)
    other.take_control("other", force=True)
    with pytest.raises(RefusedByDrive, match="without control"):
        enable(drive)


def test_jog_ends_within_200_ms_of_the_last_renewal(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    enable(drive)
    for _ in range(20):
        drive.jog(20.0)
        drive.link.wait(0.04)
    assert simulated.status()["velocity"] == pytest.approx(20, abs=3)
    drive.link.wait(0.2)
    assert abs(simulated.status()["velocity"]) < 1.0


def test_a_silent_holder_stops_the_axis_and_cuts_power(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    enable(drive, "velocity")
    drive.run_at(50.0)
    wait(drive, 0.3)
    assert simulated.status()["velocity"] == pytest.approx(50, rel=0.1)
    wait(drive, 0.9, beat=False)
    assert simulated.status()["mode"] == "off"
    assert [e["kind"] for e in simulated.events][-1] == "connection_lost"


def test_a_run_starts_as_gently_as_asked_and_never_harder_than_the_limit(
    ready: tuple[LinkedDrive, SimulatedDrive],
) -> None:
    drive, simulated = ready
    enable(drive, "velocity")
    begun = simulated.time
    drive.run_at(30.0, acceleration=60.0)
    wait(drive, 0.25)
    reached = float(simulated.running.state.gen_velocity)
    assert reached == pytest.approx(60.0 * (simulated.time - begun), rel=0.01)
    drive.run_at(0.0, acceleration=1e9)
    simulated.advance(0.001)
    fallen = reached - float(simulated.running.state.gen_velocity)
    assert fallen == pytest.approx(0.001 * drive.read()["limit.acceleration"], rel=0.01)


def test_a_run_that_lasts_so_long_ends_by_itself_as_gently_as_it_began(
    ready: tuple[LinkedDrive, SimulatedDrive],
) -> None:
    drive, simulated = ready
    enable(drive, "velocity")
    drive.run_at(30.0, acceleration=300.0, lasts=0.4)
    wait(drive, 0.38)
    assert simulated.running.state.gen_velocity == pytest.approx(30.0)
    wait(drive, 0.08)
    assert 1.0 < simulated.running.state.gen_velocity < 25.0, "on its ramp"
    wait(drive, 0.2)
    assert simulated.running.state.gen_velocity == 0.0
    assert simulated.status()["mode"] == "velocity", "it holds"
    # Another command takes its place, and goes on.
    drive.run_at(30.0, acceleration=300.0, lasts=0.2)
    drive.run_at(20.0, acceleration=300.0)
    wait(drive, 0.5)
    assert simulated.running.state.gen_velocity == pytest.approx(20.0)


def test_the_guard_stops_what_leaves_the_consented_travel(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    enable(drive, "velocity", travel=5.0)
    drive.run_at(60.0)
    wait(drive, 0.6)
    status = simulated.status()
    assert status["mode"] == "off"
    assert 5.0 < status["position"] < 8.0
    assert simulated.events[-1]["kind"] == "guard"


def test_stop_ramps_down_and_disables_whoever_asks(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    enable(drive)
    drive.jog(40.0)
    drive.link.wait(0.08)
    LinkedDrive(drive.link, "axis").stop("anyone")
    drive.link.wait(0.15)
    assert simulated.status()["mode"] == "off"
    assert simulated.power_state == machine.DISABLED


def test_a_fault_needs_a_reset(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    drive.write({"limit.following_error": 0.02, "velocity.gain": 1e-4})
    enable(drive)
    drive.run_path(move_profile(20.0, velocity=200, acceleration=3000, jerk=1e6).segments)
    wait(drive, 0.5)
    assert simulated.fault == "following_error"
    with pytest.raises(RefusedByDrive, match="following error"):
        enable(drive)
    drive.reset_fault()
    assert simulated.power_state == machine.DISABLED


def test_halls_then_edges_then_the_index_tell_the_angle_after_power_up(
    ready: tuple[LinkedDrive, SimulatedDrive],
) -> None:
    drive, simulated = ready
    assert drive.status()["angle_quality"] == "unknown"
    enable(drive, "velocity")
    assert drive.status()["angle_quality"] == "sector"
    drive.run_at(15.0)
    seen = set()
    for _ in range(40):
        wait(drive, 0.02)
        seen.add(drive.status()["angle_quality"])
    assert {"edge", "index"} <= seen
    truth = simulated.truth
    s = simulated.running.state
    found = s.angle_used - truth.pole_pairs * s.theta1
    assert abs(math.degrees(math.remainder(found, 2 * math.pi))) < 1.5


def test_a_reversed_encoder_and_swapped_phases_are_seen_in_the_counts(
    make_drive: Make, pusher: dict[str, Entry]
) -> None:
    rises = {}
    for name, changes in {
        "good": {},
        "encoder": {"encoder_inverted": True},
        "phases": {"phases_swapped": True},
    }.items():
        drive, _ = make_drive(rig_of("tile-pusher", **changes))
        drive.take_control("test")
        drive.write(drive_values(pusher))
        drive.store()
        drive.restart()
        drive.take_control("test")
        enable(drive, "vector")
        drive.vector(angle=0.0, rate=20, current=3, rise=10)
        wait(drive, 0.8)
        before = drive.status()["counts"]
        drive.vector(angle=8 * math.pi, rate=20, current=3, rise=10)
        wait(drive, 1.6)
        rises[name] = drive.status()["counts"] - before
    assert rises["good"] == pytest.approx(10000, rel=0.02)
    assert rises["encoder"] == pytest.approx(-10000, rel=0.02)
    assert rises["phases"] == pytest.approx(-10000, rel=0.02)


def test_the_recorder_keeps_what_was_before_the_trigger(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, _ = ready
    enable(drive)
    wait(drive, 0.1)
    drive.arm(
        ["position_ref", "profile_active"],
        divider=4,
        samples=800,
        pre=100,
        trigger={"signal": "profile_active", "level": 0.5, "rising": True},
    )
    wait(drive, 0.1)
    drive.run_path(move_profile(3.0, velocity=50, acceleration=2000, jerk=1e6).segments)
    wait(drive, 0.3)
    record = drive.recording()
    assert int(np.argmax(record["profile_active"] > 0.5)) == 100
    assert record["position_ref"][-1] - record["position_ref"][0] == pytest.approx(3.0, abs=1e-4)


def test_a_move_passes_the_command_notch_and_ends_exactly(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    """The command as recorded against SciPy's filter of the same profile; the next move begins where it ended."""
    drive, simulated = ready
    drive.write({
        "position.shaping_frequency": 20.0, "position.shaping_depth": -30.0, "position.shaping_width": 1.0,
        "limit.following_error": 3.0,
    })  # fmt: skip
    enable(drive)
    move = move_profile(3.0, velocity=50, acceleration=2000, jerk=1e6)
    drive.arm(
        ["position_ref", "profile_active"], divider=4, samples=1600, pre=100,
        trigger={"signal": "profile_active", "level": 0.5, "rising": True},
    )  # fmt: skip
    wait(drive, 0.1)
    drive.run_path(move.segments)
    wait(drive, 0.5)
    record = drive.recording()
    begun = int(np.argmax(record["profile_active"] > 0.5))
    place = sample_profile(move, 4 * TICK * np.arange(1, 1200))[0]
    b = notch(20.0, width=1.0, depth_db=-30.0, period=4 * TICK)
    wanted = lfilter((b.b0, b.b1, b.b2), (1.0, b.a1, b.a2), place)
    shown = record["position_ref"] - record["position_ref"][0]
    assert shown[begun : begun + 1199] == pytest.approx(wanted, abs=2e-5)
    active = np.count_nonzero(record["profile_active"] > 0.5) * record.period
    assert active == pytest.approx(move.duration, abs=1e-3)  # the move counts as over where the plan is
    assert shown[-1] == pytest.approx(3.0, abs=1e-6)
    drive.run_path(move_profile(-3.0, velocity=50, acceleration=2000, jerk=1e6).segments)
    wait(drive, 0.2)  # over by the plan, its last not yet through the notch
    drive.run_path(move_profile(1.0, velocity=50, acceleration=2000, jerk=1e6).segments)
    wait(drive, 0.6)
    assert simulated.fault is None
    assert simulated.running.state.position_ref == pytest.approx(float(record["position_ref"][0]) + 1.0, abs=1e-6)


@pytest.mark.parametrize("bad", [{"velocity.gain": math.inf}, {"velocity.gain": -1.0}, {"no.such": 1.0}])
def test_a_bad_value_leaves_the_memory_as_it_was(
    ready: tuple[LinkedDrive, SimulatedDrive], bad: dict[str, float]
) -> None:
    drive, simulated = ready
    before = dict(simulated.memory.working)
    with pytest.raises((RefusedByDrive, ValueError)):
        drive.write({"position.gain": 21.0} | bad)
    assert simulated.memory.working == before


def test_the_same_seed_gives_the_same_recording(make_drive: Make, pusher: dict[str, Entry]) -> None:
    tapes = []
    for _ in range(2):
        drive, _ = make_drive(seed=9)
        drive.take_control("test")
        drive.write(drive_values(pusher))
        drive.arm(["i_d", "counts"], divider=1, samples=400)
        drive.link.wait(0.05)
        tapes.append(drive.recording()["i_d"])
    np.testing.assert_array_equal(tapes[0], tapes[1])


def test_levels_of_a_and_b_go_through_quadrature_while_a_hand_turns(make_drive: Make) -> None:
    # Quadrature: one of the two changes at a time, A first moving forward (every incremental encoder's sheet).
    _, simulated = make_drive()
    simulated.turn_by_hand(2 * math.pi * 400 / 10_000, 1.0)  # four hundred counts in a second
    seen: list[tuple[int, int]] = []
    for _ in range(4200):
        a, b = simulated.status()["levels"]
        if not seen or seen[-1] != (a, b):
            seen.append((a, b))
        simulated.advance(0.00025)
    order = [(0, 0), (1, 0), (1, 1), (0, 1)]
    steps = [(order.index(then) - order.index(now)) % 4 for now, then in itertools.pairwise(seen)]
    assert 2 not in steps  # never both signals at once
    assert steps.count(1) - steps.count(3) == pytest.approx(400, abs=8)  # the spring lets go of a few counts at first


def test_the_log_says_how_long_after_the_last_command_a_jog_stood_still(
    ready: tuple[LinkedDrive, SimulatedDrive],
) -> None:
    drive, simulated = ready
    enable(drive)
    drive.jog(20.0)
    since = drive.status()["events"]
    simulated.advance(0.05)
    assert not [e for e in drive.events(since) if e["kind"] == "jog_ended"]
    simulated.advance(0.3)  # nobody renews it
    (ended,) = [e for e in drive.events(since) if e["kind"] == "jog_ended"]
    assert 0.1 < ended["facts"]["after"] < 0.2
    simulated.advance(0.5)
    assert len([e for e in drive.events(since) if e["kind"] == "jog_ended"]) == 1


def test_sines_renewed_now_and_then_are_those_of_the_angles(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, simulated = ready
    enable(drive, "velocity", travel=1e4)
    drive.run_at(100.0)
    state, worst, fastest = simulated.running.state, 0.0, 0.0
    for _ in range(1500):
        drive.beat()
        simulated.advance(3 * TICK)
        fastest = max(fastest, abs(float(state.omega1)))
        for angle, cosine, sine in (
            (state.angle_rotor, state.cos_rotor, state.sin_rotor),
            (state.angle_used, state.cos_used, state.sin_used),
        ):
            worst = max(worst, abs(cosine - math.cos(angle)), abs(sine - math.sin(angle)))
    assert fastest > 50  # [rad/s] it turned
    assert worst < 2e-9


def test_how_drive_time_is_sliced_changes_nothing(make_drive: Make, pusher: dict[str, Entry]) -> None:
    truth = rig_of("tile-pusher")
    ended = []
    for slices in (1, 7, 50):
        drive, simulated = make_drive(truth, 3)
        drive.take_control("test")
        drive.write(drive_values(pusher, drive_current_peak=truth.drive_current_peak))
        drive.store()
        drive.restart()
        drive.take_control("test")
        drive.enable("vector", guard_low=-1e3, guard_high=1e3, guard_speed=500)
        drive.vector(angle=6.0, rate=20.0, current=1.5, rise=20.0)
        for _ in range(slices):
            simulated.advance(350 / slices * TICK)
        ended.append(simulated.running.state.tobytes())
    assert ended[0] == ended[1] == ended[2]
    assert simulated.running.state.vec_current > 0.3


def test_friction_fed_forward_takes_its_share_of_the_following_error(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    # By superposition: what the loop need not find by itself of a constant torque, it need not lag by. With a share f
    # of the friction fed forward, the peak lag after a start is (1 - f) of what friction alone makes it.
    drive, simulated = ready
    truth = simulated.truth
    friction = truth.coulomb_motor + truth.coulomb_load
    profile = move_profile(1.0, velocity=6.0, acceleration=60.0, jerk=2000.0)
    drive.write({
        "load.friction": friction, "load.inertia": truth.inertia_motor + truth.inertia_load,
        "position.acceleration_feedforward": 1.0,
    })  # fmt: skip

    def lag(share: float) -> float:
        drive.write({"position.friction_feedforward": share})
        enable(drive)
        drive.arm(["following_error"], divider=4, samples=1600, pre=8,
                  trigger={"signal": "profile_active", "level": 0.5, "rising": True})  # fmt: skip
        wait(drive, 0.04)
        drive.run_path(profile.segments)
        wait(drive, 0.7)
        error = drive.recording().channels["following_error"]
        drive.disable()
        wait(drive, 0.3)
        return float(np.abs(error).max())

    none, half, most = lag(0.0), lag(0.5), lag(0.9)
    assert half < 0.75 * none and most < 0.4 * none


@pytest.mark.parametrize("zero_damping", [0.05, 0.7])
def test_filters_at_the_limit_hold_what_would_have_put_out_the_limit(zero_damping: float) -> None:
    """Hanus' conditioning: run anew by SciPy on the inputs that it reckons, the sections put out what was left of them.

    A low-pass, whose zeros do not decay, rests at the limit instead.
    """
    kinds = {
        2: Section(zero_hz=75.0, zero_damping=zero_damping, pole_hz=8.0, pole_damping=1.0),
        3: Section(zero_hz=500.0, zero_damping=0.8, pole_hz=1500.0, pole_damping=0.8),
    }
    biquads = {n: one.biquad(period=2.5e-4) for n, one in kinds.items()}
    rng = np.random.default_rng(5)
    states = dict.fromkeys(kinds, (0.0, 0.0))
    inputs, outputs = [], []
    for raw in 40 * rng.normal(size=400).cumsum():
        one, two = states[2], states[3]
        middle = biquads[2].b0 * raw + one[0]
        wanted = biquads[3].b0 * middle + two[0]
        left = float(np.clip(wanted, -1.0, 1.0))
        middle, *new = backward(*figures(biquads[3]), *two, left)
        states[3] = (new[0], new[1])
        entry, *new = backward(*figures(biquads[2]), *one, middle)
        states[2] = (new[0], new[1])
        assert entry == pytest.approx(raw) or wanted != left
        inputs.append(entry)
        outputs.append(left)
    through = np.array(inputs)
    for one in biquads.values():
        through = lfilter([one.b0, one.b1, one.b2], [1.0, one.a1, one.a2], through)
    assert np.allclose(through, outputs, atol=1e-6)
    assert 50 < sum(abs(v) == 1.0 for v in outputs) < 400
    low_pass = Section(zero_hz=0.0, zero_damping=0.7, pole_hz=40.0, pole_damping=0.7).biquad(period=2.5e-4)
    entry, one, two = backward(*figures(low_pass), 0.3, -0.2, 1.5)
    assert entry == 1.5
    assert low_pass.b0 * 1.5 + one == pytest.approx(1.5)


def figures(section: Biquad) -> tuple[float, float, float, float, float]:
    return section.b0, section.b1, section.b2, section.a1, section.a2


def test_a_heavy_load_behind_a_slow_lag_rests_after_a_move_at_the_limit_of_torque(
    make_drive: Make, pusher: dict[str, Entry]
) -> None:
    """A lag that fills up at the limit gives it back for long after: this axis swung by half a turn and more."""
    truth = replace(
        rig_of("tile-pusher"), inertia_motor=4.4e-5, inertia_load=1.2e-3, stiffness=40.0, damping=5e-3,
        viscous_motor=2e-4, viscous_load=4.5e-2, coulomb_motor=0.0, coulomb_load=0.0, inertia_third=0.0,
        backlash_deg=0.0, cogging=(), presliding_deg=0.0, transmission_error=(), torque_load=0.0,
    )  # fmt: skip
    constant = 1.5 * truth.pole_pairs * truth.flux_linkage
    lag = {"zero": 145.0, "zero_damping": 0.04, "pole": 14.0, "pole_damping": 1.0}
    drive, simulated = make_drive(truth)
    started(drive, truth, pusher, {f"velocity.section2_{name}": value for name, value in lag.items()} | {
        "velocity.gain": 6.3, "velocity.reset_time": 0.025, "velocity.feedback_filter": 1900.0,
        "velocity.torque_filter": 1900.0, "velocity.notch_depth": 0.0, "velocity.oscillation_reaction": 2.0,
        "position.gain": 57.0, "position.velocity_feedforward": 1.0, "limit.current": 2.7 / constant,
        "limit.following_error": 30.0,
    })  # fmt: skip
    enable(drive)
    move = move_profile(18.0, velocity=92.0, acceleration=1100.0, jerk=66_000.0)
    drive.run_path(move.segments)
    places, limited = [], 0
    for _ in range(240):
        drive.beat()
        drive.link.wait(0.005)
        places.append(float(simulated.running.state.theta1))
        limited += int(simulated.running.state.limited)
    assert limited > 3
    assert np.ptp(places[-40:]) < 0.02
    assert abs(places[-1] - places[0] - 18.0) < 0.2


def test_the_integral_never_holds_more_than_the_motor_may_give(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    # Poles damped beyond 1 are late: at the limit the torque still points one way while the error points the other.
    drive, simulated = ready
    values = drive.read()
    slow = {"zero": 80.0, "zero_damping": 0.6, "pole": 60.0, "pole_damping": 2.0}
    drive.write(
        {f"velocity.section2_{name}": value for name, value in slow.items()}
        | {"velocity.gain": 8 * values["velocity.gain"], "velocity.reset_time": 0.005, "position.gain": 200.0}
        | {"velocity.oscillation_reaction": 2.0}
    )
    enable(drive)
    held = []
    drive.excite("position", np.full(800, 0.1), divider=4, repeats=1)
    for _ in range(40):
        drive.beat()
        drive.link.wait(0.005)
        held.append(abs(simulated.running.state.int_torque))
    constant = 1.5 * simulated.truth.pole_pairs * values["motor.flux_linkage"]
    most = values["limit.current"] * constant
    assert 0.5 * most < max(held) <= most * (1 + 1e-9)
