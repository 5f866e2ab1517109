"""Sine and cosine that are not a circle: the fit, the correction, and the angle error of both."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]
FEWEST = 50  # samples
COVERED = 10  # of twelve sectors of the circle must hold samples


@dataclass(frozen=True, slots=True, kw_only=True)
class SignalCircle:
    """Received signals x = a cos(phi) + x0, y = g a sin(phi + q) + y0."""

    amplitude: float  # a
    offset_cos: float  # x0
    offset_sin: float  # y0
    gain: float  # g
    quadrature: float  # q [rad]

    def phase(self, cos: FloatArray, sin: FloatArray) -> FloatArray:
        """Return the angle read with this correction. [rad]"""
        u = cos - self.offset_cos
        v = (sin - self.offset_sin) / self.gain
        return np.arctan2((v - u * math.sin(self.quadrature)) / math.cos(self.quadrature), u)

    def signals(self, phi: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return cosine and sine as they arrive at angles phi. [rad]"""
        cos = self.amplitude * np.cos(phi) + self.offset_cos
        return cos, self.gain * self.amplitude * np.sin(phi + self.quadrature) + self.offset_sin


ROUND = SignalCircle(amplitude=1.0, offset_cos=0.0, offset_sin=0.0, gain=1.0, quadrature=0.0)


def fit_circle(cos: FloatArray, sin: FloatArray) -> SignalCircle:
    """Return the ellipse that recorded signals lie on.

    Parameters
    ----------
    cos, sin : ndarray, shape (n,)
        Raw signals, over at least most of one period; their order does not matter.

    Raises
    ------
    UnusableInput
        Too few samples, or too small a part of the circle.

    Notes
    -----
    Least squares of A x² + B y² + C x y + D x + E y = 1 about the mean, and from it gain, quadrature error and
    offsets [1]_. With cos = x, the conic of a cos(phi), g a sin(phi + q) has C / sqrt(A B) = -2 sin(q) and A / B = g².

    References
    ----------
    .. [1] P. L. M. Heydemann, "Determination and correction of quadrature fringe measurement errors in
       interferometers", Appl. Opt. 20 (1981) 3382-3384 (from memory; derived anew in tests/external).
    """
    if len(cos) < FEWEST:
        raise UnusableInput(what="Too few samples of the signals.", remedy="Record them over a longer turn.")
    # About their own mean: the conic's constant is set to one, so it must not pass near the zero it is written in.
    middle_cos, middle_sin = float(cos.mean()), float(sin.mean())
    x, y = cos - middle_cos, sin - middle_sin
    sectors = np.unique(np.floor((np.arctan2(y, x) / (2 * math.pi)) * 12))
    if len(sectors) < COVERED:
        raise UnusableInput(
            what="The signals cover too little of their circle.", remedy="Turn over a whole signal period."
        )
    design = np.stack([x * x, y * y, x * y, x, y], axis=1)
    a, b, c, d, e = np.linalg.lstsq(design, np.ones(len(x)), rcond=None)[0]
    if a <= 0 or b <= 0 or 4 * a * b <= c * c:
        raise UnusableInput(what="The signals lie on no ellipse.", remedy="Check both signal wires.")
    root = 4 * a * b - c * c
    x0, y0 = (c * e - 2 * b * d) / root, (c * d - 2 * a * e) / root
    quadrature = math.asin(-c / (2 * math.sqrt(a * b)))
    gain = math.sqrt(a / b)
    scale = 1 + a * x0 * x0 + b * y0 * y0 + c * x0 * y0
    amplitude = math.sqrt(scale / a) / math.cos(quadrature)
    return SignalCircle(
        amplitude=amplitude,
        offset_cos=float(middle_cos + x0),
        offset_sin=float(middle_sin + y0),
        gain=gain,
        quadrature=quadrature,
    )


def angle_error(true: SignalCircle, correction: SignalCircle) -> float:
    """Return the largest angle error left when signals of one circle are read with a correction. [rad]

    The mean over a period is no error of interpolation: it shifts the zero, and is taken out.
    """
    phi = np.linspace(0, 2 * math.pi, 720, endpoint=False)
    gap = np.angle(np.exp(1j * (correction.phase(*true.signals(phi)) - phi)))
    return float(np.abs(gap - gap.mean()).max())
