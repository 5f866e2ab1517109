"""How much a velocity loop misses of what is asked, on many plants at once: the inner step of the known plant's search.

A loop is twelve figures: reset time [s], torque and speed filter [Hz], zero and pole of two sections, each a frequency
[Hz] and a damping, and the gain. Nothing is shared with the tuner's own kernel.
"""

import math

import numba
import numpy as np
from numpy.typing import NDArray

from cadrel.core.simulation.layout import TV

FloatArray = NDArray[np.float64]
QUIET_FROM = 1200.0  # [Hz] beyond, the gain stays below 1 by the gain margin, as for the tuner
MOST_LEAD = math.log(3.0)
MISSED = 30.0  # times what is missed, a logarithm, beside
WEIGHT = 0.5  # of log gain beside log integral gain, as for the tuner's own proposals
LOOKED_AT_FIRST = 8  # places where loops before came too near to -1
ROUNDED = 1e-9  # of what is missed: of a loop just as good as the one to beat nothing is left out
EVENLY = (np.arange(64) + 0.5) / 128 / TV  # [Hz] to half the rate: where noise is summed


@numba.njit(cache=True, error_model="numpy")
def _controller(x, warped, at, period):  # type: ignore[no-untyped-def]
    """Return the controller at one frequency: `at` has what only that decides, `warped` what only the loop does."""
    w, s, squared, summed = at[0], at[1], at[2], at[3]
    lp, sf = warped[4], warped[5]
    top = x[11] * (1 - lp) * (1 - sf) * (1 + period / x[0] * summed)
    below = (1 - lp * w) * (1 - sf * w)
    for k in range(2):
        zero, pole = warped[2 * k], warped[2 * k + 1]
        top *= squared / (zero * zero) + 2 * x[4 * k + 4] / zero * s + 1
        below *= squared / (pole * pole) + 2 * x[4 * k + 6] / pole * s + 1
    return top * below.conjugate() / (below.real * below.real + below.imag * below.imag)


def by_frequency(frequency: FloatArray) -> NDArray[np.complex128]:
    """What only the frequency decides, a row each: a sample's delay, its bilinear map, the square of that, the sum."""
    w = np.exp(-2j * np.pi * frequency * TV)
    s = (1 - w) / (1 + w)
    return np.stack([w, s, s * s, w / (1 - w)], axis=1)


@numba.njit(cache=True, error_model="numpy")
def _warped(x, period):  # type: ignore[no-untyped-def]
    """Return zero and pole of both sections as the bilinear transform has them, and the poles of both filters."""
    found = np.empty(6)
    for k in range(2):
        found[2 * k] = math.tan(math.pi * x[4 * k + 3] * period)
        found[2 * k + 1] = math.tan(math.pi * x[4 * k + 5] * period)
    found[4], found[5] = math.exp(-2 * math.pi * x[1] * period), math.exp(-2 * math.pi * x[2] * period)
    return found


@numba.njit(cache=True, error_model="numpy")
def amplified(x, at, period):  # type: ignore[no-untyped-def]
    """Return what white noise of a position becomes as torque, and as what it changes by: rms over rms a sample.

    `at` is even to half the rate.
    """
    warped, torque, change = _warped(x, period), 0.0, 0.0
    for k in range(len(at)):
        c = _controller(x, warped, at[k], period) * (1 - at[k, 0])
        torque += c.real * c.real + c.imag * c.imag
        c *= 1 - at[k, 0]
        change += c.real * c.real + c.imag * c.imag
    return math.sqrt(torque / (2 * len(at))), math.sqrt(change / (2 * len(at)))


@numba.njit(cache=True, error_model="numpy", fastmath={"nnan", "nsz", "reassoc", "contract"})
def _loops(c, real, imag, loop, size):  # type: ignore[no-untyped-def]
    """Lay the loops of one frequency into `loop`, real and imaginary parts; their squares into `size`.

    Returns the least |1 + L|² of all plants that came in.
    """
    nearest = np.inf
    for j in range(len(real)):
        re, im = c.real * real[j] - c.imag * imag[j], c.real * imag[j] + c.imag * real[j]
        loop[0, j], loop[1, j], size[j] = re, im, re * re + im * im
        nearest = min(nearest, size[j] + 2 * re + 1)
    return nearest


@numba.njit(cache=True, error_model="numpy")
def _has_crossed(loop, last, size, before):  # type: ignore[no-untyped-def]
    """Whether a plant's loop crossed the real axis or the unit circle between two frequencies."""
    crossed = 0
    for j in range(len(size)):
        crossed += ((loop[1, j] > 0) != (last[1, j] > 0)) | ((size[j] > 1) != (before[j] > 1))
    return crossed > 0


@numba.njit(cache=True, error_model="numpy")
def violation(x, frequency, at, plants, unstable, drifts, peak, margin, gain_margin, noises, period):  # type: ignore[no-untyped-def]
    """Return by how much a loop misses what is asked, as a sum of logarithms; 0 where it keeps all.

    `plants` are real and imaginary parts, shape (2, frequencies, plants). Margins are asked of the first `drifts`; the
    others, lighter, heavier, gripped, need only be stable. Stability is how often 1 + L turns about nought, once for
    each pair of poles that is `unstable` by itself: how often the straight line between one frequency and the next
    passes the negative axis, and where it ends.
    """
    return _violation(
        x, frequency, at, plants, unstable, drifts, peak, margin, gain_margin, noises, period, np.inf,
        np.empty(0, dtype=np.int64),
    )  # fmt: skip


@numba.njit(cache=True, error_model="numpy")
def _violation(  # type: ignore[no-untyped-def]  # noqa: PLR0912
    x, frequency, at, plants, unstable, drifts, peak, margin, gain_margin, noises, period, enough, worst
):
    """As `violation`; one that misses more than `enough` is not worked out to its end, and told as missing without end.

    `worst` are places on the grid where loops before came too near to -1, the last one first: looked at before all
    others, and kept up to date.
    """
    n, m = plants.shape[1:]
    missed = 0.0
    made = amplified(x, at[n:], period)
    for k in range(2):
        if noises[k, 0] > 0.0:
            missed += max(math.log(noises[k, 0] * made[k] / noises[k, 1]), 0.0)
    if missed > enough:
        return np.inf
    near = (math.exp(missed - enough) / peak) ** 2  # |1 + L|² below which it has missed enough
    far, steep = (math.exp(enough - missed) / gain_margin) ** 2, margin - (enough - missed)
    warped = _warped(x, period)
    loop, last, passed = np.zeros((2, m)), np.zeros((2, m)), np.zeros(m)
    size, before, first = np.zeros(m), np.zeros(m), np.zeros(m)
    for k in range(len(worst)):
        i = worst[k]
        c = _controller(x, warped, at[i], period)
        if _loops(c, plants[0, i, :drifts], plants[1, i, :drifts], loop, size) < near:
            return np.inf
    nearest, worst_phase, crossed, loudest = np.inf, math.pi, 0.0, 0.0  # |1 + L|² and |L|², not their roots
    for i in range(n):
        c = _controller(x, warped, at[i], period)
        here = _loops(c, plants[0, i, :drifts], plants[1, i, :drifts], loop, size)
        if here < near:
            worst[1:], worst[:1] = worst[:-1].copy(), i
            return np.inf
        _loops(c, plants[0, i, drifts:], plants[1, i, drifts:], loop[:, drifts:], size[drifts:])
        nearest = min(nearest, here)
        if frequency[i] > QUIET_FROM:
            loudest = max(loudest, size[:drifts].max())
        if i == 0:
            for j in range(m):
                first[j] = math.atan2(loop[1, j], 1 + loop[0, j])
        elif _has_crossed(loop, last, size, before):
            for j in range(m):
                if (loop[1, j] > 0) != (last[1, j] > 0):
                    # Where the line between both passes the real axis, times what its imaginary part rises by.
                    through = last[0, j] * loop[1, j] - loop[0, j] * last[1, j]
                    rise = loop[1, j] - last[1, j]
                    if (through + rise) * rise < 0:
                        passed[j] += 1.0 if rise < 0 else -1.0
                    if loop[0, j] < 0 and last[0, j] < 0 and (j < drifts or (size[j] > 1 and unstable[j] == 0)):
                        crossed = max(crossed, size[j])
                if j < drifts and (size[j] > 1) != (before[j] > 1):
                    for one in (loop, last):
                        worst_phase = min(worst_phase, math.pi - abs(math.atan2(one[1, j], one[0, j])))
        if max(crossed, loudest) > far or worst_phase < steep:
            return np.inf
        loop, last, size, before = last, loop, before, size
    for j in range(m):
        turned = math.atan2(last[1, j], 1 + last[0, j]) + 2 * math.pi * (passed[j] - unstable[j])
        if abs(turned) > 0.5 * math.pi or first[j] > 0:
            missed += 3.0
    missed += max(-math.log(math.sqrt(nearest) * peak), 0.0) + max(margin - worst_phase, 0.0)
    return missed + max(math.log(max(math.sqrt(max(crossed, loudest)), 1e-9) * gain_margin), 0.0)


@numba.njit(cache=True, error_model="numpy")
def scores(  # type: ignore[no-untyped-def]
    many, frequency, at, plants, unstable, drifts, peak, margin, gain_margin, noises, period, beaten
):
    """Return the score of every column of `many`, the less the better; infinite where it is more than its `beaten`."""
    found, worst = np.empty(many.shape[1]), np.zeros(LOOKED_AT_FIRST, dtype=np.int64)
    for k in range(many.shape[1]):
        x = np.exp(many[:, k])
        lead = 0.0
        for q in (3, 7):
            lead += max(many[q + 2, k] - many[q, k] - MOST_LEAD, 0.0)
        best = MISSED * lead - math.log(x[11] / x[0]) - WEIGHT * math.log(x[11])  # where it misses nothing else
        enough = (beaten[k] - best) / MISSED + ROUNDED
        if enough < 0.0:
            found[k] = np.inf
            continue
        found[k] = best + MISSED * _violation(
            x, frequency, at, plants, unstable, drifts, peak, margin, gain_margin, noises, period, enough,
            worst,
        )  # fmt: skip
    return found
