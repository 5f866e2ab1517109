"""Periodic experiments in which much does not repeat."""

import numpy as np
import pytest
from scipy import signal

from cadrel.core.errors import UnusableInput
from cadrel.core.response import (
    Both,
    FrequencyResponse,
    average_clearer,
    average_responses,
    estimate_both,
    estimate_windowed,
    log_lines,
    random_multisine,
)

PERIOD, PERIODS = 1024, 2
LINES = log_lines(2, 400, 50)
PLANT = ([0.0, 0.2], [1.0, -0.9])
_, TRUE = signal.freqz(*PLANT, worN=2 * np.pi * LINES / PERIOD)


def _experiment(rng: np.random.Generator, *, trend: float = 0.0, noise: float = 0.0) -> Both:
    """One experiment on the plant, steady; beside it a speed that settles yet, and white noise."""
    one = random_multisine(LINES, n_samples=PERIOD, rms=1.0, rng=rng)
    r = np.tile(one, PERIODS)
    y = signal.lfilter(*PLANT, np.tile(one, PERIODS + 3))[3 * PERIOD :]
    t = np.arange(len(y)) / len(y)
    y = y + trend * rng.normal() * np.exp(-3 * t) + rng.normal(0, noise, len(y)) if noise or trend else y
    return estimate_both(r, r, y, lines=LINES, period=PERIOD, rate_hz=1.0)


def test_the_window_is_hanns() -> None:
    """Beside SciPy's: the transform of the windowed record at the lines, over two whole periods and over three."""
    rng = np.random.default_rng(2)
    for periods in (2, 3):
        u, y = rng.normal(size=(2, periods * PERIOD))
        found = estimate_windowed(u, u, y, lines=LINES, period=PERIOD, rate_hz=1.0)
        window = signal.windows.hann(periods * PERIOD, sym=False)
        spectra = [np.fft.rfft(window * x)[periods * LINES] for x in (u, y)]
        np.testing.assert_allclose(found.value, spectra[1] / spectra[0], rtol=1e-9)


def test_of_what_repeats_nothing_reaches_another_line() -> None:
    plain, windowed = _experiment(np.random.default_rng(3))
    for seen in (plain, windowed):
        np.testing.assert_allclose(seen.value, TRUE, rtol=1e-9)
        np.testing.assert_allclose(seen.coherence, 1.0, atol=1e-9)


def test_a_speed_that_settles_yet_leaks_into_few_lines_only() -> None:
    """F. J. Harris, Proc. IEEE 66 (1978), from memory: Hann's side lobes fall by 18 dB an octave, not by 6."""
    rng = np.random.default_rng(4)
    parts = [_experiment(rng, trend=1.0) for _ in range(6)]
    plain, both = average_responses([p for p, _ in parts]), average_clearer(parts, periods=PERIODS)

    def off(seen: FrequencyResponse) -> np.ndarray:
        return np.abs(seen.value / TRUE - 1)

    assert np.median(off(both)) < 0.05 * np.median(off(plain))
    assert np.median(both.std / np.abs(TRUE)) < 0.1 * np.median(plain.std / np.abs(TRUE))
    assert np.all(both.coherence >= plain.coherence - 0.02)


def test_white_noise_is_worse_through_a_window_and_left_out_of_it() -> None:
    """By half more: the bandwidth of noise of Hann's window is 1.5 bins (Harris, table 1; from memory)."""
    rng = np.random.default_rng(5)
    parts = [_experiment(rng, noise=0.5) for _ in range(60)]
    power = [np.mean([np.abs(p[k].value - TRUE) ** 2 for p in parts]) for k in (0, 1)]
    assert power[1] / power[0] == pytest.approx(1.5, rel=0.1)
    stated = np.mean([p[1].std ** 2 for p in parts])
    assert stated == pytest.approx(power[1], rel=0.1), "told between the lines, by as much as it is at them"
    both, plain = average_clearer(parts, periods=PERIODS), average_responses([p for p, _ in parts])
    assert np.mean(np.abs(both.value - plain.value) == 0) > 0.95


@pytest.mark.parametrize("experiments", [4, 6, 16])
@pytest.mark.parametrize(("trend", "noise"), [(1.0, 0.02), (0.0, 0.3)])
def test_truth_lies_within_two_standard_deviations(experiments: int, trend: float, noise: float) -> None:
    """However many experiments: few of them tell their own scatter badly, and say so. 90 to 99.5 % of the lines."""
    rng = np.random.default_rng(6)
    inside = []
    for _ in range(60):
        seen = average_clearer(
            [_experiment(rng, trend=trend, noise=noise) for _ in range(experiments)], periods=PERIODS
        )
        inside.append(np.mean(np.abs(seen.value - TRUE) <= 2 * seen.std))
    assert 0.9 <= np.mean(inside) <= 0.995


def test_one_period_tells_nothing_of_what_does_not_repeat() -> None:
    r = random_multisine(LINES, n_samples=PERIOD, rms=1.0, rng=np.random.default_rng(7))
    with pytest.raises(UnusableInput):
        estimate_windowed(r, r, r, lines=LINES, period=PERIOD, rate_hz=1.0)
    with pytest.raises(UnusableInput):
        average_clearer([], periods=PERIODS)
