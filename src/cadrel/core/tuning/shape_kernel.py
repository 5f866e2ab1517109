"""How much gain a shape of the velocity loop bears: the search's inner step, compiled; see `shape.py`."""

import math

import numba
import numpy as np

NO_GAIN = -50.0  # score of a shape that bears none
BANDWIDTH_WEIGHT = 0.5  # of log gain beside log integral gain: stiff first, then quick
NOISE_POINTS = 64  # of the spectrum that a device's noise is summed over
NOISE_DELAYED = np.exp(-1j * math.pi * (np.arange(NOISE_POINTS) + 0.5) / NOISE_POINTS)  # z^-1 there
DIFFERENCED = np.abs(1.0 - NOISE_DELAYED) ** 2  # power of a speed over that of the positions it is made of
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
    # Without the scaling of a complex division: nothing here is near the ends of what a float holds.
    return top * np.conj(below) / (below.real * below.real + below.imag * below.imag)


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
        c = _shaped(NOISE_DELAYED[k], integral, lp, sf, sections)
        total += DIFFERENCED[k] * (c.real * c.real + c.imag * c.imag)
    return math.sqrt(0.5 * total / NOISE_POINTS)


@numba.njit(cache=True, error_model="numpy")
def highest_gain(x, frequency, plants, kept, period, noise_torque, noise, delay, unseen_hz):
    """Return (score, gain) of a shape: reset time [s], torque and speed filter [Hz], then zero and pole figures.

    Notes
    -----
    At each frequency |1 + K s| >= 1/Ms, no phase nearer to -180° than the margin where K |s| = 1, and K |s| below the
    gain margin where s crosses the negative axis, forbid K between two bounds. Below the frequency at which PI and
    delay turn the phase least, between reset time and delay, K must lie above them, elsewhere below.
    """
    delayed = np.exp(-2j * math.pi * frequency * period)
    return _highest_gain(x, frequency, delayed, plants, kept, period, noise_torque, noise, delay, unseen_hz)


@numba.njit(cache=True, error_model="numpy")
def _highest_gain(  # noqa: PLR0912 - one pass over the plants: the branches are the margins
    x, frequency, delayed, plants, kept, period, noise_torque, noise, delay, unseen_hz
):
    sections, integral = _coefficients(x, period), period / x[0]
    lp, sf = math.exp(-2 * math.pi * x[1] * period), math.exp(-2 * math.pi * x[2] * period)
    slow = delay + 1.0 / (2 * math.pi * x[1]) + 1.0 / (2 * math.pi * x[2])
    low_hz = 1.0 / (2 * math.pi * math.sqrt(x[0] * slow))
    least, most = 0.0, np.inf
    n, m = plants.shape
    wedge2 = np.cos(kept[:, 1]) ** 2
    outside = 1.0 - 1.0 / kept[:, 0] ** 2  # of the square of s, that keeps a ray from -1 clear of the peak's circle
    lies_low = np.zeros(m, dtype=np.bool_)  # whether the plant's last point was forbidden, below the bend
    lay_left, lay_above = np.zeros(m, dtype=np.bool_), np.zeros(m, dtype=np.bool_)  # of its last point
    for i in range(n):
        c = _shaped(delayed[i], integral, lp, sf, sections)
        below, unseen = frequency[i] < low_hz, frequency[i] > unseen_hz
        for j in range(m):
            p = plants[i, j]
            re, im = c.real * p.real - c.imag * p.imag, c.real * p.imag + c.imag * p.real
            if re >= 0.0:  # right of the origin nothing is forbidden but what nobody knows of
                if unseen:
                    most = min(most, 1.0 / (kept[j, 2] * math.sqrt(re * re + im * im)))
                lies_low[j], lay_left[j], lay_above[j] = False, False, im > 0.0
                continue
            if np.isnan(re):
                continue
            size2, forbidden = re * re + im * im, False
            under = re * re - size2 * outside[j]
            if under > 0.0:  # too near to -1
                root, forbidden = math.sqrt(under), True
                if below:
                    least = max(least, (-re + root) / size2)
                else:
                    most = min(most, (-re - root) / size2)
            if re * re > wedge2[j] * size2:  # nearer to -180° than the phase margin
                forbidden = True
                if below:
                    least = max(least, 1.0 / math.sqrt(size2))
                else:
                    most = min(most, 1.0 / math.sqrt(size2))
            if forbidden and ((below and im > 0.0) or (not below and lies_low[j])):
                # Past -180° where the gain is high, or a crossing that would fall between the two: no gain fits.
                return NO_GAIN, 0.0
            lies_low[j] = forbidden and below
            if unseen or (not below and lay_left[j] and lay_above[j] != (im > 0.0)):
                most = min(most, 1.0 / (kept[j, 2] * math.sqrt(size2)))
            lay_left[j], lay_above[j] = True, im > 0.0
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
    delayed = np.exp(-2j * math.pi * frequency * period)  # z^-1, which no shape changes
    for k in range(many.shape[1]):
        x = np.exp(many[:, k])
        score, _ = _highest_gain(x, frequency, delayed, plants, kept, period, noise_torque, noise, delay, unseen_hz)
        found[k] = -score
    return found
