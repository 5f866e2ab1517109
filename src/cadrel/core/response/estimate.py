"""Frequency responses from periodic experiments in a closed loop, not biased by the loop."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
IntArray = NDArray[np.int64]
SHOWS = 0.3  # of a line's value, that its standard deviation is at most for a sharp resonance to show there


@dataclass(frozen=True, slots=True, eq=False)
class FrequencyResponse:
    """A measured frequency response on the excited lines."""

    frequency: FloatArray  # [Hz]
    value: ComplexArray  # output unit per input unit
    coherence: FloatArray  # 0...1, of the output against the excitation
    std: FloatArray  # standard deviation of |value|, of the mean over all periods

    @property
    def seen_hz(self) -> float:
        """The highest line at which a sharp resonance would show; infinite without any."""
        lines = self.precise(SHOWS).frequency
        return float(lines[-1]) if len(lines) else np.inf

    def trusted(self, least: float = 0.9) -> "FrequencyResponse":
        """Return the lines whose coherence is at least `least`."""
        return self._kept(self.coherence >= least)

    def precise(self, most: float) -> "FrequencyResponse":
        """Return the lines whose standard deviation is at most a share of their value."""
        return self._kept(self.std <= most * np.abs(self.value))

    def filled_from(self, other: "FrequencyResponse", *, sure: float, apart: float) -> "FrequencyResponse":
        """Return this response with lines of another one where it has none within a share of their frequency.

        Lines count whose standard deviation is at most `sure` of their value; where one of the other is taken, lines of
        this one near to it, which are less sure, are left out.
        """
        own, more = self.precise(sure), other.precise(sure)
        taken = more._kept(_distance(more.frequency, own.frequency) > apart)
        left = self._kept(
            (self.std <= sure * np.abs(self.value)) | (_distance(self.frequency, taken.frequency) > apart)
        )
        both = [
            np.concatenate([getattr(left, k), getattr(taken, k)]) for k in ("frequency", "value", "coherence", "std")
        ]
        rising = np.argsort(both[0])
        return FrequencyResponse(*(values[rising] for values in both))

    def joined_by(
        self, model: Callable[[FloatArray], ComplexArray], *, turned: float, points: int
    ) -> "FrequencyResponse":
        """Return this response with points of a model between neighbours whose phases lie more than `turned` apart.

        Half a turn apart, no reading tells which way round the response went from one to the other: a resonance
        between two lines may look like a crossing of the negative axis. Between them it goes as the model does, times
        what the neighbours were measured to be of it; where these lie as far apart themselves, nothing is added.

        Parameters
        ----------
        model : callable
            Frequencies to the same response. [Hz] -> output unit per input unit
        turned : float
            [rad]
        points : int
            Between two such neighbours.
        """
        f = self.frequency
        ratio = self.value / model(f)
        parts = [self]
        for k in np.nonzero(np.abs(np.angle(self.value[1:] / self.value[:-1])) > turned)[0]:
            drifted = np.log(ratio[k + 1] / ratio[k])
            if abs(drifted.imag) > turned:
                continue
            share = np.arange(1, points + 1) / (points + 1)
            between = f[k] * (f[k + 1] / f[k]) ** share
            value = model(between) * ratio[k] * np.exp(share * drifted)
            doubt = max(self.std[k : k + 2] / np.abs(self.value[k : k + 2]))
            least = np.full(points, float(self.coherence[k : k + 2].min()))
            parts.append(FrequencyResponse(between, value, least, doubt * np.abs(value)))
        both = [np.concatenate([getattr(p, k) for p in parts]) for k in ("frequency", "value", "coherence", "std")]
        rising = np.argsort(both[0])
        return FrequencyResponse(*(values[rising] for values in both))

    def _kept(self, keep: NDArray[np.bool_]) -> "FrequencyResponse":
        return FrequencyResponse(self.frequency[keep], self.value[keep], self.coherence[keep], self.std[keep])

    def below(self, most_hz: float) -> "FrequencyResponse":
        """Return the lines up to a frequency. [Hz]"""
        return self._kept(self.frequency <= most_hz)


def _distance(frequency: FloatArray, others: FloatArray) -> FloatArray:
    """Return how far each frequency is from the nearest of others, in natural logarithms; infinite without any."""
    if not others.size:
        return np.full(len(frequency), np.inf)
    return np.asarray(np.abs(np.log(frequency[:, None] / others[None, :])).min(axis=1))


def estimate_response(
    excitation: FloatArray,
    entry: FloatArray,
    exit_: FloatArray,
    *,
    lines: IntArray,
    period: int,
    rate_hz: float,
    skip: int = 1,
) -> FrequencyResponse:
    """Return entry -> exit at the excited lines, the excitation being the instrument.

    Parameters
    ----------
    excitation, entry, exit_ : ndarray, shape (n,)
        What was injected, what entered the system, what came out, sampled together.
    lines : ndarray of int
        Excited harmonics of the period.
    period : int
        Samples of one period.
    rate_hz : float
        Sampling rate.
    skip : int
        Periods left out at the start, until the transient is gone.

    Raises
    ------
    UnusableInput
        Fewer than two periods are left.

    Notes
    -----
    G = (mean Y R*) / (mean U R*): the joint input-output estimate; loop noise correlates with U and Y but not with R
    (L. Ljung, System Identification, 2nd ed., ch. 13; R. Pintelon, J. Schoukens, System Identification, ch. 2; from
    memory). The variance is that of the periods about their mean.
    """
    n = len(excitation) // period - skip
    if n < 2 or not len(excitation) == len(entry) == len(exit_):
        raise UnusableInput(what="Fewer than two whole periods are left.", remedy="Record longer.")
    tail = slice(skip * period, (skip + n) * period)

    def spectra(signal: FloatArray) -> ComplexArray:
        cut = np.asarray(signal[tail], dtype=float).reshape(n, period)
        return np.fft.rfft(cut, axis=1)[:, lines]

    r, u, y = spectra(excitation), spectra(entry), spectra(exit_)
    value = (y * r.conj()).mean(0) / (u * r.conj()).mean(0)
    coherence = np.abs((y * r.conj()).mean(0)) ** 2 / ((np.abs(y) ** 2).mean(0) * (np.abs(r) ** 2).mean(0))
    residual = y - value * u
    std = np.sqrt((np.abs(residual) ** 2).sum(0) / (n - 1) / n) / np.abs(u.mean(0))
    return FrequencyResponse(lines * rate_hz / period, value, np.minimum(coherence, 1.0), std)


def without_ramp(signal: FloatArray, period: int) -> FloatArray:
    """Return a signal without what it gains from period to period: the way of an axis that runs is a ramp.

    `signal` has shape (n,), n two periods of `period` samples or more.
    """
    gain = float(np.mean(signal[period:] - signal[:-period])) / period
    return np.asarray(signal - gain * np.arange(len(signal)), dtype=np.float64)


def average_responses(parts: Sequence[FrequencyResponse]) -> FrequencyResponse:
    """Return the mean of responses on one grid, weighted by their variance.

    Raises
    ------
    UnusableInput
        There are none, or their grids differ.

    Notes
    -----
    What friction and dead time add is periodic like the excitation: it repeats from period to period, and shows only
    between experiments with other phases. So the standard deviation is the larger of what the periods and what the
    experiments say, and the coherence the mean of all, lessened by the scatter between experiments: it tells how
    clearly one experiment speaks, however many there are (best linear approximation; R. Pintelon, J. Schoukens, System
    Identification, 2nd ed., ch. 4, "robust method"; from memory).
    """
    if not parts or any(not np.array_equal(p.frequency, parts[0].frequency) for p in parts):
        raise UnusableInput(what="The responses have different grids.", remedy="Measure them alike.")
    weight = np.stack([1 / np.maximum(p.std, 1e-15) ** 2 for p in parts])
    each = np.stack([p.value for p in parts])
    std = 1 / np.sqrt(weight.sum(0))
    coherence = np.mean([p.coherence for p in parts], axis=0)
    if len(parts) > 1:
        # Where what the experiments differ by is more than their noise, noise must not weight them.
        scatter = (np.abs(each - each.mean(0)) ** 2).sum(0) / (len(parts) - 1)
        weight = 1 / (1 / weight + scatter)
        std = np.maximum(std, np.sqrt(scatter / len(parts)))
        coherence = coherence / (1 + scatter / np.maximum(np.abs(each.mean(0)) ** 2, 1e-300))
    value = (weight * each).sum(0) / weight.sum(0)
    return FrequencyResponse(parts[0].frequency, value, coherence, std)
