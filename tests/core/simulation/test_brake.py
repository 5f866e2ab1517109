"""The holding brake: obeyed by the drive from its own values, and safe in whatever order it is used."""

import math
from dataclasses import replace
from operator import attrgetter

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from cadrel.core.errors import CadrelError
from cadrel.core.power import MARGIN, TORQUE_BUILD_UP
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.core.simulation.layout import TICK, VECTOR
from cadrel.core.simulation.refused import DriveRefused
from tests.conftest import rig_of

FAR = {"guard_low": -1e9, "guard_high": 1e9, "guard_speed": 1e9}
BRAKED = {
    "brake.operation": 1.0, "brake.release_delay": 0.05, "brake.engage_delay": 0.03, "brake.pull_in_time": 0.15,
    "brake.pull_in_voltage": 24.0, "brake.hold_voltage": 12.0,
}  # fmt: skip


def lift(truth: RigTruth | None = None, **values: float) -> SimulatedDrive:
    """Return a drive whose load hangs behind its brake, commutation done."""
    truth = truth or rig_of("kiln-car-lift")
    drive = SimulatedDrive("lift", truth, seed=1)
    inertia = truth.inertia_motor + truth.inertia_load
    drive.write({
        "motor.resistance": truth.resistance, "motor.inductance": truth.inductance_q,
        "motor.flux_linkage": truth.flux_linkage, "motor.pole_pairs": float(truth.pole_pairs),
        "motor.current_continuous": 8.0, "motor.current_peak": 24.0, "limit.current": 24.0, "motor.speed_max": 400.0,
        "limit.velocity": 300.0, "limit.travel_min": -1e5, "limit.travel_max": 1e5, "limit.quick_stop": 2000.0,
        "limit.acceleration": 1000.0, "limit.following_error": 10.0,
        "feedback.device": 3.0, "feedback.counts": 2.0**truth.single_turn_bits, "feedback.word_length": 39.0,
        "feedback.word_checksum": 6.0, "feedback.word_error": 1.0, "feedback.word_warning": 1.0, "feedback.halls": 0.0,
        "current.gain": 12.0, "current.reset_time": 0.004, "load.inertia": inertia,
        "velocity.gain": 2 * math.pi * 40 * inertia, "velocity.reset_time": 0.02, "position.gain": 30.0,
        "commutation.offset": truth.pole_pairs * truth.index_angle, "commutation.valid": 1.0,
        "power.undervoltage": 10.0, **BRAKED, **values,
    })  # fmt: skip
    drive.store()
    drive.restart()
    drive.take_control("test")
    heard(drive)
    return drive


def heard(drive: SimulatedDrive) -> None:
    """Renew the lease, as every command over the line does."""
    drive.check_lease(drive.lease)


def led(drive: SimulatedDrive, seconds: float) -> None:
    """Let time pass with somebody leading."""
    for _ in range(round(seconds / 0.01)):
        heard(drive)
        drive.advance(0.01)


def opened_after(drive: SimulatedDrive, *, at_most: float = 1.0) -> float:
    """Return how long after now the brake itself opens. [s]"""
    begun = drive.time
    while drive.running.state.brake and drive.time < begun + at_most:
        drive.advance(TICK)
    return drive.time - begun


def test_torque_comes_first_then_full_voltage_then_the_lower_one_and_motion_waits_for_the_brake():
    drive = lift(replace(rig_of("kiln-car-lift"), brake_release=0.045))
    drive.enable("position", torque=1.27, **FAR)
    drive.motion.jog(50.0)
    drive.advance(TORQUE_BUILD_UP - 0.002)
    assert drive.running.state.coil == 0.0
    assert abs(drive.running.state.i_q) > 0.5  # torque is there
    drive.advance(0.004)
    assert drive.running.state.coil == 24.0
    assert drive.brake.state == "opening"
    assert drive.running.state.gen_velocity == 0.0
    assert opened_after(drive) == pytest.approx(0.045 - 0.002, abs=0.002)
    drive.motion.jog(50.0)
    drive.advance(MARGIN * 0.05 - 0.045)
    drive.motion.jog(50.0)
    drive.advance(0.02)
    assert drive.brake.state == "open"
    assert drive.running.state.gen_velocity > 5.0  # it moves now
    for _ in range(10):
        drive.motion.jog(50.0)
        drive.advance(0.01)
    assert drive.running.state.coil == 12.0  # lowered after the pull-in time


def test_the_load_stays_while_it_opens_and_while_it_closes():
    drive = lift()
    begun = float(drive.running.state.theta1)
    drive.enable("position", torque=1.27, **FAR)
    drive.advance(0.3)
    assert drive.brake.state == "open"
    drive.disable()
    assert drive.brake.state == "closed"
    drive.advance(0.5)
    assert abs(drive.running.state.theta1 - begun) < math.radians(0.5)


def test_a_brake_slower_than_entered_lets_the_load_sag_and_one_as_entered_does_not():
    """The drive knows the brake by its values alone: it does not feel when it holds."""

    def sag(engage: float) -> float:
        drive = lift(replace(rig_of("kiln-car-lift"), brake_engage=engage))
        drive.enable("position", torque=1.27, **FAR)
        drive.advance(0.3)
        before = float(drive.running.state.theta1)
        drive.disable()
        drive.advance(0.5)
        return abs(float(drive.running.state.theta1) - before)

    assert sag(0.03) < math.radians(0.1)
    assert sag(0.12) > math.radians(5)


def test_a_brake_that_nothing_operates_stays_closed_under_current():
    drive = lift(**{"brake.operation": 0.0, "limit.current": 8.0})  # 5.8 N·m; the brake holds 9.2
    begun = float(drive.running.state.theta1)
    drive.enable("velocity", **FAR)
    drive.motion.run_at(20.0)
    drive.advance(0.4)
    assert drive.running.state.brake == 1
    assert drive.brake.state == "none"
    assert abs(drive.running.state.theta1 - begun) < math.radians(0.2)


def test_a_controller_opens_it_later_than_the_drive_and_at_full_voltage_throughout():
    drive = lift(**{"brake.operation": 2.0})
    drive.enable("position", torque=1.27, **FAR)
    led(drive, 0.01)
    begun = drive.time
    opened_after(drive)
    assert drive.time - begun == pytest.approx(TORQUE_BUILD_UP - 0.01 + 0.058 + 0.010, abs=0.001)
    led(drive, 0.3)
    assert drive.running.state.coil == 24.0


def test_too_little_voltage_does_not_open_it_and_a_pull_in_too_short_lets_it_fall_shut():
    weak = lift(**{"brake.pull_in_voltage": 18.0})  # it needs 20 V
    weak.enable("position", **FAR)
    weak.advance(0.4)
    assert weak.running.state.brake == 1
    short = lift(**{"brake.pull_in_time": 0.03})  # of the 58 ms it takes
    short.enable("position", **FAR)
    short.advance(0.4)
    assert short.running.state.brake == 1


def test_a_bus_below_the_pull_in_voltage_is_a_blocker_by_name():
    low = replace(rig_of("kiln-car-lift"), supply_voltage=20.0, overvoltage=60.0, chopper_on=50.0)
    drive = lift(low)
    found = [b for b in drive.blockers() if b["code"] == "brake_supply"]
    assert len(found) == 1
    assert "20 V, the brake needs 24 V" in found[0]["text"]
    with pytest.raises(DriveRefused, match="needs 24 V to open"):
        drive.enable("position", **FAR)


def test_a_current_of_its_own_opens_no_brake_until_it_is_told_to():
    drive = lift()
    drive.enable("current", **FAR)
    led(drive, 0.3)
    assert drive.running.state.brake == 1
    drive.brake.set(closed=False)
    led(drive, 0.15)
    assert drive.running.state.brake == 0
    drive.brake.set(closed=True)
    led(drive, 0.1)
    assert drive.running.state.brake == 1
    assert drive.running.state.mode != 0  # current still flows


def test_held_open_by_hand_it_closes_when_the_button_is_let_go_or_lost_or_the_load_runs_away():
    calm = replace(rig_of("kiln-car-lift"), torque_load=0.0)
    drive = lift(calm)
    for _ in range(4):
        drive.brake.hold_open(travel=0.5, holder="a")
        drive.advance(0.05)
    assert drive.running.state.brake == 0
    drive.advance(0.25)  # nothing more is heard
    assert drive.running.state.brake == 1
    falling = lift()
    for _ in range(12):
        try:
            falling.brake.hold_open(travel=0.2, holder="b")
        except DriveRefused:
            break
        falling.advance(0.02)
        if falling.events[-1]["kind"] == "brake_closed":
            break
    assert falling.events[-1]["kind"] == "brake_closed"
    assert abs(falling.events[-1]["facts"]["moved"]) < 0.5


def test_leaving_the_guard_on_an_unconfirmed_angle_closes_the_brake_and_cuts_current():
    drive = lift()
    here = float(drive.running.state.position)
    drive.enable("velocity", guard_low=here - 2, guard_high=here + 2, guard_speed=1e9, torque=1.27, cut_on_guard=True)
    drive.motion.run_at(50.0)
    drive.advance(1.0)
    assert drive.running.state.mode == 0
    assert drive.running.state.brake == 1
    assert drive.fault is None or drive.fault == "guard"
    assert abs(drive.running.state.position - here) < 2 + 50.0 * 0.06  # the brake takes its 36 ms; no ramp


def turned_deg(drive: SimulatedDrive, begun: float) -> float:
    """How far the true shaft is from where it began, the way the load pulls. [°]"""
    return math.degrees((float(drive.running.state.theta1) - begun) * math.copysign(1.0, drive.truth.torque_load))


@pytest.mark.parametrize("start", [0.0, 0.4, 0.8, 1.2, 1.5])
def test_a_falling_load_is_caught_by_the_current_of_its_shorted_windings_wherever_the_rotor_stands(start: float):
    drive = lift(replace(rig_of("kiln-car-lift"), start_angle=start))
    begun = float(drive.running.state.theta1)
    drive.enable("vector", **FAR)
    drive.motion.catch(current=12.0, level=0.3)
    led(drive, 0.6)
    assert drive.running.state.brake == 0
    assert not drive.status()["catching"]
    assert drive.running.state.vec_current == pytest.approx(12.0)
    assert abs(turned_deg(drive, begun)) < 360 / 4 / 2  # half an electrical turn, mostly upwards: it is led now
    begun = float(drive.running.state.theta1)
    led(drive, 0.5)
    assert abs(turned_deg(drive, begun)) < 20.0  # it may still swing about the vector


@pytest.mark.parametrize("start", [0.1, 0.9])
def test_before_it_is_caught_it_hardly_falls(start: float):
    drive = lift(replace(rig_of("kiln-car-lift"), start_angle=start))
    begun = float(drive.running.state.theta1)
    drive.enable("vector", **FAR)
    drive.motion.catch(current=12.0, level=0.3)
    lowest = 0.0
    for _ in range(600):
        heard(drive)
        drive.advance(1e-3)
        lowest = max(lowest, turned_deg(drive, begun))
    assert lowest < 3.0


def test_a_load_that_friction_holds_is_not_caught_and_nothing_moves():
    drive = lift(replace(rig_of("kiln-car-lift"), torque_load=0.0))
    begun = float(drive.running.state.theta1)
    drive.enable("vector", **FAR)
    drive.motion.catch(current=12.0, level=0.3)
    led(drive, 0.5)
    assert drive.status()["catching"]
    assert turned_deg(drive, begun) == pytest.approx(0.0, abs=1e-9)


def test_a_vector_let_go_of_closes_the_brake_before_its_current_goes():
    drive = lift()
    drive.enable("vector", **FAR)
    drive.motion.catch(current=12.0, level=0.3)
    led(drive, 0.6)
    begun = float(drive.running.state.theta1)
    drive.motion.release_vector()
    drive.advance(0.02)
    assert drive.running.state.vec_current == pytest.approx(12.0)  # it still carries
    led(drive, 0.3)
    assert drive.running.state.brake == 1
    assert drive.running.state.vec_current == 0.0
    assert abs(turned_deg(drive, begun)) < 10.0


@pytest.mark.parametrize("let_go", ["vector", "release_vector"])
def test_what_is_let_go_of_before_it_is_caught_is_braked_until_the_brake_holds(let_go: str):
    """A catch led the rotor with the current last told: after a vector of 0 A, with none, the brake being open."""
    drive = lift()
    drive.enable("vector", **FAR)
    drive.motion.catch(current=8.0, level=0.3)
    heard(drive)
    if let_go == "vector":
        drive.motion.vector(angle=0.0, rate=6.0, current=0.0, rise=40.0)
    else:
        drive.motion.release_vector()
    begun = float(drive.running.state.theta1)
    for _ in range(4000):  # nothing is heard any more
        drive.advance(1e-3)
        s = drive.running.state
        assert s.mode != VECTOR or s.brake == 1 or s.shorted == 1 or s.vec_current > 0
    assert drive.running.state.mode == 0
    assert drive.running.state.brake == 1
    assert turned_deg(drive, begun) < 10.0


def test_a_vector_slipped_through_is_braked_by_shorted_windings_until_the_brake_holds():
    """With a vector that goes on turning nothing would brake it: compare the same fall without the short."""

    def fell(flux_share: float) -> float:
        truth = rig_of("kiln-car-lift")
        drive = lift(replace(truth, flux_linkage=flux_share * truth.flux_linkage, brake_engage=0.06))
        begun = float(drive.running.state.theta1)
        drive.enable("vector", guard_low=drive.status()["position"] - 0.2, guard_high=1e9, guard_speed=1e9)
        drive.motion.vector(angle=0.0, rate=1e6, current=0.5, rise=50.0)  # far too little to carry it
        led(drive, 1.0)
        assert drive.running.state.brake == 1
        assert drive.running.state.mode == 0
        return turned_deg(drive, begun)

    assert fell(1.0) < 0.5 * fell(0.01)  # without flux a short brakes nothing


PIN = {"brake.free_turn": math.radians(3.0), "brake.free_torque": 2.5}


def pinned(**rig: object) -> RigTruth:
    return replace(rig_of("kiln-car-lift"), brake_kind="pin", pin_play_deg=2.0, **rig)  # type: ignore[arg-type]


def test_a_pin_leaves_its_play_and_no_more():
    drive = lift(pinned(), **PIN)
    begun = float(drive.running.state.theta1)
    led(drive, 0.5)
    assert turned_deg(drive, begun) == pytest.approx(1.0, abs=0.15)  # it hangs at the edge of its hole
    drive.enable("current", **FAR)
    drive.motion.excite("current_q", [6.0], divider=1, repeats=4000)  # 4.3 N·m, three times what hangs
    led(drive, 0.2)
    assert turned_deg(drive, begun) == pytest.approx(-1.0, abs=0.15)


def test_a_loaded_pin_stays_in_its_hole_until_torque_takes_the_load_off_it():
    held = lift(pinned(), **{"brake.free_turn": 0.0})  # entered as one that needs no turn
    held.enable("velocity", torque=0.0, **FAR)
    opened_after(held, at_most=0.12)
    assert held.running.state.brake == 1  # 1.27 N·m press on it
    drive = lift(pinned(), **PIN)
    begun = float(drive.running.state.theta1)
    drive.enable("velocity", torque=0.0, **FAR)
    led(drive, 1.2)
    assert drive.running.state.brake == 0
    assert drive.brake.state == "open"
    assert abs(turned_deg(drive, begun)) < 12.0


def test_a_pin_that_does_not_come_out_is_a_fault_by_name_and_drops_nothing():
    drive = lift(pinned(brake_stuck=True), **PIN)
    begun = float(drive.running.state.theta1)
    drive.enable("position", torque=1.27, unattended=True, **FAR)
    led(drive, 4.0)
    assert drive.fault == "brake_not_free"
    assert drive.running.state.mode == 0
    assert turned_deg(drive, begun) < 1.2


class BrakeInAnyOrder(RuleBasedStateMachine):
    """Commands in any order, refused or obeyed; what must hold, holds at every millisecond."""

    def __init__(self) -> None:
        super().__init__()
        self.drive = lift()
        self.told_at = -1.0

    def look(self, seconds: float) -> None:
        """Let time pass, and look every millisecond."""
        for _ in range(round(seconds / 1e-3)):
            was = int(self.drive.running.state.brake)
            self.drive.advance(1e-3)
            self.check(was)

    def check(self, was: int) -> None:
        """Raise where a brake opens without torque, or nothing holds the load."""
        s = self.drive.running.state
        if s.mode == 0 and s.coil > 0:
            assert s.brake_hand == 1
        if was == 1 and s.brake == 0 and not s.brake_hand:
            assert s.mode != 0
            if s.mode == VECTOR:
                assert s.vec_current > 0 or s.shorted
        if s.mode == VECTOR and s.brake == 0:  # what it was opened for still carries, or brakes
            assert s.vec_current > 0 or s.shorted
        if s.mode == 0 and s.brake == 0 and not s.brake_hand:  # on its way to be closed, and soon
            assert s.coil == 0.0
            assert s.brake_time <= self.drive.running.plant.brake_engage + 1

    def tell(self, name: str, *arguments: object, **more: object) -> None:
        """Give a command; the drive may refuse it."""
        try:
            if not self.drive.lease:  # gone with the supply
                self.drive.take_control("test")
            heard(self.drive)
            attrgetter(name)(self.drive)(*arguments, **more)
        except CadrelError:
            return

    @rule(mode=st.sampled_from(["vector", "velocity", "position", "current"]), closed=st.booleans(), cut=st.booleans())
    def enable(self, mode: str, closed: bool, cut: bool) -> None:
        here = float(self.drive.running.state.position)
        self.tell("enable", mode, guard_low=here - 3, guard_high=here + 3, guard_speed=200.0, torque=1.27,
                  brake_closed=closed, cut_on_guard=cut)  # fmt: skip

    @rule(current=st.sampled_from([0.0, 3.0, 8.0]), angle=st.floats(-3, 3))
    def vector(self, current: float, angle: float) -> None:
        self.tell("motion.vector", angle=angle, rate=6.0, current=current, rise=40.0)

    @rule()
    def catch(self) -> None:
        self.tell("motion.catch", current=8.0, level=0.3)

    @rule()
    def release_vector(self) -> None:
        self.tell("motion.release_vector")

    @rule(speed=st.floats(-40, 40))
    def jog(self, speed: float) -> None:
        self.tell("motion.jog", speed)

    @rule(closed=st.booleans())
    def set_brake(self, closed: bool) -> None:
        self.tell("brake.set", closed=closed)

    @rule(travel=st.floats(0.01, 0.3))
    def hold_open(self, travel: float) -> None:
        self.tell("brake.hold_open", travel=travel, holder="h")

    @rule()
    def let_go(self) -> None:
        self.tell("brake.close", holder="h")

    @rule()
    def stop(self) -> None:
        self.tell("stop", "a test")

    @rule()
    def disable(self) -> None:
        self.tell("disable")

    @rule(name=st.sampled_from(["safe_torque_off", "hardware_enable"]), closed=st.booleans())
    def switch(self, name: str, closed: bool) -> None:
        self.tell("set_switch", name, closed)

    @precondition(lambda self: self.drive.fault)
    @rule()
    def reset(self) -> None:
        self.tell("reset_fault")

    @rule()
    def lose_supply(self) -> None:
        self.drive.power_switch(on=False)
        self.drive.power_switch(on=True)

    @rule(seconds=st.sampled_from([0.003, 0.03, 0.12]))
    def wait(self, seconds: float) -> None:
        self.look(seconds)

    @rule()
    def lose_the_line(self) -> None:
        """Nothing is heard for as long as it takes to stop: then the brake holds and no current flows."""
        self.look(4.0)
        assert self.drive.running.state.mode == 0
        assert self.drive.running.state.brake == 1

    @invariant()
    def something_holds_the_load(self) -> None:
        was = int(self.drive.running.state.brake)
        self.drive.advance(TICK)  # a command is obeyed within a tick
        self.check(was)


BrakeInAnyOrder.TestCase.settings = settings(
    max_examples=8, stateful_step_count=30, deadline=None, suppress_health_check=list(HealthCheck)
)
TestBrakeInAnyOrder = BrakeInAnyOrder.TestCase


def test_a_gentle_quick_stop_ramps_to_its_end_and_one_that_never_ends_is_cut():
    """Half a second was the limit of every quick stop: a gentle one was cut in the middle, and the axis coasted."""
    calm = replace(rig_of("kiln-car-lift"), torque_load=0.0)
    drive = lift(calm, **{"limit.quick_stop": 120.0})
    drive.enable("velocity", **FAR)
    led(drive, 0.2)
    drive.motion.run_at(150.0)
    led(drive, 0.5)
    assert drive.running.state.omega1 > 140
    drive.stop("a test")
    led(drive, 0.9)  # of the 1.25 s that the ramp takes
    assert drive.running.state.mode != 0
    assert 20 < drive.running.state.omega1 < 70
    led(drive, 0.8)
    assert drive.running.state.mode == 0
    assert drive.running.state.brake == 1
    assert abs(drive.running.state.omega1) < 1
    stuck = lift(calm, **{"limit.quick_stop": 120.0})
    stuck.enable("velocity", **FAR)
    led(stuck, 0.2)
    stuck.motion.run_at(150.0)
    led(stuck, 0.5)
    stuck.stop("a test")
    without_a_loop = stuck.running.settings._replace(velocity_gain=0.0, velocity_integral=0.0)
    stuck.running.settings = without_a_loop
    led(stuck, 1.5 * 1.25 + 0.7)
    assert stuck.running.state.mode == 0
