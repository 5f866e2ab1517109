"""Periodic excitations with a low crest factor."""

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import CoreError

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


DRAWS = 12  # of this many the best is taken to begin with
FLATTENED, CLIPPED = 80, 0.75  # rounds of clipping; of the peak, at first, and ever less


class ExcitationError(CoreError):
    """A line cannot be excited."""

    happened = "Line {line} cannot be excited in a period of {n_samples} samples."
    means = "Below 1 it would be an offset, from half the samples on it would alias."
    remedy = "Choose lines from 1 to {most}."


def schroeder_multisine(lines: IntArray, *, n_samples: int, rms: float) -> FloatArray:
    """Return one period of a multisine with equal power on every line.

    Parameters
    ----------
    lines : ndarray of int, shape (n_lines,)
        Harmonics to excite, rising. [periods per record]
    n_samples : int
        Samples in one period.
    rms : float
        Effective value, in the unit in which it will be injected.

    Returns
    -------
    ndarray of float64, shape (n_samples,)
        One period without mean; it repeats without a seam.

    Raises
    ------
    ExcitationError
        A line is below 1, or at or above half of `n_samples`.

    References
    ----------
    M. R. Schroeder, IEEE Trans. Inf. Theory 16 (1970) 85-89 (from memory): phase of the k-th of N lines of equal
    power is -pi k (k - 1) / N.
    """
    k = np.arange(1, len(lines) + 1)
    return _multisine(lines, -np.pi * k * (k - 1) / max(len(lines), 1), n_samples=n_samples, rms=rms)


def random_multisine(
    lines: IntArray, *, n_samples: int, rms: float, rng: np.random.Generator, shape: FloatArray | None = None
) -> FloatArray:
    """Return one period of a multisine with drawn phases: of `DRAWS` drawn, the one with the lowest peak.

    Parameters, result and errors as `schroeder_multisine`; `shape` says how strong the lines are to each other, absent
    they are alike. Averaged over several of these, what a plant distorts
    falls out of a response as noise would; over periods of one and the same signal it never does.

    Notes
    -----
    The drawn phases are then moved until peaks are lower: the signal is clipped, its phases are taken over, the
    amplitudes put back, and so on (E. Van der Ouderaa, J. Schoukens, J. Renneboog, IEEE Trans. Instrum. Meas. 37 (1988)
    145-147, from memory). Where that begins is drawn, so where it ends differs as much.
    """
    drawn = (
        _multisine(lines, rng.uniform(0, 2 * np.pi, len(lines)), n_samples=n_samples, rms=rms, shape=shape)
        for _ in range(DRAWS)
    )
    best = min(drawn, key=lambda signal: float(np.abs(signal).max()))
    return _flattened(best, lines)


def _flattened(signal: FloatArray, lines: IntArray) -> FloatArray:
    """Return a signal of the same lines and amplitudes with the lowest peak met on the way."""
    n = len(signal)
    size = np.abs(np.fft.rfft(signal)[lines])
    best, peak = signal, float(np.abs(signal).max())
    spectrum = np.zeros(n // 2 + 1, dtype=complex)
    for k in range(FLATTENED):
        level = (CLIPPED + (1 - CLIPPED) * k / FLATTENED) * float(np.abs(signal).max())
        spectrum[lines] = size * np.exp(1j * np.angle(np.fft.rfft(np.clip(signal, -level, level))[lines]))
        signal = np.fft.irfft(spectrum, n)
        if float(np.abs(signal).max()) < peak:
            best, peak = signal, float(np.abs(signal).max())
    return best


def _multisine(
    lines: IntArray, phases: FloatArray, *, n_samples: int, rms: float, shape: FloatArray | None = None
) -> FloatArray:
    bad = [int(n) for n in lines if n < 1 or 2 * n >= n_samples]
    if bad or not len(lines):
        raise ExcitationError(line=bad[0] if bad else 0, n_samples=n_samples, most=(n_samples - 1) // 2)
    spectrum = np.zeros(n_samples // 2 + 1, dtype=complex)
    spectrum[lines] = np.exp(1j * phases) * (1.0 if shape is None else shape)
    signal = np.fft.irfft(spectrum, n_samples)
    return signal * rms / np.sqrt(np.mean(signal**2))


def log_lines(first: int, last: int, count: int) -> IntArray:
    """Return up to `count` distinct harmonics, logarithmically spread from `first` to `last`."""
    return np.unique(np.round(np.geomspace(first, last, count)).astype(np.int64))


def swept_sine(first: int, last: int, *, n_samples: int, rms: float) -> FloatArray:
    """Return one period of a sine swept up exponentially from one harmonic to another, and back to zero at its end.

    Parameters
    ----------
    first, last : int
        Harmonics of the period between which it sweeps. [periods per record]
    n_samples, rms : int, float
        As `schroeder_multisine`.

    Raises
    ------
    ExcitationError
        As `schroeder_multisine`.

    Notes
    -----
    Repeated without a pause it is periodic, so that responses on the harmonics between are free of leakage; each octave
    gets as much time as the others. A. Farina, 108th AES Convention (2000), eq. of the exponential sweep (from memory).
    """
    for line in (first, last):
        if line < 1 or 2 * line >= n_samples:
            raise ExcitationError(line=line, n_samples=n_samples, most=(n_samples - 1) // 2)
    share = np.arange(n_samples) / n_samples
    rate = np.log(max(last, first + 1) / first)
    turns = first * (np.exp(share * rate) - 1) / rate
    whole = np.round(turns[-1])
    signal = np.sin(2 * np.pi * turns * (whole / turns[-1] if whole else 1.0))
    signal -= signal.mean()
    return np.asarray(signal * rms / np.sqrt(np.mean(signal**2)))
