"""Chains of stages, straight motors, gravity, and what a move asks of the motor."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cadrel.core.mechanics import Mechanism, demand_of_move, mechanism_from_entries
from cadrel.core.motion import move_profile
from cadrel.core.parameters import Entry


def mechanism(**values: object) -> Mechanism:
    made: dict[str, Entry] = {}
    for key, value in values.items():
        number, unit = value if isinstance(value, tuple) else (value, None)
        name = key.replace("__", ".") if "__" in key else f"mechanics.{key}"
        made[name] = {"value": number} if unit is None else {"value": number, "unit": unit}
    return mechanism_from_entries(made)


def test_thirty_to_one_turns_sixty_into_two() -> None:
    # Common practice: 30:1 at 60 rpm gives 2 rpm.
    m = mechanism(kind="rotary", ratio=30)
    assert 60 / m.motor_rad_per_load == pytest.approx(2)


def test_stages_multiply_and_the_load_is_divided_by_the_square() -> None:
    m = mechanism(kind="rotary", ratio=5, ratio_second=4, load_inertia=(0.04, "kg·m²"), gear_inertia=(0.2, "kg·cm²"))
    assert m.motor_rad_per_load == 20
    assert m.inertia_reflected == pytest.approx(0.04 / 400 + 0.2e-4)


def test_a_screw_reflects_mass_by_its_lead() -> None:
    # J = m (h / 2 pi)²: 100 kg on a 10 mm lead are 2.533 kg·cm² (handbook relation of every screw maker).
    m = mechanism(kind="screw", feed=(10, "mm"), load_mass=(100, "kg"))
    assert m.inertia_reflected == pytest.approx(2.533e-4, rel=1e-3)
    assert m.unit_per_rad * math.tau == pytest.approx(10)


def test_a_linear_motor_carries_its_load_by_its_pitch() -> None:
    m = mechanism(sheet__kind="linear", sheet__pitch=(32, "mm"), load_mass=(4, "kg"))
    assert m.kind == "linear"
    assert m.inertia_reflected == pytest.approx(4 * (0.032 / math.tau) ** 2)
    assert m.unit_per_rad * math.tau == pytest.approx(32)


@given(st.floats(0.1, 500), st.floats(-90, 90))
def test_gravity_follows_the_slope(mass: float, slope: float) -> None:
    m = mechanism(kind="screw", feed=(5, "mm"), load_mass=(mass, "kg"), orientation="incline", incline=(slope, "°"))
    force = m.torque_constant_load * m.motor_rad_per_load
    assert force == pytest.approx(mass * 9.80665 * math.sin(math.radians(slope)), abs=1e-9 * mass)


def test_a_counterweight_balances_force_and_adds_inertia() -> None:
    plain = mechanism(kind="rack", feed=(100, "mm"), load_mass=(80, "kg"), orientation="vertical")
    balanced = mechanism(
        kind="rack", feed=(100, "mm"), load_mass=(80, "kg"), orientation="vertical", counterweight=(80, "kg")
    )
    assert plain.torque_constant_load > 0
    assert balanced.torque_constant_load == pytest.approx(0, abs=1e-12)
    assert balanced.inertia_reflected == pytest.approx(2 * plain.inertia_reflected)


def test_a_rotary_load_has_no_weight_along_its_path() -> None:
    assert mechanism(kind="rotary", ratio=3, orientation="vertical").torque_constant_load == 0


PROFILE = move_profile(50.0, velocity=200.0, acceleration=2000.0, jerk=2e5)
RIGID = Mechanism(motor_rad_per_load=1, is_linear=False, inertia_reflected=3e-4)


def test_torque_of_a_move_integrates_to_the_momentum_of_top_speed() -> None:
    demand = demand_of_move(PROFILE, RIGID, inertia=4e-4, dwell=0.1)
    up = demand.torque[: len(demand.torque) // 2]
    time = np.linspace(0, PROFILE.duration, len(demand.torque))[: len(up)]
    assert np.trapezoid(up, time) == pytest.approx(4e-4 * demand.speed_top, rel=0.01)  # impulse = J w
    assert demand.torque_peak == pytest.approx(4e-4 * 2000, rel=1e-3)


def test_energy_in_is_energy_out_on_a_rigid_frictionless_axis() -> None:
    demand = demand_of_move(PROFILE, RIGID, inertia=4e-4, dwell=0.0)
    time = np.linspace(0, PROFILE.duration, len(demand.torque))
    work = np.trapezoid(demand.torque * demand.speed, time)
    assert abs(work) < 1e-3 * 0.5 * 4e-4 * demand.speed_top**2


def test_240_degrees_in_200_ms_with_100_ms_ramps_peaks_at_400_rpm() -> None:
    # Common practice: a triangle of speed; mean is half of the peak: 2/3 turn in 0.2 s, 200 rpm mean.
    ramp = math.radians(240) / 0.01
    profile = move_profile(math.radians(240), velocity=1e4, acceleration=ramp, jerk=1e9)
    demand = demand_of_move(profile, RIGID, inertia=4e-4, dwell=0.0)
    assert profile.duration == pytest.approx(0.2, rel=1e-3)
    assert demand.speed_top * 30 / math.pi == pytest.approx(400, rel=0.01)


def test_efficiency_costs_while_driving_and_saves_while_braking() -> None:
    lossy = Mechanism(motor_rad_per_load=1, is_linear=False, inertia_reflected=3e-4, efficiency=0.5)
    ideal, real = (demand_of_move(PROFILE, m, inertia=4e-4, dwell=0.0).torque for m in (RIGID, lossy))
    assert real.max() == pytest.approx(1e-4 * 2000 + 3e-4 * 2000 / 0.5, rel=1e-3)
    assert real.min() == pytest.approx(-(1e-4 * 2000 + 3e-4 * 2000 * 0.5), rel=1e-3)
    assert ideal.min() < real.min()


def test_a_held_load_counts_in_the_dwell() -> None:
    hanging = Mechanism(motor_rad_per_load=1, is_linear=True, inertia_reflected=3e-4, torque_constant_load=0.7)
    demand = demand_of_move(PROFILE, hanging, inertia=4e-4, dwell=100.0)
    assert demand.torque_rms == pytest.approx(0.7, rel=0.01)
    assert demand.torque_holding == 0.7
