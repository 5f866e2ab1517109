"""The linear model against the exact sampled system and against the simulated drive."""

from dataclasses import replace

import numpy as np
import pytest
from scipy.linalg import expm

from cadrel.core.control import (
    Gains,
    Rates,
    Sensor,
    TwoMass,
    Winding,
    current_open,
    loop_block,
    loop_responses,
    mechanics,
    position_open,
    read_margins,
    spectral_radius,
    step_response,
    told_speed,
    velocity_controller,
    velocity_open,
    velocity_plant,
)
from cadrel.core.control.cascade import velocity_regulator
from cadrel.core.control.filters import Section, lowpass_pole

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


TICK, TV = Rates().current, Rates().velocity


def mechanics_tick() -> tuple[np.ndarray, np.ndarray]:
    """State matrix and voltage column over a tick by SciPy's exponential; states i, w1, th1, w2, twist."""
    j1, j2, k, d = LOAD.inertia_motor, LOAD.inertia_load, LOAD.stiffness, LOAD.damping
    whole = np.zeros((6, 6))
    whole[0, :2] = -WINDING.resistance / WINDING.inductance, -WINDING.emf / WINDING.inductance
    whole[0, 5] = 1 / WINDING.inductance
    whole[1, :5] = [1 / j1, -(d + LOAD.viscous) / j1, 0, d / j1, -k / j1]
    whole[2, 1] = 1.0
    whole[3, :5] = [0, d / j2, 0, -(d + LOAD.viscous_load) / j2, k / j2]
    whole[4, :5] = [0, 1, 0, -1, 0]
    step = expm(whole * TICK)
    return step[:5, :5], step[:5, 5]


def exact_plant(frequency: np.ndarray) -> np.ndarray:
    """Torque command to speed of the sampled system, its equations written out by hand and solved by NumPy."""
    phi, gamma = mechanics_tick()
    f = lowpass_pole(GAINS.feedback_filter_hz, period=TV)

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


def test_velocity_plant_is_the_exact_sampled_system_up_to_half_its_rate() -> None:
    frequency = np.geomspace(5, 1990, 60)
    np.testing.assert_allclose(velocity_plant(LOAD, WINDING, GAINS, frequency), exact_plant(frequency), rtol=1e-7)


def test_below_the_aliases_the_plant_is_what_the_continuous_formulas_give() -> None:
    # The textbook product: hold, current loop, two masses, difference of positions; aliases are under 1 % below 500 Hz.
    f = np.geomspace(5, 500, 40)
    still = replace(WINDING, emf=0.0)
    s, zi, z = 2j * np.pi * f, np.exp(-2j * np.pi * f * TICK), np.exp(-2j * np.pi * f * TV)
    controller = GAINS.current_gain * (1 + TICK / GAINS.current_reset * zi / (1 - zi))
    current = controller * zi * (1 - zi) / (s * TICK) / (WINDING.resistance + s * WINDING.inductance)
    current /= 1 + current_open(still, GAINS, f)
    product = (1 - z) / (1 - zi) * TICK / TV * current * mechanics(LOAD, f) * (1 - z) / (s * TV)
    np.testing.assert_allclose(velocity_plant(LOAD, still, GAINS, f), product, rtol=0.012)


SENSORS = {
    "late by a part of a tick": Sensor(latency=37e-6),
    "late by more than a tick": Sensor(latency=150e-6),
    "late by whole ticks": Sensor(latency=125e-6),
    "through a tracking converter": Sensor(tracking=2 * np.pi * 900),
}


@pytest.mark.parametrize("name", SENSORS)
def test_latency_is_a_delay_and_a_tracking_converter_its_own_transfer_function(name: str) -> None:
    sensor = SENSORS[name]
    f = np.geomspace(5, 400, 30)
    still = replace(WINDING, emf=0.0)
    ideal = velocity_plant(LOAD, still, GAINS, f)
    seen = velocity_plant(LOAD, still, GAINS.with_sensor(sensor), f)
    w, q = sensor.tracking, np.exp(-2j * np.pi * f * TICK)
    expected = np.exp(-2j * np.pi * f * sensor.latency)
    if w:  # the difference equations of docs/control-structure.md solved for w^ over the angle, by hand
        error = 1 / (1 + q * TICK * (TICK * w * w / (1 - q) + 1.8 * w) / (1 - q))
        difference = (1 - np.exp(-2j * np.pi * f * TV)) / TV  # what the ideal plant has in its place
        mean = (1 - q**4) / (4 * (1 - q))  # of the four ticks of a velocity sample
        expected = TICK * w * w / (1 - q) * error * mean / difference
    np.testing.assert_allclose(seen / ideal, expected, rtol=0.012)
    np.testing.assert_allclose(told_speed(GAINS.with_sensor(sensor), f), expected, rtol=1e-9)


@pytest.mark.parametrize("sensor", [Sensor(), *SENSORS.values()])
def test_open_loops_put_together_from_frequency_responses_are_those_of_the_composed_blocks(sensor: Sensor) -> None:
    gains = GAINS.with_sensor(sensor)
    f = np.geomspace(2, 1000, 60)
    plant = velocity_plant(LOAD, WINDING, gains, f)
    for loop, built in (("velocity", velocity_open(plant, gains, f)), ("position", position_open(plant, gains, f))):
        block = loop_block(loop, LOAD, WINDING, gains, closed=False)  # type: ignore[arg-type]
        composed = block.response(f, output="fed back", entry="error")
        np.testing.assert_allclose(built, composed, rtol=0.02 if sensor.tracking and loop == "position" else 1e-6)


def test_latency_and_tracking_cost_gain_margin() -> None:
    f = np.geomspace(1, 1990, 3000)

    def margin(sensor: Sensor) -> float:
        gains = GAINS.with_sensor(sensor)
        found = read_margins(velocity_open(velocity_plant(LOAD, WINDING, gains, f), gains, f), f).gain_margin_db
        assert found is not None
        return found

    assert margin(Sensor()) - margin(Sensor(latency=100e-6)) > 0.5
    assert margin(Sensor()) - margin(Sensor(tracking=2 * np.pi * 700)) > 1.0


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


def test_the_regulators_response_is_that_of_its_block() -> None:
    """Multiplied part by part, and from the matrices of the whole: with a lag, a notch, and a section off."""
    lag = Section(zero_hz=90.0, zero_damping=0.4, pole_hz=40.0, pole_damping=0.9)
    answer = Section(zero_hz=290.0, zero_damping=0.05, pole_hz=0.0, pole_damping=0.5)
    f = np.geomspace(0.5, 1990.0, 200)
    for gains in (GAINS, GAINS.with_(sections=(lag,)), GAINS.with_(notch_hz=0.0, sections=(lag, answer))):
        block = velocity_regulator(gains).response(f, output="torque", entry="error")
        np.testing.assert_allclose(velocity_controller(gains, f), block, rtol=1e-9)
