"""The judge of the evidence against the drive's linear model: two ways, written apart, that must agree."""

import math

import numpy as np
import pytest

from cadrel.cli.true_plant import at_small_currents, true_loops, true_velocity_bandwidth
from cadrel.core.control import Gains, TwoMass, Winding
from cadrel.core.parameters import default_drive_values
from cadrel.core.verdict import refined_margins
from tests.conftest import rig_of

TRUTH = rig_of("tile-pusher")


def values_with(**changes: float) -> dict[str, float]:
    return default_drive_values() | {
        "motor.pole_pairs": float(TRUTH.pole_pairs), "motor.flux_linkage": TRUTH.flux_linkage,
        "motor.resistance": TRUTH.resistance, "motor.inductance": TRUTH.inductance_q, "current.gain": 17.0,
        "current.reset_time": 3.4e-3, "velocity.gain": 0.15, "velocity.reset_time": 9e-3,
        "velocity.torque_filter": 1500.0,
        "velocity.feedback_filter": 800.0, "velocity.notch_frequency": 309.0, "velocity.notch_depth": -10.0,
        "velocity.notch_width": 0.3, "position.gain": 150.0, "velocity.section2_zero": 650.0,
        "velocity.section2_zero_damping": 0.1, "velocity.section2_pole": 900.0, "velocity.section2_pole_damping": 0.7,
    } | {k.replace("__", "."): v for k, v in changes.items()}  # fmt: skip


def models() -> tuple[TwoMass, Winding]:
    t = TRUTH
    load = TwoMass(
        inertia_motor=t.inertia_motor, inertia_load=t.inertia_load, stiffness=t.stiffness, damping=t.damping,
        viscous=t.viscous_motor, viscous_load=t.viscous_load,
    )  # fmt: skip
    emf = 1.5 * (t.pole_pairs * t.flux_linkage) ** 2
    return load, Winding(resistance=t.resistance, inductance=t.inductance_q, emf=emf)


@pytest.mark.parametrize("loop", ["velocity", "position"])
def test_the_exact_sampled_system_and_the_linear_model_read_the_same_margins(loop: str) -> None:
    values = values_with()
    found = true_loops(TRUTH, values)[loop]
    load, winding = models()
    model = refined_margins(loop, load, winding, Gains.from_drive(values))  # type: ignore[arg-type]
    assert found.is_stable
    assert found.margins.sensitivity_peak == pytest.approx(model.sensitivity_peak, rel=0.02)
    assert math.degrees(found.margins.phase_margin or 0) == pytest.approx(
        math.degrees(model.phase_margin or 0), abs=1.0
    )
    assert found.margins.gain_margin_db == pytest.approx(model.gain_margin_db, abs=0.3)


def test_the_bandwidth_is_that_of_the_linear_model_and_ends_at_the_loads_anti_resonance() -> None:
    for gain in (0.05, 0.15):
        values = values_with(velocity__gain=gain)
        model = refined_margins("velocity", *models(), Gains.from_drive(values)).bandwidth_hz
        assert model is not None
        assert true_velocity_bandwidth(TRUTH, values, speed_of_run=40.0) == pytest.approx(model, rel=0.03)
    heavy = rig_of("tile-pusher", inertia_load=20 * TRUTH.inertia_motor, stiffness=TRUTH.stiffness / 10)
    antiresonance = math.sqrt(heavy.stiffness / heavy.inertia_load) / (2 * math.pi)
    values = values_with(velocity__gain=0.15)
    assert 0.5 * antiresonance < true_velocity_bandwidth(heavy, values, speed_of_run=40.0) < antiresonance


def test_a_position_loop_on_the_load_is_read_alike_by_both() -> None:
    values = values_with(position__gain=90.0, feedback__second_counts=2e4, feedback__position_device=1.0)
    gains = Gains.from_drive(values)
    assert gains.on_load
    found = true_loops(TRUTH, values)["position"]
    model = refined_margins("position", *models(), gains)
    assert found.is_stable
    assert found.margins.sensitivity_peak == pytest.approx(model.sensitivity_peak, rel=0.02)
    assert found.margins.gain_margin_db == pytest.approx(model.gain_margin_db, abs=0.3)
    # It is another loop than the motor's, which has no such gain margin.
    motors = true_loops(TRUTH, values | {"feedback.position_device": 0.0})["position"]
    assert abs((motors.margins.gain_margin_db or 99.0) - (found.margins.gain_margin_db or 99.0)) > 1.0
    assert not true_loops(TRUTH, values | {"position.gain": 1500.0})["position"].is_stable


def test_a_loop_that_runs_away_is_unstable_to_the_judge() -> None:
    assert not true_loops(TRUTH, values_with(velocity__gain=2.0))["velocity"].is_stable
    assert not true_loops(TRUTH, values_with(position__gain=1500.0))["position"].is_stable
    assert np.isfinite(true_loops(TRUTH, values_with())["velocity"].margins.sensitivity_peak)


def test_small_currents_meet_the_dead_time_as_the_resistance_its_slope_is() -> None:
    # Within its linear part a clipped law loses U / i0 for every ampere, whatever the angle: that much resistance.
    truth = rig_of("tile-pusher", dead_law="clipped", dead_voltage=0.9, dead_current=0.5)
    small = 0.2 + 0.1 * np.sin(np.linspace(0, 40, 4000))
    assert at_small_currents(truth, small).resistance == pytest.approx(truth.resistance + 0.9 / 0.5)
    large = 60.0 + np.sin(np.linspace(0, 40, 4000))  # far beyond, all is lost whatever flows: hardly any resistance
    assert at_small_currents(truth, large).resistance < truth.resistance + 0.05


def test_a_loop_whose_phase_passes_the_axis_with_gain_to_spare_is_stable_on_a_condition() -> None:
    assert not true_loops(TRUTH, values_with())["velocity"].is_conditional
    # Poles that swing far below the crossover turn the phase beyond -180° there, and zeros above them back again.
    lag = {
        "velocity.section2_zero": 12.0, "velocity.section2_zero_damping": 0.3,
        "velocity.section2_pole": 6.0, "velocity.section2_pole_damping": 0.05,
    }  # fmt: skip
    stiff = values_with(velocity__reset_time=0.05, velocity__gain=4 * values_with()["velocity.gain"]) | lag
    loop = true_loops(TRUTH, stiff)["velocity"]
    assert loop.is_stable and loop.is_conditional
    less = [stiff | {"velocity.gain": k * stiff["velocity.gain"]} for k in np.geomspace(0.5, 1e-3, 25)]
    assert not all(true_loops(TRUTH, values)["velocity"].is_stable for values in less)
