"""A shape of the velocity loop along frequencies, gain 1: regulator, filters and sections, compiled; see `shape.py`."""

import math

import numba
import numpy as np

FIXED = 3  # reset time, torque filter, speed filter; then four figures for each section
NOISE_POINTS = 64  # of the spectrum that a device's noise is summed over
NOISE_ANGLES = math.pi * (np.arange(NOISE_POINTS) + 0.5) / NOISE_POINTS
NOISE_RE, NOISE_IM = np.cos(NOISE_ANGLES), -np.sin(NOISE_ANGLES)  # of z^-1 there
DIFFERENCED = (1.0 - NOISE_RE) ** 2 + NOISE_IM**2  # power of a speed over that of the positions it is made of


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
def shape_along(x, period, re, im, shape):
    """Put regulator, filters and sections of a shape at every z^-1 = `re` + i `im` into `shape`, gain 1.

    `shape` has rows for the real and the imaginary part, and two that are worked in. Real numbers throughout, and
    loops without a branch, so that the compiler takes several frequencies at once.
    """
    integral = period / x[0]
    lp, sf = math.exp(-2 * math.pi * x[1] * period), math.exp(-2 * math.pi * x[2] * period)
    sections = _coefficients(x, period)
    passed, slope = (1.0 - lp) * (1.0 - sf), integral - 1.0
    top_re, top_im, below_re, below_im = shape[0], shape[1], shape[2], shape[3]
    for i in range(len(re)):
        a, b = re[i], im[i]
        top_re[i], top_im[i] = passed * (1.0 + slope * a), passed * slope * b
        c, d = (1.0 - a) * (1.0 - lp * a) - lp * b * b, -lp * b * (1.0 - a) - b * (1.0 - lp * a)
        e, f = 1.0 - sf * a, -sf * b
        below_re[i], below_im[i] = c * e - d * f, c * f + d * e
    for k in range(0, len(sections), 2):
        z0, z1, z2 = sections[k, 0], sections[k, 1], sections[k, 2]
        p0, p1, p2 = sections[k + 1, 0], sections[k + 1, 1], sections[k + 1, 2]
        for i in range(len(re)):
            a, b = re[i], im[i]
            square, twice = a * a - b * b, 2.0 * a * b  # z^-2
            c, d = z0 + z1 * a + z2 * square, z1 * b + z2 * twice
            top_re[i], top_im[i] = top_re[i] * c - top_im[i] * d, top_re[i] * d + top_im[i] * c
            c, d = p0 + p1 * a + p2 * square, p1 * b + p2 * twice
            below_re[i], below_im[i] = below_re[i] * c - below_im[i] * d, below_re[i] * d + below_im[i] * c
    for i in range(len(re)):
        c, d = below_re[i], below_im[i]
        size2 = c * c + d * d
        top_re[i], top_im[i] = (top_re[i] * c + top_im[i] * d) / size2, (top_im[i] * c - top_re[i] * d) / size2


@numba.njit(cache=True, error_model="numpy")
def made_of_noise(x, period):
    """Return what a shape with gain 1 makes of noise: torque, and what of it changes from one sample to the next.

    Both rms over the rms of the raw speed. [N·m·s/rad over the gain]

    The device's positions carry white noise: differenced, its spectrum is |1 - z^-1|², twice its share on average.
    """
    shape = np.empty((4, NOISE_POINTS))
    shape_along(x, period, NOISE_RE, NOISE_IM, shape)
    torque, change = 0.0, 0.0
    for k in range(NOISE_POINTS):
        power = DIFFERENCED[k] * (shape[0, k] * shape[0, k] + shape[1, k] * shape[1, k])
        torque += power
        change += DIFFERENCED[k] * power
    return math.sqrt(0.5 * torque / NOISE_POINTS), math.sqrt(0.5 * change / NOISE_POINTS)


@numba.njit(cache=True, error_model="numpy")
def torque_of_noise(x, period):
    """Return rms torque over rms raw speed at rest of a shape with gain 1. [N·m·s/rad over the gain]"""
    return made_of_noise(x, period)[0]
