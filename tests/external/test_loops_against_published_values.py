"""Margins, steps and frequency responses against textbooks, python-control and SciPy."""

import math
from dataclasses import replace

import control
import numpy as np
import pytest
from scipy import signal

from cadrel.core.control import (
    Gains,
    Rates,
    TwoMass,
    Winding,
    current_open,
    mechanics,
    position_open,
    position_over_speed,
    read_margins,
    step_response,
)
from cadrel.core.control.filters import Section, notch
from cadrel.core.response import measure_step

TICK, TV = Rates().current, Rates().velocity
FREQUENCY = np.geomspace(0.01, 1000, 4000)


def on_grid(system: control.TransferFunction, frequency: np.ndarray = FREQUENCY) -> np.ndarray:
    return system(2j * np.pi * frequency)


def test_modulus_optimum_overshoots_by_the_published_4_3_percent() -> None:
    # Kessler's Betragsoptimum, Schröder, Leonhard (from memory): L = 1 / (2 T s (1 + T s)) overshoots by 4.3 %. The
    # recorded step comes from python-control; our metrics read it.
    delay = 1e-3
    loop = control.tf([1], [2 * delay**2, 2 * delay, 0])
    answer = control.step_response(control.feedback(loop, 1), T=np.linspace(0, 0.05, 20001))
    metrics = measure_step(answer.time, answer.outputs, start=0.0, target=1.0)
    assert 100 * metrics.overshoot == pytest.approx(4.3, abs=0.05)  # printed to two digits


def test_symmetrical_optimum_has_the_published_overshoot_and_margin() -> None:
    # C. Kessler, "Das symmetrische Optimum", Regelungstechnik 6 (1958) (from memory): 43.4 % without set-point
    # filter; margin for a = 2 is asin(3/5), exact.
    delay = 1e-3
    loop = control.tf([4 * delay, 1], [8 * delay**3, 8 * delay**2, 0, 0])
    answer = control.step_response(control.feedback(loop, 1), T=np.linspace(0, 0.1, 40001))
    metrics = measure_step(answer.time, answer.outputs, start=0.0, target=1.0)
    assert 100 * metrics.overshoot == pytest.approx(43.4, abs=0.05)
    found = read_margins(on_grid(loop), FREQUENCY)
    assert found.phase_margin == pytest.approx(math.asin(3 / 5), abs=1e-4)  # the grid has 800 points a decade


@pytest.mark.parametrize(
    "numbers", [([40.0], [1, 9, 20, 0]), ([3e3, 9e4], [1, 80, 2.5e3, 0]), ([0.5, 0.4], [1, 3, 3, 1, 0])]
)
def test_margins_are_those_of_python_control(numbers: tuple[list[float], list[float]]) -> None:
    loop = control.tf(*numbers)
    gain, phase, _, at_phase, at_gain, _ = control.stability_margins(loop)
    found = read_margins(on_grid(loop), FREQUENCY)
    assert math.degrees(found.phase_margin or 0) == pytest.approx(phase, abs=0.01)
    assert 2 * np.pi * (found.crossover_hz or 0) == pytest.approx(at_gain, rel=1e-3)
    if np.isfinite(gain):
        assert found.gain_margin_db == pytest.approx(20 * math.log10(gain), abs=0.01)
        assert 2 * np.pi * (found.phase_crossover_hz or 0) == pytest.approx(at_phase, rel=1e-3)
    else:
        assert found.gain_margin_db is None


@pytest.mark.parametrize("numbers", [([40.0], [1, 9, 20, 0]), ([3e3, 9e4], [1, 80, 2.5e3, 0])])
def test_margins_keep_the_bounds_of_the_sensitivity_peak(numbers: tuple[list[float], list[float]]) -> None:
    # Åström and Murray, Feedback Systems (from memory): PM >= 2 asin(1 / (2 Ms)), GM >= Ms / (Ms - 1).
    found = read_margins(on_grid(control.tf(*numbers)), FREQUENCY)
    peak = found.sensitivity_peak
    assert found.phase_margin is not None
    assert found.phase_margin >= 2 * math.asin(1 / (2 * peak)) - 1e-3
    if found.gain_margin_db is not None:
        assert found.gain_margin_db >= 20 * math.log10(peak / (peak - 1)) - 0.01


def test_a_loop_without_crossover_says_so_and_has_no_margin() -> None:
    found = read_margins(np.full(50, 0.1 + 0j), np.linspace(1, 50, 50))
    assert found.phase_margin is None
    assert found.crossover_hz is None
    assert "does not cross" in found.reason


def test_two_mass_frequencies_are_the_handbook_formulas_and_the_poles_of_the_model() -> None:
    # sqrt(k / J2) and sqrt(k (J1 + J2) / (J1 J2)): any textbook on drives; the poles and zeros are NumPy's.
    load = TwoMass(inertia_motor=2e-4, inertia_load=5e-4, stiffness=400.0)
    j1, j2, k = 2e-4, 5e-4, 400.0
    zeros, poles = np.roots([j2, 0, k]), np.roots([j1 * j2, 0, k * (j1 + j2)])
    assert load.antiresonance_hz == pytest.approx(abs(zeros[0]) / (2 * np.pi))
    assert load.resonance_hz == pytest.approx(abs(poles[0]) / (2 * np.pi))


def test_mechanics_is_the_transfer_function_python_control_computes_from_the_state_equations() -> None:
    j1, j2, k, d, b1, b2 = 2e-4, 5e-4, 400.0, 0.03, 1e-3, 4e-3
    a = np.array([[-(d + b1) / j1, d / j1, -k / j1], [d / j2, -(d + b2) / j2, k / j2], [1, -1, 0]])
    system = control.ss(a, [[1 / j1], [0], [0]], [[1, 0, 0]], [[0]])
    frequency = np.geomspace(1, 1000, 200)
    expected = system(2j * np.pi * frequency)
    load = TwoMass(inertia_motor=j1, inertia_load=j2, stiffness=k, damping=d, viscous=b1, viscous_load=b2)
    np.testing.assert_allclose(mechanics(load, frequency), expected, rtol=1e-9)


def test_open_current_loop_is_scipys_discretisation_with_one_tick_of_delay() -> None:
    winding = Winding(resistance=1.3, inductance=4.6e-3)
    gains = a_loop()
    plant = signal.cont2discrete(([1], [winding.inductance, winding.resistance]), TICK, "zoh")
    frequency = np.geomspace(10, 7900, 300)
    z = np.exp(2j * np.pi * frequency * TICK)
    sampled = np.polyval(plant[0].ravel(), z) / np.polyval(plant[1], z)
    pi = gains.current_gain * (1 + TICK / gains.current_reset / (z - 1))
    np.testing.assert_allclose(current_open(winding, gains, frequency), pi * sampled / z, rtol=1e-9)


def test_notch_is_scipys_bilinear_transform_of_the_analogue_notch() -> None:
    centre, width, depth = 240.0, 0.3, -20.0
    # Prewarped at the centre: the analogue prototype sits where tan puts it.
    w = 2 / TV * math.tan(math.pi * centre * TV)
    top, bottom = [1, 2 * width * w * 10 ** (depth / 20), w * w], [1, 2 * width * w, w * w]
    b, a = signal.bilinear(top, bottom, fs=1 / TV)
    ours = notch(centre, width=width, depth_db=depth, period=TV)
    np.testing.assert_allclose([ours.b0, ours.b1, ours.b2, ours.a1, ours.a2], [*b, *a[1:]], rtol=1e-9)
    at_centre = ours.response(np.exp(np.array([-2j * np.pi * centre * TV])))
    assert 20 * np.log10(abs(at_centre[0])) == pytest.approx(depth)


@pytest.mark.parametrize(("zero", "pole"), [(240.0, 330.0), (700.0, 410.0), (0.0, 800.0), (310.0, 310.0)])
def test_a_section_is_scipys_bilinear_transform_of_zeros_over_poles(zero: float, pole: float) -> None:
    at_zero, at_pole = (2 / TV * math.tan(math.pi * f * TV) for f in (zero, pole))
    top = [1 / at_zero**2, 2 * 0.05 / at_zero, 1.0] if zero else [1.0]
    b, a = signal.bilinear(top, [1 / at_pole**2, 2 * 0.4 / at_pole, 1.0], fs=1 / TV)
    ours = Section(zero_hz=zero, zero_damping=0.05, pole_hz=pole, pole_damping=0.4).biquad(period=TV)
    np.testing.assert_allclose([ours.b0, ours.b1, ours.b2, ours.a1, ours.a2], [*b, *a[1:]], rtol=1e-9)
    assert ours.response(np.ones(1, dtype=complex))[0] == pytest.approx(1.0)  # a constant torque passes


def test_a_section_whose_zeros_and_poles_meet_is_the_notch() -> None:
    of = notch(240.0, width=0.3, depth_db=-20.0, period=TV)
    section = Section(zero_hz=240.0, zero_damping=0.03, pole_hz=240.0, pole_damping=0.3).biquad(period=TV)
    np.testing.assert_allclose(
        [of.b0, of.b1, of.b2, of.a1, of.a2], [section.b0, section.b1, section.b2, section.a1, section.a2], rtol=1e-9
    )


def test_current_step_is_the_one_python_control_simulates() -> None:
    winding, gains = Winding(resistance=1.3, inductance=4.6e-3), a_loop()
    a = math.exp(-TICK * winding.resistance / winding.inductance)
    plant = control.tf([(1 - a) / winding.resistance], [1, -a], TICK) * control.tf([1], [1, 0], TICK)
    pi = control.tf([gains.current_gain, gains.current_gain * (TICK / gains.current_reset - 1)], [1, -1], TICK)
    expected = control.step_response(control.feedback(pi * plant, 1), T=np.arange(96) * TICK)
    _, ours = step_response("current", TwoMass(inertia_motor=1e-4), winding, gains, duration=96 * TICK)
    np.testing.assert_allclose(ours, expected.outputs, atol=1e-9)


def a_loop() -> Gains:
    return Gains(
        current_gain=17.0,
        current_reset=3.5e-3,
        velocity_gain=0.2,
        velocity_reset=6e-3,
        feedback_filter_hz=800,
        torque_filter_hz=1200,
    )


def test_what_a_load_makes_of_its_motors_speed_is_the_textbooks_shaft_and_an_integral() -> None:
    # x2/w1 = (d s + k)/(J2 s² + d s + k) / s: Schröder, Elektrische Antriebe - Regelung von Antriebssystemen, two-mass
    # system (from memory). Up to 300 Hz, where sampling at 4 kHz is a percent or two of it.
    load = TwoMass(inertia_motor=1.4e-4, inertia_load=2.3e-4, stiffness=300.0, damping=0.02)
    winding, gains = Winding(resistance=1.3, inductance=4.6e-3), replace(a_loop(), on_load=True)
    frequency = np.geomspace(5, 300, 60)
    shaft = control.tf([load.damping, 300.0], [load.inertia_load, load.damping, 300.0]) * control.tf([1], [1, 0])
    expected = control.frequency_response(shaft, 2 * np.pi * frequency).complex
    # The speed told is that of the last sample, on average half of one before the position.
    late = np.exp(1j * np.pi * frequency * TV)
    found = position_over_speed(load, winding, gains, frequency)
    np.testing.assert_allclose(found / (expected * late), 1.0, atol=0.02)


def test_a_loop_on_the_load_without_its_answer_is_refused_not_guessed() -> None:
    gains, frequency = replace(a_loop(), on_load=True), np.geomspace(5, 300, 10)
    with pytest.raises(ValueError, match="on the load"):
        position_open(np.ones(10, dtype=complex), gains, frequency)
