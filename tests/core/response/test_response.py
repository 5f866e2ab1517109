"""Excitations, estimators and metrics."""

import math

import numpy as np
import pytest
from scipy import signal

from cadrel.core.errors import UnusableInput
from cadrel.core.response import (
    ExcitationError,
    FrequencyResponse,
    average_responses,
    estimate_response,
    log_lines,
    measure_moves,
    measure_step,
    random_multisine,
    schroeder_multisine,
)


def test_schroeder_phases_keep_the_crest_factor_low() -> None:
    # M. R. Schroeder, IEEE Trans. Inf. Theory 16 (1970): flat spectra reach crest factors well under 2, where
    # equal phases give sqrt(2 N). 1.92 and 1.68 are what these line sets give, a regression value.
    for last, expected in ((10, 1.92), (100, 1.68)):
        x = schroeder_multisine(np.arange(1, last + 1), n_samples=4096, rms=2.0)
        assert np.sqrt(np.mean(x**2)) == pytest.approx(2.0)
        assert np.abs(x).max() / 2.0 == pytest.approx(expected, abs=0.02)
        assert abs(x.mean()) < 1e-12


@pytest.mark.parametrize("lines", [[0, 1], [5, 64], []])
def test_lines_that_cannot_be_excited_are_refused(lines: list[int]) -> None:
    with pytest.raises(ExcitationError):
        schroeder_multisine(np.array(lines, dtype=int), n_samples=128, rms=1.0)


def test_the_joint_estimate_is_unbiased_where_output_over_input_is_not() -> None:
    # Pintelon and Schoukens, System Identification, ch. 2 (from memory): with noise inside the loop, dividing
    # Y by U tends towards -1/C; the excitation as instrument does not. Plant and controller are simulated by SciPy.
    rng = np.random.default_rng(8)
    period, repeats = 1024, 400
    lines = log_lines(2, 300, 25)
    r = np.tile(schroeder_multisine(lines, n_samples=period, rms=0.3), repeats)
    noise = rng.normal(0, 0.5, len(r))
    plant_b, plant_a = [0.0, 0.2], [1.0, -0.9]
    y, u = np.zeros(len(r)), np.zeros(len(r))
    x = 0.0
    for k in range(len(r)):
        y[k] = x + noise[k]
        u[k] = r[k] - 1.2 * y[k]
        x = 0.9 * x + 0.2 * u[k]
    found = estimate_response(r, u, y, lines=lines, period=period, rate_hz=1.0, skip=2)
    _, truth = signal.freqz(plant_b, plant_a, worN=2 * np.pi * lines / period)
    naive = np.fft.rfft(y[2 * period :].reshape(-1, period), axis=1)[:, lines]
    entry = np.fft.rfft(u[2 * period :].reshape(-1, period), axis=1)[:, lines]
    biased = (naive * entry.conj()).mean(0) / (np.abs(entry) ** 2).mean(0)
    ours, direct = np.abs(found.value / truth - 1).mean(), np.abs(biased / truth - 1).mean()
    assert ours < 0.1
    assert direct > 3 * ours
    assert np.all(found.coherence <= 1)


def test_coherence_falls_with_noise_and_rises_to_one_without() -> None:
    # Bendat and Piersol (from memory): coherence is signal over signal plus noise.
    rng = np.random.default_rng(1)
    lines = np.array([10, 20, 40])
    r = np.tile(schroeder_multisine(lines, n_samples=512, rms=1.0), 200)
    clean = estimate_response(r, r, 2 * r, lines=lines, period=512, rate_hz=1.0)
    np.testing.assert_allclose(clean.coherence, 1.0)
    power = 512**2 / 6  # |R|² of each of three lines: amplitude sqrt(2/3), times half the samples
    sigma = np.sqrt(power / 512)  # as much noise power in a line as signal
    noisy = estimate_response(r, r, r + rng.normal(0, sigma, len(r)), lines=lines, period=512, rate_hz=1.0)
    np.testing.assert_allclose(noisy.coherence, 0.5, atol=0.12)


@pytest.mark.parametrize("experiments", [6, 24])
def test_more_experiments_make_a_response_surer_and_leave_its_coherence(experiments: int) -> None:
    # A tenth as much noise as signal in every line and period: 1 / 1.1 by Bendat and Piersol (from memory). Read from
    # two periods it comes out higher, 1 - 0.5 (1 - 1 / 1.1) at the least, and the scatter between experiments lessens
    # it. Noise of the mean falls with the root of all periods.
    rng = np.random.default_rng(9)
    lines = np.arange(20, 180)
    power = 512**2 / 4 * 2 / len(lines)  # |R|² of a line of a signal of rms 1
    parts = []
    for _ in range(experiments):
        r = np.tile(random_multisine(lines, n_samples=512, rms=1.0, rng=rng), 3)
        y = r + rng.normal(0, np.sqrt(0.1 * power / 512), len(r))
        parts.append(estimate_response(r, r, y, lines=lines, period=512, rate_hz=1.0))
    found = average_responses(parts)
    assert np.median(found.coherence) == pytest.approx(1 / 1.1, abs=0.02)
    error = np.sqrt(np.mean(np.abs(found.value - 1) ** 2))
    assert error == pytest.approx(np.sqrt(0.1 / 2 / experiments), rel=0.2)
    assert np.sqrt(np.mean(found.std**2)) == pytest.approx(error, rel=0.2)


def test_averaging_needs_one_grid() -> None:
    r = np.tile(schroeder_multisine(np.array([3, 5]), n_samples=64, rms=1.0), 5)
    one = estimate_response(r, r, r, lines=np.array([3, 5]), period=64, rate_hz=1.0)
    other = estimate_response(r, r, r, lines=np.array([3, 5]), period=64, rate_hz=2.0)
    np.testing.assert_allclose(average_responses([one, one]).value, 1.0)
    with pytest.raises(UnusableInput):
        average_responses([one, other])


@pytest.mark.parametrize("damping", [0.3, 0.5, 0.7])
def test_step_metrics_of_a_second_order_system_are_the_closed_formulas(damping: float) -> None:
    # Overshoot exp(-pi z / sqrt(1 - z²)): every textbook. The step itself is SciPy's.
    t, y = signal.step(([1], [1, 2 * damping, 1]), T=np.linspace(0, 60, 60001))
    found = measure_step(t, y, start=0.0, target=1.0)
    assert found.overshoot == pytest.approx(np.exp(-np.pi * damping / np.sqrt(1 - damping**2)), abs=1e-4)
    outside = np.nonzero(np.abs(y - 1) > 0.02)[0][-1]
    assert found.settling_time == pytest.approx(t[outside + 1])


def test_a_step_that_never_arrives_has_no_rise_time_and_no_settling() -> None:
    t = np.linspace(0, 1, 500)
    found = measure_step(t, 0.5 * (1 - np.exp(-t / 0.05)), start=0.0, target=1.0)
    assert found.rise_time is None
    assert found.settling_time is None
    assert found.final == pytest.approx(0.5, abs=0.01)


def test_a_window_that_flickers_is_not_settled() -> None:
    t = np.arange(0, 1, 1e-3)
    active = ((t > 0.1) & (t <= 0.3)).astype(float)
    command = np.clip((t - 0.1) / 0.2, 0, 1)
    actual = command.copy()
    actual[300:350] += 0.05  # in the window at 310 ms, out again at 400 ms
    actual[320:330] -= 0.05
    actual[400:405] += 0.05
    (move,) = measure_moves(t, command, actual, active, np.ones(len(t)), window=0.01)
    assert move.settling_time == pytest.approx(0.105, abs=2e-3)
    assert move.move_time == pytest.approx(0.2, abs=2e-3)
    assert move.current_rms == pytest.approx(1.0)


def test_a_record_without_a_move_is_refused() -> None:
    flat = np.zeros(100)
    with pytest.raises(UnusableInput):
        measure_moves(np.arange(100.0), flat, flat, flat, flat, window=1.0)


def test_lines_that_one_measurement_lacks_come_from_the_other_and_none_stands_beside_a_better_one() -> None:
    f = np.array([10.0, 20.0, 40.0, 80.0, 160.0])

    def measured(value: float, *shares: float) -> FrequencyResponse:
        return FrequencyResponse(f, np.full(5, value + 0j), np.full(5, 0.95), value * np.array(shares))

    own, other = measured(1.0, 0.5, 0.2, 0.01, 0.01, 0.5), measured(2.0, 0.5, 0.02, 0.02, 0.5, 0.01)
    both = own.filled_from(other, sure=0.06, apart=0.08)
    # At 10 Hz neither is sure: its own line stays, for what it says. At 40 Hz its own is: the other is not asked.
    np.testing.assert_array_equal(both.frequency, f)
    np.testing.assert_array_equal(both.value, [1.0, 2.0, 1.0, 1.0, 2.0])
    np.testing.assert_allclose(both.std, [0.5, 0.04, 0.01, 0.01, 0.02])
    assert np.all(np.diff(both.frequency) > 0)
    alone = own.filled_from(other.precise(0.0), sure=0.06, apart=0.08)
    np.testing.assert_array_equal(alone.std, own.std)


def ringing(f: np.ndarray) -> np.ndarray:
    """Speed of a motor before a load: anti-resonance at 40 Hz, resonance at 148 Hz, 1 % damped."""
    s, anti, at = 2j * np.pi * f, 2 * np.pi * 40.0, 2 * np.pi * 148.0
    return (s**2 + 0.02 * anti * s + anti**2) / (s**2 + 0.02 * at * s + at**2) / (1e-3 * s)


def test_between_lines_half_a_turn_apart_a_response_goes_as_its_model_does() -> None:
    lines = np.array([72.3, 85.9, 127.0, 152.3, 183.6, 220.7])
    true = 1.1 * np.exp(0.1j) * ringing(lines)  # a tenth more than the model has, and a little early
    seen = FrequencyResponse(lines, true, np.full(6, 0.98), 0.03 * np.abs(true))
    joined = seen.joined_by(ringing, turned=math.radians(150), points=15)
    between = joined._kept(~np.isin(joined.frequency, lines))
    assert len(between.frequency) == 15 and 127.0 < between.frequency[0] < between.frequency[-1] < 152.3
    assert between.value == pytest.approx(1.1 * np.exp(0.1j) * ringing(between.frequency), rel=1e-6)
    assert between.std == pytest.approx(0.03 * np.abs(between.value))
    steps = np.angle(joined.value[1:] / joined.value[:-1])
    assert steps[np.abs(steps) > math.radians(20)].max() < 0, "a resonance turns the phase one way"
    assert np.array_equal(joined._kept(np.isin(joined.frequency, lines)).value, true)


def test_where_lines_lie_near_or_the_model_parts_from_them_nothing_is_added() -> None:
    lines = np.array([72.3, 127.0, 146.0, 148.0, 150.0, 183.6])
    near = FrequencyResponse(lines, ringing(lines), np.ones(6), 0.01 * np.abs(ringing(lines)))
    assert len(near.joined_by(ringing, turned=math.radians(150), points=15).frequency) == 6
    apart = np.array([127.0, 152.3])
    turned = FrequencyResponse(apart, ringing(apart), np.ones(2), np.full(2, 1e-3))
    rigid = turned.joined_by(lambda f: 1 / (2j * np.pi * f * 1e-3), turned=math.radians(150), points=15)
    assert len(rigid.frequency) == 2, "one mass knows of no resonance there"
