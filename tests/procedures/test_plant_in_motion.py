"""How the velocity plant is excited, and which lines of it count."""

import numpy as np
import pytest

from cadrel.core.control import Gains, Rates, TwoMass, Winding
from cadrel.core.identification import PlantFit
from cadrel.core.response import FrequencyResponse, random_multisine
from cadrel.procedures.plant_in_motion import LINES, PERIOD, STRONGEST, line_shape

GAINS = Gains(
    current_gain=17, current_reset=3.5e-3, velocity_gain=0.1, velocity_reset=0.02, feedback_filter_hz=800,
    torque_filter_hz=1200,
)  # fmt: skip


def test_lines_at_the_anti_resonance_are_made_stronger_and_none_weaker() -> None:
    load = TwoMass(inertia_motor=2e-4, inertia_load=4e-4, stiffness=4e-4 * (2 * np.pi * 80) ** 2, damping=0.01)
    shape = line_shape(PlantFit(load, Winding(resistance=1.3, inductance=4.6e-3)), GAINS)
    frequency = LINES / (PERIOD * Rates().velocity)
    assert shape.min() == 1.0
    assert shape[np.argmin(np.abs(frequency - 80))] == STRONGEST
    assert shape[np.argmin(np.abs(frequency - 30))] < 1.5


def test_a_shaped_multisine_has_its_shape_and_the_rms_asked_for() -> None:
    lines, shape = np.array([5, 9, 30]), np.array([1.0, 3.0, 2.0])
    signal = random_multisine(lines, n_samples=256, rms=0.7, rng=np.random.default_rng(1), shape=shape)
    assert np.sqrt(np.mean(signal**2)) == pytest.approx(0.7)
    amplitude = np.abs(np.fft.rfft(signal))
    np.testing.assert_allclose(amplitude[lines] / amplitude[5], shape)
    assert np.delete(amplitude, lines).max() < 1e-9


def test_lines_beyond_a_frequency_are_left_out_whole() -> None:
    f = np.array([10.0, 20.0, 40.0])
    cut = FrequencyResponse(f, f + 0j, f / 100, f / 10).below(20.0)
    np.testing.assert_array_equal(cut.frequency, [10, 20])
    np.testing.assert_array_equal(cut.value, [10, 20])
    np.testing.assert_array_equal(cut.std, [1, 2])
