"""What the inverter loses to its dead time."""

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated
from cadrel.core.parameters import DEAD_SHAPES

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
Bend = Callable[[FloatArray], FloatArray]
BENDS = np.geomspace(1e-3, 0.6, 60)  # of the largest current: where the lost voltage may bend
THIRDS = 2 * math.pi / 3 * np.arange(3)


def _gradual(x: FloatArray) -> FloatArray:
    return x / (1.0 + np.abs(x))


def _rounded(x: FloatArray) -> FloatArray:
    return x / np.sqrt(1.0 + x**2)


def _sharp(x: FloatArray) -> FloatArray:
    return np.clip(x, -1.0, 1.0)


SHAPES: dict[str, Bend] = dict(zip(DEAD_SHAPES, (_gradual, _rounded, _sharp), strict=True))


@dataclass(frozen=True, slots=True, kw_only=True)
class DeadTime:
    """The voltage that each phase loses at a current i: voltage · shape(i / current)."""

    voltage: Estimated  # [V]
    current: float  # [A]
    shape: str  # one of `DEAD_SHAPES`
    left: float  # [V] rms of what this leaves of the levels

    def lost(self, current: FloatArray, *, angle: float) -> FloatArray:
        """Voltage lost along a vector of that current, held at an angle from phase a. [V], [A], [rad]"""
        return self.voltage.value * _along(SHAPES[self.shape], current / self.current, angle)

    def lost_of(self, vectors: ComplexArray) -> ComplexArray:
        """Vector of the voltage lost of a current vector, both with phase a's axis as the real one. [V], [A]"""
        phases = np.exp(1j * THIRDS)
        currents = (vectors[:, None] * phases.conj()).real
        lost: ComplexArray = 2 / 3 * (self.voltage.value * SHAPES[self.shape](currents / self.current)) @ phases
        return lost


def _along(bend: Bend, x: FloatArray, angle: float) -> FloatArray:
    """What three phases lose along a vector: each bends with its own share of the current."""
    shares = np.cos(angle - THIRDS)
    return 2 / 3 * (bend(np.outer(x, shares)) @ shares)


def fit_dead_time(current: FloatArray, voltage: FloatArray, *, angle: float) -> DeadTime:
    """Return the dead time's voltage from levels of current, some of them far below the others.

    Parameters
    ----------
    current, voltage : ndarray, shape (n,)
        Means at each level, along the vector. [A], [V]
    angle : float
        At which the vector was held, from phase a. [rad]

    Raises
    ------
    UnusableInput
        Fewer than six levels, or their currents lie within a factor of ten.

    Notes
    -----
    v = R i + U sum over the phases, as `DeadTime.lost`: linear in R and U, so only the bend is searched, over every
    shape the drive can give back. Each level weighs the same: what matters is the volts that are left, wherever.
    """
    if len(current) < 6 or np.abs(current).max() < 10 * np.abs(current).min():
        raise UnusableInput(
            what="The current levels lie too near to each other to show the dead time.",
            remedy="Use six or more, some of them far below the others.",
        )
    largest = float(np.abs(current).max())
    best: DeadTime | None = None
    for shape, bend in SHAPES.items():
        for knee in BENDS * largest:
            basis = np.stack([current, _along(bend, current / knee, angle)], axis=1)
            scale = np.abs(basis).max(0)
            solution, _, _, _ = np.linalg.lstsq(basis / scale, voltage, rcond=None)
            rest = voltage - (basis / scale) @ solution
            left = math.sqrt(float(rest @ rest) / len(current))
            if best is not None and left >= best.left:
                continue
            variance = float(rest @ rest) / max(len(current) - 3, 1)
            std = math.sqrt(variance * np.linalg.pinv((basis / scale).T @ (basis / scale))[1, 1]) / scale[1]
            best = DeadTime(
                voltage=Estimated(float(solution[1] / scale[1]), std), current=float(knee), shape=shape, left=left
            )
    assert best is not None
    return best
