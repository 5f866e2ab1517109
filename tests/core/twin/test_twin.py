"""The twin against the composed blocks, against closed formulas, and against a drive that runs the same move."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import dlsim

from cadrel.core.axis import drive_values, understand
from cadrel.core.control import Gains, Rates, Sensor, TwoMass, Winding, loop_block, spectral_radius
from cadrel.core.control.filters import Section
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import IdentifiedPlant, RubbedLoad, SpringyLoad, TotalLoad
from cadrel.core.motion import move_profile, sample_profile
from cadrel.core.response import FrequencyResponse
from cadrel.core.twin import Twin, TwinRecord
from tests.conftest import values_of

KT = 0.9
LOAD = TwoMass(
    inertia_motor=1.4e-4, inertia_load=2.3e-4, stiffness=300.0, damping=0.02, viscous=4e-4, viscous_load=3e-3
)
GAINS = Gains(
    current_gain=17.0, current_reset=3.5e-3, velocity_gain=0.08, velocity_reset=12e-3, feedback_filter_hz=800,
    torque_filter_hz=1200, notch_hz=295, notch_depth_db=-10, position_gain=40.0,
    sections=(Section(zero_hz=290.0, zero_damping=0.1, pole_hz=320.0, pole_damping=0.6),),
)  # fmt: skip
TWIN = Twin(
    gains=GAINS, winding=Winding(resistance=1.3, inductance=4.6e-3, emf=KT * 0.6), load=LOAD, torque_constant=KT,
    pole_pairs=4.0, voltage_limit=300.0, current_limit=30.0, velocity_limit=500.0,
)  # fmt: skip
MOVE = move_profile(3.0, velocity=60.0, acceleration=900.0, jerk=40_000.0)


def linear(twin: Twin, record: TwinRecord) -> np.ndarray:
    """Position by the composed blocks, driven by the same set-points; SciPy runs them."""
    gains = twin.gains
    block = loop_block("position", twin.load, twin.winding, gains, closed=True)
    _, out, _ = dlsim((block.a, block.b, block.c, block.d, 1.0), record.position_ref)
    return out[:, 0]


@pytest.mark.parametrize("sensor", [Sensor(), Sensor(latency=125e-6), Sensor(tracking=2 * np.pi * 1200)])
@pytest.mark.parametrize("load", [LOAD, TwoMass(inertia_motor=3.7e-4, viscous=3e-3)])
@pytest.mark.parametrize("on_load", [False, True])
def test_without_friction_and_limits_it_moves_as_the_blocks_do(sensor: Sensor, load: TwoMass, on_load: bool) -> None:
    twin = replace(TWIN, gains=replace(GAINS, on_load=on_load).with_sensor(sensor), load=load, load_resolution=1e-7)
    record = twin.run(MOVE, rest=0.3)
    assert record.position == pytest.approx(linear(twin, record), abs=2e-4 * 3.0)


def test_the_lag_without_feedforward_is_speed_over_gain_and_goes_with_it() -> None:
    slow = move_profile(30.0, velocity=10.0, acceleration=400.0, jerk=40_000.0)
    lag = TWIN.run(slow)
    middle = len(lag.time) // 2
    assert (lag.position_ref - lag.position)[middle] == pytest.approx(10.0 / GAINS.position_gain, rel=5e-3)
    led = replace(TWIN, velocity_feedforward=1.0).run(slow)
    assert abs((led.position_ref - led.position)[middle]) < 0.02 * 10.0 / GAINS.position_gain


def test_current_at_constant_speed_is_what_rubs_and_hangs() -> None:
    twin = replace(TWIN, coulomb=0.12, constant=0.4, velocity_feedforward=1.0)
    record = twin.run(move_profile(30.0, velocity=10.0, acceleration=400.0, jerk=40_000.0))
    viscous = (LOAD.viscous + LOAD.viscous_load) * 10.0
    middle = len(record.time) // 2
    assert KT * record.current[middle] == pytest.approx(0.4 + 0.12 + viscous, rel=5e-3)
    assert record.current[0] * KT == pytest.approx(0.4, rel=1e-6)  # it hangs still before


def test_energy_balances() -> None:
    """Work of the motor's torque = kinetic energy + what friction took, with the load lifted against nothing."""
    twin = replace(TWIN, coulomb=0.12)
    record = twin.run(MOVE, rest=0.5)
    t = record.time
    speed = np.gradient(record.motor, t)
    work = np.trapezoid(KT * record.current * speed, t)
    load_speed = np.gradient(record.load, t)
    lost = np.trapezoid(
        0.06 * (np.abs(load_speed) + np.abs(speed)) + LOAD.viscous_load * load_speed**2 + LOAD.viscous * speed**2
        + LOAD.damping * (speed - load_speed) ** 2, t,
    )  # fmt: skip
    assert work == pytest.approx(lost, rel=0.01)


def test_a_stuck_axis_stands_still_until_the_integral_frees_it() -> None:
    """A step smaller than friction: the time to break free follows from gain and reset time."""
    twin = replace(TWIN, load=TwoMass(inertia_motor=3.7e-4), coulomb=0.5, gains=GAINS.with_(position_gain=1.0))
    tiny = move_profile(0.02, velocity=60.0, acceleration=900.0, jerk=40_000.0)
    record = twin.run(tiny, rest=4.0)
    moved = record.time[np.argmax(record.motor != 0.0)]
    # From the end of the command on the error is 0.02 rad: Kp Kv e (1 + t / Tn) = Coulomb's torque.
    reset, push = GAINS.velocity_reset, GAINS.velocity_gain * 0.02
    assert moved == pytest.approx(reset * (0.5 / push - 1) + tiny.duration, abs=0.02)
    assert np.all(record.motor[record.time < moved] == 0.0)


def test_breakaway_holds_longer_than_what_slides_and_fades() -> None:
    rigid = TwoMass(inertia_motor=3.7e-4)
    twin = replace(TWIN, load=rigid, coulomb=0.5, breakaway=0.8, stribeck_speed=1.0, velocity_feedforward=1.0)
    slow = replace(twin, velocity_feedforward=0.0, gains=GAINS.with_(position_gain=1.0))
    tiny = move_profile(0.02, velocity=60.0, acceleration=900.0, jerk=40_000.0)
    record = slow.run(tiny, rest=8.0)
    moved = record.time[np.argmax(np.abs(record.motor) > 1e-6)]
    reset, push = GAINS.velocity_reset, GAINS.velocity_gain * 0.02
    assert moved == pytest.approx(reset * (0.8 / push - 1) + tiny.duration, rel=0.03)
    fast = twin.run(move_profile(30.0, velocity=10.0, acceleration=400.0, jerk=40_000.0))
    middle = len(fast.time) // 2
    assert KT * fast.current[middle] == pytest.approx(0.5, rel=5e-3)  # at ten Stribeck speeds nothing of it is left


def test_friction_fed_forward_is_friction_that_the_loop_need_not_find() -> None:
    """Fed forward whole, friction that always slides leaves the motion of an axis without any."""
    rigid = TwoMass(inertia_motor=3.7e-4)
    free = replace(TWIN, load=rigid, velocity_feedforward=1.0, acceleration_torque=3.7e-4)
    rubs = replace(free, coulomb=0.2)
    fed = replace(rubs, friction_torque=0.2)

    def lag(twin: Twin) -> float:
        record = twin.run(MOVE, rest=0.0)
        return float(np.abs(record.position_ref - record.motor).max())

    assert lag(rubs) > 3 * lag(free)
    assert lag(fed) - lag(free) < 0.1 * (lag(rubs) - lag(free))


def test_a_slow_lag_forgets_what_the_limit_took_of_its_torque() -> None:
    """Filled up at the limit it gives that back for long after, and a position loop around it swings by radians."""
    heavy = TwoMass(
        inertia_motor=4.4e-5, inertia_load=1.2e-3, stiffness=40.0, damping=5e-3, viscous=2e-4, viscous_load=4.5e-2
    )
    lag = Section(zero_hz=145.0, zero_damping=0.04, pole_hz=14.0, pole_damping=1.0)
    gains = GAINS.with_(
        velocity_gain=6.3, velocity_reset=0.025, position_gain=57.0, feedback_filter_hz=1900.0, torque_filter_hz=1900.0,
        notch_depth_db=0.0, sections=(lag,),
    )  # fmt: skip
    assert spectral_radius("position", heavy, TWIN.winding, gains) < 1.0
    move = move_profile(18.0, velocity=92.0, acceleration=1100.0, jerk=66_000.0)
    twin = replace(TWIN, gains=gains, load=heavy, velocity_feedforward=1.0)
    for limit in (30.0, 3.0):
        record = replace(twin, current_limit=limit).run(move, rest=0.8)
        assert (record.current_limited.sum() > 500) == (limit < 10.0)
        last = record.motor[-400:]
        assert np.ptp(last) < 0.002
        assert last.mean() == pytest.approx(18.0, abs=0.002)


def test_limits_are_seen_where_they_bind() -> None:
    harsh = move_profile(30.0, velocity=400.0, acceleration=60_000.0, jerk=4e6)
    by_current = replace(TWIN, current_limit=5.0, velocity_feedforward=1.0).run(harsh)
    assert by_current.current_limited.max() == 1.0 and np.abs(by_current.current).max() < 5.3
    rigid = TwoMass(inertia_motor=3.7e-4)
    by_voltage = replace(TWIN, load=rigid, voltage_limit=120.0, current_limit=5.0, velocity_feedforward=1.0).run(harsh)
    assert by_voltage.voltage_limited.max() == 1.0
    speed = np.gradient(by_voltage.motor, by_voltage.period)
    at = round(0.1 / by_voltage.period)
    assert speed[at] == pytest.approx(120.0 / 0.6, rel=1e-3)  # where back-EMF leaves no voltage for current


def test_play_lets_the_load_lag_by_its_half() -> None:
    loose = replace(TWIN, play=0.02, coulomb=0.05, velocity_feedforward=1.0)
    record = loose.run(move_profile(30.0, velocity=10.0, acceleration=400.0, jerk=40_000.0))
    middle = len(record.time) // 2
    twist = (0.5 * 0.05 + LOAD.viscous_load * 10.0) / 300.0
    assert record.motor[middle] - record.load[middle] == pytest.approx(0.01 + twist, rel=0.02)


def test_set_points_are_those_of_the_profile() -> None:
    record = TWIN.run(MOVE)
    inside = record.moving > 0.5
    assert np.count_nonzero(inside) * record.period == pytest.approx(MOVE.duration, abs=2 * record.period)
    assert record.position_ref[inside] == pytest.approx(
        sample_profile(MOVE, record.time[inside] + record.period)[0], abs=1e-12
    )


def test_a_counted_device_tells_speed_by_its_edges() -> None:
    """At constant speed between edges: no ripple of a count a sample, which would be 2 pi / 4000 / 250 µs."""
    counted = replace(TWIN, resolution=2 * np.pi / 4000, counted=True, velocity_feedforward=1.0)
    record = counted.run(move_profile(30.0, velocity=10.0, acceleration=400.0, jerk=40_000.0))
    middle = slice(len(record.time) // 3, len(record.time) // 2)
    assert np.std(record.velocity[middle]) < 0.02 * counted.resolution / record.period
    assert np.mean(record.velocity[middle]) == pytest.approx(10.0, rel=1e-3)
    assert np.abs(record.position - record.motor).max() <= 0.5001 * counted.resolution


def test_a_resting_axis_does_not_stir_however_coarse_its_device() -> None:
    record = replace(TWIN, resolution=2 * np.pi / 2000, counted=True, coulomb=0.05).run(MOVE, rest=1.0)
    rest = record.time > MOVE.duration + 0.5
    assert np.ptp(record.motor[rest]) < 2 * np.pi / 2000


def test_it_is_made_of_what_the_runs_found() -> None:
    """Play closed with its own stiffness and damping; friction of the friction run once there is one."""
    measured = FrequencyResponse(*(np.ones(3) for _ in range(4)))
    springy = SpringyLoad(
        load=LOAD, small_signal_resistance=1.3, measured=measured, rise=0.1, closed_damping=0.5, play=0.02
    )
    total = TotalLoad(inertia=LOAD.inertia, viscous_total=9e-3, coulomb=0.1, constant=0.3)
    values = drive_values(values_of("tile-pusher"))
    axis = understand(values_of("tile-pusher"))
    found = IdentifiedPlant(total=total, springy=springy)
    twin = Twin.of_identified(axis, values, found, Rates())
    assert twin.load.resonance_hz == pytest.approx(1.1 * (LOAD.resonance_hz or 0.0))
    assert twin.load.damping == 0.5 * LOAD.damping
    assert (twin.play, twin.coulomb, twin.constant, twin.breakaway) == (0.02, 0.1, 0.3, 0.0)
    assert twin.counted  # an incremental device
    rubbed = RubbedLoad(sliding=0.12, viscous=6e-3, breakaway=0.2, stribeck_speed=2.5)
    twin = Twin.of_identified(axis, values, found.with_part(rubbed), Rates())
    assert (twin.coulomb, twin.breakaway, twin.stribeck_speed) == (0.12, 0.2, 2.5)
    assert twin.load.viscous + twin.load.viscous_load == pytest.approx(6e-3)
    assert twin.load.viscous / twin.load.viscous_load == pytest.approx(LOAD.viscous / LOAD.viscous_load)
    with pytest.raises(UnusableInput, match="no twin"):
        Twin.of_identified(axis, values, IdentifiedPlant(), Rates())
