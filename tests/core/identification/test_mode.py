"""One resonance from the lines around it: against a transfer function whose poles are known."""

import numpy as np
import pytest
from scipy import signal

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.mode import fit_mode
from cadrel.core.response import FrequencyResponse, random_multisine, swept_sine
from cadrel.core.response.multisine import ExcitationError


def response_of(f: np.ndarray, *, hz: float, damping: float, noise: float, seed: int = 0) -> FrequencyResponse:
    """A rigid body, a mode beside it and a delay of 300 µs, by SciPy, with noise of a share of each value."""
    w = 2 * np.pi * hz
    body = signal.TransferFunction([1.0], [1e-3, 1e-3])
    mode = signal.TransferFunction([800.0, 0.0], [1.0, 2 * damping * w, w * w])
    s = 2 * np.pi * f
    value = (signal.freqresp(body, s)[1] + signal.freqresp(mode, s)[1]) * np.exp(-1j * s * 3e-4)
    rng = np.random.default_rng(seed)
    wobble = noise * np.abs(value) * (rng.normal(size=len(f)) + 1j * rng.normal(size=len(f))) / np.sqrt(2)
    return FrequencyResponse(f, value + wobble, np.ones(len(f)), np.maximum(noise, 1e-4) * np.abs(value))


@pytest.mark.parametrize(("hz", "damping"), [(40.0, 0.005), (150.0, 0.005), (600.0, 0.02), (1000.0, 0.05)])
def test_frequency_and_damping_come_back_whatever_body_and_delay_are_beside(hz: float, damping: float) -> None:
    f = np.linspace(0.7 * hz, 1.3 * hz, round(0.6 / (damping / 3)))
    mode = fit_mode(response_of(f, hz=hz, damping=damping, noise=0.0), near=1.002 * hz)
    assert mode.frequency.value == pytest.approx(hz, rel=1e-3)
    assert mode.damping.value == pytest.approx(damping, rel=0.03)
    assert mode.lines >= 5


def test_the_stated_doubt_covers_what_noise_does() -> None:
    hz, damping = 150.0, 0.005
    f = np.linspace(140.0, 160.0, 80)
    off = []
    for seed in range(40):
        mode = fit_mode(response_of(f, hz=hz, damping=damping, noise=0.05, seed=seed), near=hz)
        off.append(
            ((mode.frequency.value - hz) / mode.frequency.std, (mode.damping.value - damping) / mode.damping.std)
        )
    within = np.mean(np.abs(off) < 2, axis=0)
    assert within[0] > 0.85
    assert within[1] > 0.85
    assert np.sqrt(np.mean(np.square(off), axis=0)).min() > 0.5  # nor is it far too wide


def test_where_nothing_rings_nothing_is_found() -> None:
    f = np.linspace(100.0, 200.0, 60)
    flat = FrequencyResponse(f, 1.0 / (2j * np.pi * f), np.ones(60), 1e-6 * np.ones(60))
    with pytest.raises(UnusableInput):
        fit_mode(flat, near=150.0)


def test_too_few_lines_are_refused() -> None:
    f = np.array([149.0, 150.0, 151.0])
    with pytest.raises(UnusableInput, match="no resonance"):
        fit_mode(FrequencyResponse(f, np.ones(3, complex), np.ones(3), np.ones(3)), near=150.0)


def test_a_sweep_fills_its_band_and_repeats_without_a_seam() -> None:
    sweep = swept_sine(4, 400, n_samples=4096, rms=2.0)
    assert np.sqrt(np.mean(sweep**2)) == pytest.approx(2.0)
    power = np.abs(np.fft.rfft(sweep)) ** 2
    assert power[4:401].sum() > 0.95 * power.sum()  # beyond its ends a sweep falls off, it does not stop
    assert abs(sweep[0] - sweep[-1]) < 3 * np.abs(np.diff(sweep)).max()
    with pytest.raises(ExcitationError):
        swept_sine(4, 4000, n_samples=4096, rms=1.0)


def test_lowering_the_peaks_leaves_the_amplitudes_as_they_were() -> None:
    lines = np.arange(3, 60)
    shape = np.linspace(1.0, 3.0, len(lines))
    drawn = random_multisine(lines, n_samples=1024, rms=1.0, rng=np.random.default_rng(5), shape=shape)
    size = np.abs(np.fft.rfft(drawn))[lines]
    assert np.allclose(size / size[0], shape, rtol=1e-9)
    assert np.abs(drawn).max() < 2.2
