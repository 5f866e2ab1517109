"""How much gain a shape of the velocity loop bears: the search's inner step, compiled; see `shape.py`."""

import math

import numba
import numpy as np

NO_GAIN = -50.0  # score of a shape that bears none
BANDWIDTH_WEIGHT = 0.5  # of log gain beside log integral gain: stiff first, then quick
NOISE_POINTS = 64  # of the spectrum that a device's noise is summed over
FIXED = 3  # reset time, torque filter, speed filter; then four figures for each section


@numba.njit(cache=True, error_model="numpy")
def _coefficients(x, period):
    """Of every section: zeros and poles, each as a polynomial in z^-1, prewarped at their own frequency."""
    found = np.empty(((len(x) - FIXED) // 2, 3))
    for k in range(len(found)):
        inverse = 1.0 / math.tan(math.pi * x[FIXED + 2 * k] * period)
        square, slope = inverse * inverse, 2.0 * x[FIXED + 2 * k + 1] * inverse
        found[k, 0], found[k, 1], found[k, 2] = square + slope + 1.0, 2.0 - 2.0 * square, square - slope + 1.0
    return found


@numba.njit(cache=True, error_model="numpy")
def _shaped(w, integral, lp, sf, sections):
    """Regulator, filters and sections of a shape at z^-1 = w, gain 1."""
    top = (1.0 - w + integral * w) * (1.0 - lp) * (1.0 - sf)
    below = (1.0 - w) * (1.0 - lp * w) * (1.0 - sf * w)
    for k in range(0, len(sections), 2):
        top *= sections[k, 0] + w * (sections[k, 1] + w * sections[k, 2])
        below *= sections[k + 1, 0] + w * (sections[k + 1, 1] + w * sections[k + 1, 2])
    return top / below


@numba.njit(cache=True, error_model="numpy")
def torque_of_noise(x, period):
    """Return rms torque over rms raw speed at rest of a shape with gain 1. [N·m·s/rad over the gain]"""
    lp, sf = math.exp(-2 * math.pi * x[1] * period), math.exp(-2 * math.pi * x[2] * period)
    return _noise_gain(period / x[0], lp, sf, _coefficients(x, period))


@numba.njit(cache=True, error_model="numpy")
def _noise_gain(integral, lp, sf, sections):
    """Return rms torque over rms raw speed of a device whose positions carry white noise, gain 1.

    Differenced, its spectrum is |1 - z^-1|², twice its share on average.
    """
    total = 0.0
    for k in range(NOISE_POINTS):
        w = np.exp(-1j * math.pi * (k + 0.5) / NOISE_POINTS)
        c = abs(_shaped(w, integral, lp, sf, sections) * (1.0 - w))
        total += c * c
    return math.sqrt(0.5 * total / NOISE_POINTS)


@numba.njit(cache=True, error_model="numpy")
def highest_gain(  # noqa: PLR0912 - one pass over the plants: the branches are the margins
    x, frequency, plants, kept, period, noise_torque, noise, delay, unseen_hz
):
    """Return (score, gain) of a shape: reset time [s], torque and speed filter [Hz], then zero and pole figures.

    Notes
    -----
    At each frequency |1 + K s| >= 1/Ms, no phase nearer to -180° than the margin where K |s| = 1, and K |s| below the
    gain margin where s crosses the negative axis, forbid K between two bounds. Below the frequency at which PI and
    delay turn the phase least, between reset time and delay, K must lie above them, elsewhere below.
    """
    sections, integral = _coefficients(x, period), period / x[0]
    lp, sf = math.exp(-2 * math.pi * x[1] * period), math.exp(-2 * math.pi * x[2] * period)
    slow = delay + 1.0 / (2 * math.pi * x[1]) + 1.0 / (2 * math.pi * x[2])
    low_hz = 1.0 / (2 * math.pi * math.sqrt(x[0] * slow))
    least, most = 0.0, np.inf
    n, m = plants.shape
    wedge = np.cos(kept[:, 1])
    before = np.full(m, np.nan + 0j)
    lies_low = np.zeros(m, dtype=np.bool_)  # whether the plant's last point was forbidden, below the bend
    for i in range(n):
        w = np.exp(-2j * math.pi * frequency[i] * period)
        c = _shaped(w, integral, lp, sf, sections)
        below = frequency[i] < low_hz
        for j in range(m):
            s = c * plants[i, j]
            if np.isnan(s.real):
                continue
            size2 = s.real * s.real + s.imag * s.imag
            size, forbidden = math.sqrt(size2), False
            under = s.real * s.real - size2 * (1.0 - 1.0 / (kept[j, 0] * kept[j, 0]))
            if s.real < 0.0 and under > 0.0:  # too near to -1
                root, forbidden = math.sqrt(under), True
                if below:
                    least = max(least, (-s.real + root) / size2)
                else:
                    most = min(most, (-s.real - root) / size2)
            if -s.real > wedge[j] * size:  # nearer to -180° than the phase margin
                forbidden = True
                if below:
                    least = max(least, 1.0 / size)
                else:
                    most = min(most, 1.0 / size)
            if forbidden and ((below and s.imag > 0.0) or (not below and lies_low[j])):
                # Past -180° where the gain is high, or a crossing that would fall between the two: no gain fits.
                return NO_GAIN, 0.0
            lies_low[j] = forbidden and below
            last = before[j]
            if frequency[i] > unseen_hz or (
                not below and s.real < 0.0 and last.real < 0.0 and (last.imag > 0.0) != (s.imag > 0.0)
            ):
                most = min(most, 1.0 / (kept[j, 2] * size))
            before[j] = s
    if noise > 0.0:
        most = min(most, noise_torque / (noise * _noise_gain(integral, lp, sf, sections)))
    if most <= 0.0 or not np.isfinite(most):
        return NO_GAIN, 0.0
    if least > most:
        return NO_GAIN + math.log(most / least), 0.0
    return math.log(most / x[0]) + BANDWIDTH_WEIGHT * math.log(most), most


@numba.njit(cache=True, error_model="numpy")
def scores(many, frequency, plants, kept, period, noise_torque, noise, delay, unseen_hz):
    """Return the negative score of every column of `many`, whose rows are logarithms of a shape's figures."""
    found = np.empty(many.shape[1])
    for k in range(many.shape[1]):
        x = np.exp(many[:, k])
        score, _ = highest_gain(x, frequency, plants, kept, period, noise_torque, noise, delay, unseen_hz)
        found[k] = -score
    return found
