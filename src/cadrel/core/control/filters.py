"""Coefficients of the drive's filters, as difference equations at the velocity sample, and their blocks."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control.blocks import Block

ComplexArray = NDArray[np.complex128]
FRICTION_BLENDS = 0.002  # of the velocity limit: within it the friction feedforward turns round with the command


def lowpass_pole(frequency_hz: float, *, period: float) -> float:
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


def notch(frequency_hz: float, *, width: float, depth_db: float, period: float) -> Biquad:
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Section:
    """Two zeros over two poles, gain 1 at rest: notch, lead-lag, low-pass, whatever their places make of it."""

    zero_hz: float = 0.0  # 0: no zeros
    zero_damping: float = 0.1
    pole_hz: float = 0.0  # 0: off
    pole_damping: float = 0.5

    def biquad(self, *, period: float) -> Biquad:
        """Return the coefficients, zeros and poles each prewarped at their own frequency, bilinear.

        H = (s²/wz² + 2 Dz s/wz + 1) / (s²/wp² + 2 Dp s/wp + 1).
        """
        if self.pole_hz <= 0.0:
            return Biquad(1.0, 0.0, 0.0, 0.0, 0.0)
        top = _bilinear(self.zero_hz, self.zero_damping, period=period)
        below = _bilinear(self.pole_hz, self.pole_damping, period=period)
        return Biquad(*(t / below[0] for t in top), *(b / below[0] for b in below[1:]))


def _bilinear(frequency_hz: float, damping: float, *, period: float) -> tuple[float, float, float]:
    """Coefficients of 1, z^-1 and z^-2 of s²/w² + 2 D s/w + 1 at s = (1 - z^-1) / (1 + z^-1), times (1 + z^-1)²."""
    if frequency_hz <= 0.0:
        return 1.0, 2.0, 1.0
    inverse = 1 / math.tan(math.pi * frequency_hz * period)
    square, slope = inverse * inverse, 2 * damping * inverse
    return square + slope + 1, 2 - 2 * square, square - slope + 1


def low_pass(frequency_hz: float, *, period: float, entry: str, output: str) -> Block:
    """Return y += (1 - a)(x - y) as a block."""
    a = lowpass_pole(frequency_hz, period=period)
    return Block(
        np.array([[a]]),
        np.array([[1 - a]]),
        np.array([[a]]),
        np.array([[1 - a]]),
        (entry,),
        (output,),
        (output,),
        period,
    )


def pi_regulator(gain: float, reset: float, *, period: float, entry: str, output: str) -> Block:
    """Return y = K e + I, then I += K / Tn T e, as a block."""
    return Block(
        np.eye(1),
        np.array([[gain * period / reset]]),
        np.eye(1),
        np.array([[gain]]),
        (entry,),
        (output,),
        (f"{output} integral",),
        period,
    )


def second_order(section: Biquad, *, period: float, entry: str, output: str) -> Block:
    """Return a biquad as a block, in controllable form: two states where the difference equation keeps four."""
    a1, a2, b0 = section.a1, section.a2, section.b0
    if section.b1 == section.b2 == a1 == a2 == 0.0:
        none = np.zeros((0, 0))
        return Block(none, np.zeros((0, 1)), np.zeros((1, 0)), np.array([[b0]]), (entry,), (output,), (), period)
    return Block(
        np.array([[-a1, -a2], [1.0, 0.0]]),
        np.array([[1.0], [0.0]]),
        np.array([[section.b1 - a1 * b0, section.b2 - a2 * b0]]),
        np.array([[b0]]),
        (entry,),
        (output,),
        (f"{output} 1", f"{output} 2"),
        period,
    )
