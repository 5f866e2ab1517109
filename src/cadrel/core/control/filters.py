"""Coefficients of the drive's filters, as difference equations at the velocity sample."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

TV = 250e-6  # [s] velocity and position sample
TICK = 62.5e-6  # [s] current-loop tick

ComplexArray = NDArray[np.complex128]


def lowpass_pole(frequency_hz: float, *, period: float = TV) -> float:
    """Return a of y += (1 - a)(x - y), the first-order low-pass with that corner: exp(-2 pi f T)."""
    return math.exp(-2 * math.pi * frequency_hz * period)


@dataclass(frozen=True, slots=True)
class Biquad:
    """y = b0 x + b1 x1 + b2 x2 - a1 y1 - a2 y2."""

    b0: float
    b1: float
    b2: float
    a1: float
    a2: float

    def response(self, z_inverse: ComplexArray) -> ComplexArray:
        """Return the frequency response at z^-1, shape as given."""
        top = self.b0 + z_inverse * (self.b1 + z_inverse * self.b2)
        return top / (1 + z_inverse * (self.a1 + z_inverse * self.a2))


def notch(frequency_hz: float, *, width: float, depth_db: float, period: float = TV) -> Biquad:
    """Return the notch (s² + 2 z w s d + w²) / (s² + 2 z w s + w²), bilinear, prewarped at its centre.

    `width` is the damping ratio z of the poles, `depth_db` <= 0 the gain at the centre, d = 10^(depth/20).
    At 0 Hz the notch is off.
    """
    if frequency_hz <= 0 or depth_db >= 0:
        return Biquad(1.0, 0.0, 0.0, 0.0, 0.0)
    w = math.tan(math.pi * frequency_hz * period)  # prewarped, bilinear variable scaled to 1
    zeros, poles = 2 * width * w * 10 ** (depth_db / 20), 2 * width * w
    norm = 1 + poles + w * w
    return Biquad(
        (1 + zeros + w * w) / norm,
        2 * (w * w - 1) / norm,
        (1 - zeros + w * w) / norm,
        2 * (w * w - 1) / norm,
        (1 - poles + w * w) / norm,
    )
