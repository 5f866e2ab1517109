"""Responses from periodic experiments through a window: what does not repeat leaks no further than its neighbours."""

import math
from collections.abc import Sequence

import numpy as np

from cadrel.core.errors import UnusableInput
from cadrel.core.response.estimate import (
    ComplexArray,
    FloatArray,
    FrequencyResponse,
    IntArray,
    average_responses,
    estimate_response,
)

ENOUGH = 4  # experiments whose scatter is told by themselves alone
LEFT_OUT = 0.05  # of the lines, that may lie beyond two standard deviations
AROUND = 5  # lines that tell together what one hardly does: how much it scatters
Both = tuple[FrequencyResponse, FrequencyResponse]  # of one experiment: as it is, and through the window


def estimate_windowed(
    excitation: FloatArray, entry: FloatArray, exit_: FloatArray, *, lines: IntArray, period: int, rate_hz: float
) -> FrequencyResponse:
    """Return entry -> exit at the excited lines through a Hann window over all periods.

    Parameters and errors as `estimate_response`, nothing being left out.

    Notes
    -----
    Over n periods lines stand n bins apart. Hann's window takes from the next bin to each side, so from n = 2 on
    nothing of a periodic signal reaches another line. What does not repeat (a speed that settles yet, friction and
    errors that come with the turn) falls off with the cube of the distance, without a window with the distance itself.
    White noise comes through by half more (F. J. Harris, Proc. IEEE 66 (1978) 51-83; R. Pintelon, J. Schoukens, System
    Identification, 2nd ed., ch. 2; from memory). Its size is taken from the bins between the lines, where nothing that
    repeats is, through a window as wide as those allow: n times, so of what slopes it tells too much, not too little.
    """
    n = len(excitation) // period
    if n < 2 or not len(excitation) == len(entry) == len(exit_):
        raise UnusableInput(what="Fewer than two whole periods are left.", remedy="Record longer.")
    bins = n * lines

    def spectrum(signal: FloatArray) -> ComplexArray:
        return np.asarray(np.fft.rfft(signal[: n * period]) / n)

    def at(whole: ComplexArray, where: IntArray) -> ComplexArray:
        return np.asarray(np.where(where < 0, whole[np.abs(where)].conj(), whole[np.abs(where)]))

    def seen(whole: ComplexArray, beside: int, apart: int) -> ComplexArray:
        here = bins + beside
        return at(whole, here) - 0.5 * (at(whole, here - apart) + at(whole, here + apart))

    u, y = spectrum(entry), spectrum(exit_)
    # The instrument, the excitation, repeats: each line of it is one number, which divides itself out.
    input_, output = seen(u, 0, 1), seen(y, 0, 1)
    value = output / input_

    def noise(of: ComplexArray) -> FloatArray:
        return np.mean([np.abs(seen(of, q, n)) ** 2 for q in (1, -1)], axis=0)

    # Of what the plant adds: at each line with the plant as it is there.
    added = np.mean([np.abs(seen(y, q, n) - value * seen(u, q, n)) ** 2 for q in (1, -1)], axis=0)
    coherence = 1 / (1 + n * noise(y) / np.maximum(np.abs(output) ** 2, 1e-300))
    return FrequencyResponse(lines * rate_hz / period, value, coherence, np.sqrt(added) / np.abs(input_))


def estimate_both(
    excitation: FloatArray, entry: FloatArray, exit_: FloatArray, *, lines: IntArray, period: int, rate_hz: float
) -> Both:
    """Return entry -> exit of one experiment, as `estimate_response` and as `estimate_windowed` tell it."""
    plain = estimate_response(excitation, entry, exit_, lines=lines, period=period, rate_hz=rate_hz, skip=0)
    return plain, estimate_windowed(excitation, entry, exit_, lines=lines, period=period, rate_hz=rate_hz)


def average_clearer(parts: Sequence[Both], *, periods: int) -> FrequencyResponse:
    """Return the mean of experiments of so many periods each, every line by the estimate that scatters less there.

    Raises `UnusableInput` as `average_responses`.
    """
    plain = average_responses([p for p, _ in parts])
    windowed = _by_scatter([w for _, w in parts], periods) if len(parts) >= ENOUGH else (
        average_responses([w for _, w in parts])
    )  # fmt: skip
    clearer = _noise(windowed) < _noise(plain)
    return FrequencyResponse(
        plain.frequency,
        *(np.where(clearer, getattr(windowed, k), getattr(plain, k)) for k in ("value", "coherence", "std")),
    )


def _by_scatter(parts: Sequence[FrequencyResponse], periods: int) -> FrequencyResponse:
    """Return the mean of experiments that scatter as they differ: what lies between their lines tells too much.

    Of a complex value that n experiments tell, two standard deviations taken from these leave out (1 + 4 / (n - 1)) to
    the power 1 - n, which is more than one in twenty where they are few: the deviation is widened until it is that.
    """
    each, n = np.stack([p.value for p in parts]), len(parts)
    value = each.mean(0)
    scatter = (np.abs(each - value) ** 2).sum(0) / (n - 1)
    wider = math.sqrt((n - 1) * (LEFT_OUT ** (-1 / (n - 1)) - 1)) / 2
    doubt = (periods + 1) * scatter / np.maximum(np.abs(value) ** 2, 1e-300)
    return FrequencyResponse(parts[0].frequency, value, 1 / (1 + doubt), max(wider, 1.0) * np.sqrt(scatter / n))


def _noise(of: FrequencyResponse) -> FloatArray:
    """Return the variance over the value, of each line and its neighbours together."""
    return among_neighbours((of.std / np.maximum(np.abs(of.value), 1e-300)) ** 2)


def among_neighbours(of_lines: FloatArray) -> FloatArray:
    """Return the mean of each line and its neighbours, `AROUND` together, of as many as there are at the ends."""
    window = np.ones(AROUND)
    return np.asarray(np.convolve(of_lines, window, "same") / np.convolve(np.ones(len(of_lines)), window, "same"))
