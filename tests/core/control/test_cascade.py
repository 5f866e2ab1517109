"""The linear model against the exact sampled system and against the simulated drive."""

import numpy as np
import pytest

from cadrel.core.control import (
    Gains,
    TwoMass,
    Winding,
    current_open,
    loop_responses,
    read_margins,
    spectral_radius,
    step_response,
    velocity_open,
    velocity_plant,
)
from cadrel.core.control.filters import TICK, TV, lowpass_pole
from cadrel.core.control.poles import _mechanics_tick

LOAD = TwoMass(
    inertia_motor=1.4e-4, inertia_load=2.3e-4, stiffness=300.0, damping=0.02, viscous=4e-4, viscous_load=3e-3
)
WINDING = Winding(resistance=1.3, inductance=4.6e-3, emf=0.8)
GAINS = Gains(
    current_gain=17.0,
    current_reset=3.5e-3,
    velocity_gain=0.2,
    velocity_reset=6e-3,
    feedback_filter_hz=800,
    torque_filter_hz=1200,
    notch_hz=295,
    notch_depth_db=-10,
    position_gain=200,
)


def exact_plant(frequency: np.ndarray) -> np.ndarray:
    """Torque command to speed of the sampled system, by its state equations over one velocity sample."""
    phi, gamma = _mechanics_tick(LOAD, WINDING)
    f = lowpass_pole(GAINS.feedback_filter_hz)

    def sample(x: np.ndarray, u: float) -> np.ndarray:
        plant, waiting, integral, last = x[:5], x[5], x[6], x[2]
        speed = f * x[8] + (1 - f) * (x[2] - x[7]) / TV  # what the feedforward of the back-EMF knows
        for _ in range(round(TV / TICK)):
            error = u - plant[0]
            now, waiting = waiting, GAINS.current_gain * error + integral + WINDING.emf * speed
            integral = integral + GAINS.current_gain / GAINS.current_reset * TICK * error
            plant = phi @ plant + gamma * now
        return np.array([*plant, waiting, integral, last, speed])

    a = np.array([sample(column, 0.0) for column in np.eye(9)]).T
    b = sample(np.zeros(9), 1.0)
    c = np.zeros(9)
    c[2], c[7] = 1 / TV, -1 / TV
    z = np.exp(2j * np.pi * frequency * TV)
    return np.array([c @ np.linalg.solve(q * np.eye(9) - a, b) for q in z])


def test_velocity_plant_is_the_exact_sampled_system_below_a_quarter_of_its_rate() -> None:
    frequency = np.geomspace(5, 1000, 40)
    ratio = velocity_plant(LOAD, WINDING, GAINS, frequency) / exact_plant(frequency)
    assert np.abs(20 * np.log10(np.abs(ratio))).max() < 0.15
    assert np.abs(np.degrees(np.angle(ratio))).max() < 1.0  # aliases left out: docs/control-structure.md


@pytest.mark.parametrize("loop", ["current", "velocity", "position"])
def test_step_and_eigenvalues_and_margins_tell_the_same_story(loop: str) -> None:
    calm = spectral_radius(loop, LOAD, WINDING, GAINS)
    _, y = step_response(loop, LOAD, WINDING, GAINS, duration=0.4)
    assert calm < 1
    assert y[-1] == pytest.approx(1.0, abs=0.01)
    wild = GAINS.with_(current_gain=400.0, velocity_gain=2.5, position_gain=1500.0)
    assert spectral_radius(loop, LOAD, WINDING, wild) > 1
    _, y = step_response(loop, LOAD, WINDING, wild, duration=0.2)
    assert np.abs(y).max() > 5


def test_instability_begins_where_the_gain_margin_says() -> None:
    frequency = np.geomspace(1, 1990, 3000)
    loop = velocity_open(velocity_plant(LOAD, WINDING, GAINS, frequency), GAINS, frequency)
    margin = read_margins(loop, frequency).gain_margin_db
    assert margin is not None
    edge = 10 ** (margin / 20)
    for share, stable in ((0.93, True), (1.07, False)):
        gains = GAINS.with_(velocity_gain=GAINS.velocity_gain * edge * share)
        assert (spectral_radius("velocity", LOAD, WINDING, gains) < 1) is stable


def test_closed_loop_and_sensitivity_add_up_to_one() -> None:
    frequency = np.geomspace(1, 1900, 300)
    for name, loop in loop_responses(LOAD, WINDING, GAINS, frequency).items():
        if name != "velocity":  # there the speed filter is outside the shown closed loop
            np.testing.assert_allclose(loop.closed + loop.sensitivity, 1.0, rtol=1e-9)


def test_current_bandwidth_is_the_one_asked_for() -> None:
    from cadrel.core.tuning import tune_current

    frequency = np.geomspace(10, 7900, 4000)
    for wanted in (400.0, 700.0, 1000.0, 1300.0):
        gains = tune_current(WINDING, GAINS, bandwidth_hz=wanted)
        found = read_margins(current_open(WINDING, gains, frequency), frequency).bandwidth_hz
        assert found == pytest.approx(wanted, rel=0.02)
