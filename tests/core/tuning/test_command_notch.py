"""The notch that planned moves pass: chosen where the load's swing is what limits, and what it does to the load."""

import math
from dataclasses import replace

import numpy as np
import pytest

from cadrel.core.control import Gains, TwoMass
from cadrel.core.motion import move_profile
from cadrel.core.tuning import tune_position, tune_velocity
from cadrel.core.twin import Twin
from cadrel.core.verdict.loops import load_peak_db
from tests.core.tuning.usual import START, USUAL, WINDING

SOFT = TwoMass(
    inertia_motor=1.4e-4, inertia_load=1.4e-3, stiffness=1.4e-3 * (2 * math.pi * 30) ** 2, damping=2e-3, viscous=3e-4
)
SETTLING = 0.12


@pytest.fixture(scope="module")
def velocity() -> Gains:
    return tune_velocity(SOFT, WINDING, START, USUAL).gains


def test_a_load_that_swings_gets_a_notch_and_a_higher_gain_within_the_same_swing(velocity: Gains) -> None:
    plain, limit = tune_position(SOFT, WINDING, velocity, USUAL)
    assert "swings" in limit
    assert plain.shaping_hz == 0.0
    shaped, _ = tune_position(SOFT, WINDING, velocity, USUAL, settling=SETTLING)
    assert shaped.shaping_hz == pytest.approx(SOFT.antiresonance_hz, rel=1e-3)
    assert shaped.position_gain > 1.3 * plain.position_gain
    for load in (SOFT, SOFT.drifted(0.05), SOFT.drifted(-0.05)):
        assert load_peak_db(load, WINDING, shaped) <= USUAL.load_peak_db
    assert load_peak_db(SOFT, WINDING, shaped.with_(shaping_depth_db=0.0)) > USUAL.load_peak_db  # it is the notch


def test_a_notch_that_would_take_more_than_half_of_the_settling_time_is_none(velocity: Gains) -> None:
    hurried, _ = tune_position(SOFT, WINDING, velocity, USUAL, settling=0.05)
    assert hurried.shaping_hz == 0.0


def test_a_stiff_shaft_needs_none_and_one_in_force_goes(velocity: Gains) -> None:
    stiff = TwoMass(inertia_motor=3.7e-4, viscous=3e-4)
    tuned = tune_velocity(stiff, WINDING, START, USUAL).gains
    left = tuned.with_(shaping_hz=30.0, shaping_depth_db=-30.0)
    gains, _ = tune_position(stiff, WINDING, left, USUAL, settling=SETTLING)
    assert gains.shaping_depth_db == 0.0


def test_the_load_swings_less_after_a_move(velocity: Gains) -> None:
    """The same gains on a twin with and without: what is left of the load's swing once the command has ended."""
    shaped, _ = tune_position(SOFT, WINDING, velocity, USUAL, settling=SETTLING)
    twin = Twin(
        gains=shaped, winding=WINDING, load=SOFT, torque_constant=0.9, pole_pairs=4.0, voltage_limit=300.0,
        current_limit=40.0, velocity_limit=300.0, velocity_feedforward=1.0, acceleration_torque=SOFT.inertia,
    )  # fmt: skip
    move = move_profile(4.0, velocity=80.0, acceleration=4000.0, jerk=2e6)

    def swing(one: Twin) -> float:
        record = one.run(move, rest=0.6)
        after = record.time > move.duration + SETTLING / 2
        return float(np.ptp((record.load - record.position_ref)[after]))

    without = replace(twin, gains=shaped.with_(shaping_hz=0.0, shaping_depth_db=0.0))
    assert swing(twin) < 0.2 * swing(without)
