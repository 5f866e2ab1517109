"""The move on the twin: its room, and its words where the machine parts from it."""

from dataclasses import replace

import numpy as np
import pytest

from cadrel.core.axis.understanding import Goal
from cadrel.core.control import Gains, TwoMass, Winding
from cadrel.core.motion import move_profile
from cadrel.core.twin import Twin, TwinRecord
from cadrel.link import Recording
from cadrel.procedures.foreseen import (
    LEFT,
    foresee,
    laid_over,
    largest_of,
    parted,
    quiet_window,
    rest_of_load,
    room_of,
)

GOAL = Goal(
    distance=6.0, move_time=0.2, window=2e-3, settling_time=0.05, following_error=0.03, dwell=0.3, repeats=2,
    travel=20.0, velocity=60.0,
)  # fmt: skip
TWIN = Twin(
    gains=Gains(
        current_gain=17.0, current_reset=3.5e-3, velocity_gain=0.2, velocity_reset=12e-3, feedback_filter_hz=800,
        torque_filter_hz=1200, position_gain=120.0,
    ),
    winding=Winding(resistance=1.3, inductance=4.6e-3, emf=0.54),
    load=TwoMass(inertia_motor=3.7e-4, viscous=1e-3),
    coulomb=0.05, torque_constant=0.9, pole_pairs=4.0, voltage_limit=300.0, current_limit=20.0, velocity_limit=100.0,
    velocity_feedforward=1.0, acceleration_torque=3.7e-4,
)  # fmt: skip
LIMITS = {"velocity": 60.0, "acceleration": 1500.0, "jerk": 1e5}


def test_room_is_the_edge_of_the_goal() -> None:
    room = room_of(TWIN, GOAL.distance, LIMITS, GOAL)
    assert room.inertia is not None and room.quicker is not None
    profile = move_profile(GOAL.distance, **LIMITS)

    def with_inertia(factor: float) -> bool:
        return foresee(replace(TWIN, load=TWIN.load.weighing(factor)), profile, GOAL).meets(GOAL)

    assert with_inertia(room.inertia)
    assert not with_inertia(1.06 * room.inertia)
    quicker = {"velocity": 1.06 * room.quicker, "acceleration": 1500.0 * (1.06 * room.quicker) ** 2, "jerk": 1e5}
    quicker["velocity"] *= 60.0
    quicker["jerk"] *= (1.06 * room.quicker) ** 3
    wider = replace(TWIN, velocity_limit=1e4)
    assert not foresee(wider, move_profile(GOAL.distance, **quicker), GOAL).meets(GOAL)


def test_gains_that_do_not_meet_the_goal_leave_no_room() -> None:
    slack = replace(TWIN, velocity_feedforward=0.0)
    room = room_of(slack, GOAL.distance, LIMITS, GOAL)
    assert room.inertia is None and room.quicker is None


def test_the_load_behind_a_soft_shaft_settles_later_than_the_motor() -> None:
    soft = TwoMass(inertia_motor=1.2e-4, inertia_load=2.5e-4, stiffness=12.0, damping=2e-4)
    foreseen = foresee(replace(TWIN, load=soft, gains=TWIN.gains.with_(velocity_gain=0.02)),
                       move_profile(GOAL.distance, **LIMITS), replace(GOAL, window=0.02, dwell=1.5))  # fmt: skip
    assert foreseen.load_settling is None or foreseen.settling is None or foreseen.load_settling > foreseen.settling


def test_it_is_laid_over_a_recording_start_on_start() -> None:
    profile = move_profile(GOAL.distance, **LIMITS)
    foreseen = foresee(TWIN, profile, GOAL)
    period, before = 1e-3, 40
    n = before + int(profile.duration / period) + 200
    active = np.zeros(n)
    active[before : before + int(profile.duration / period)] = 1.0
    channels = {"profile_active": active, "position_ref": np.full(n, 2.5)}
    over = laid_over(foreseen, Recording(period, channels))
    assert np.all(over["twin_position"][: before - 1] == 2.5)
    own = np.interp(0.1, foreseen.record.time, foreseen.record.position)
    at = before + round((0.1 - foreseen.record.period) / period)
    assert over["twin_position"][at] - 2.5 == pytest.approx(own, abs=0.01 * GOAL.distance)


@pytest.mark.parametrize(
    ("settling", "error", "says"),
    [(0.2, 1.0, "breakaway"), (None, 1.0, "never"), (0.0, 40.0, "strays"), (0.0, 1.0, "")],
)
def test_where_the_machine_is_worse_it_is_said(settling: float | None, error: float, says: str) -> None:
    foreseen = foresee(TWIN, move_profile(GOAL.distance, **LIMITS), GOAL)
    remarks = parted(foreseen, settling=settling, following_error=error * foreseen.following_error, window=GOAL.window)
    assert says in " ".join(remarks)
    assert bool(remarks) == bool(says)


def swinging(*, twist: float, size: float, decay: float, dwell: float = 0.6) -> TwinRecord:
    """A load that ends two moves behind its motor by a twist, and swings about that at 11 Hz. [rad], [1/s], [s]"""
    period = 250e-6
    move, rest = round(0.1 / period), round(dwell / period)
    t = period * np.arange(rest)
    after = twist + size * np.exp(-decay * t) * np.cos(2 * np.pi * 11 * t)
    load, moving = np.concatenate([np.zeros(move), after] * 2), np.concatenate([np.ones(move), np.zeros(rest)] * 2)
    nothing = np.zeros(len(load))
    return TwinRecord(period, nothing, nothing, nothing, nothing, load, nothing, moving, nothing, nothing)


@pytest.mark.parametrize("twist", [0.0, 0.05, -0.05])
def test_a_load_rests_when_its_swing_is_within_the_window_wherever_friction_leaves_it(twist: float) -> None:
    # An exponential: size exp(-decay t) is the window's half width after ln(size / window) / decay.
    at = rest_of_load(swinging(twist=twist, size=0.02, decay=12.0), 2e-3)
    assert at == pytest.approx(np.log(10) / 12.0, abs=0.5 / 11)
    assert rest_of_load(swinging(twist=twist, size=1e-3, decay=12.0), 2e-3) == 0.0
    assert np.isinf(rest_of_load(swinging(twist=twist, size=0.02, decay=1.0), 2e-3)), "it swings on to the end"


@pytest.mark.parametrize("samples", [300, 3000, 30_000])
def test_the_largest_of_many_normal_values_lies_out_as_far_as_is_said(samples: int) -> None:
    """NumPy's generator as judge: no nearer than the median of the largest, and by no more than a sixth beyond."""
    rng = np.random.default_rng(7)
    largest = np.median([np.abs(rng.normal(size=samples)).max() for _ in range(200)])
    assert largest == pytest.approx(largest_of(samples), rel=0.17)


def test_a_device_that_flickers_leaves_less_of_the_window_and_a_slow_loop_settles_later() -> None:
    slow = replace(TWIN, gains=TWIN.gains.with_(position_gain=15.0), coulomb=0.3)
    profile = move_profile(GOAL.distance, **LIMITS)
    settling = [
        foresee(replace(slow, flicker=share * GOAL.window), profile, GOAL).settling for share in (0.0, 0.1, 0.2)
    ]
    assert all(s is not None for s in settling) and settling == sorted(settling) and settling[2] > settling[0] + 0.01
    # What is left decays with the position gain: from the window to what is left of it takes the logarithm of both.
    left = quiet_window(GOAL.window, 0.2 * GOAL.window, round(2 * GOAL.dwell / TWIN.gains.rates.velocity))
    assert settling[2] - settling[0] == pytest.approx(np.log(GOAL.window / left) / 15.0, abs=0.02)


def test_however_much_a_device_flickers_some_of_the_window_is_left() -> None:
    assert quiet_window(1.0, 0.0, 5000) == 1.0
    assert quiet_window(1.0, 5.0, 5000) == LEFT
