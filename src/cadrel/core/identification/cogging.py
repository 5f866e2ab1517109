"""Cogging over a turn: from runs at constant speed, both ways."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
DRIFTS = 3  # powers of time in a turn that are no harmonic: a speed that still settles
SIGNIFICANT = 5.0  # times its std: a harmonic that is named


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CoggingMap:
    """Torque over the motor's angle, by harmonics of a turn."""

    orders: IntArray  # per turn
    value: NDArray[np.complex128]  # [N·m] torque = sum of Re(value exp(i order angle)), angle as the counts have it
    std: FloatArray  # [N·m] of the amplitude of each
    least: float = 0.0  # [N·m] less than which no order is worth its name

    @property
    def amplitude(self) -> FloatArray:
        """Of each order. [N·m]"""
        return np.abs(self.value)

    @property
    def named(self) -> IntArray:
        """Orders that stand out of their doubt, the largest first."""
        clear = np.nonzero(self.amplitude > np.maximum(SIGNIFICANT * self.std, self.least))[0]
        return self.orders[clear[np.argsort(-self.amplitude[clear])]]

    def over(self, angle: FloatArray) -> FloatArray:
        """Torque at angles of the motor, of the named orders. [rad] -> [N·m]"""
        keep = np.isin(self.orders, self.named)
        turned = np.exp(1j * np.outer(angle, self.orders[keep]))
        return np.asarray((turned * self.value[keep]).sum(1).real, dtype=np.float64)


def cogging_map(
    runs: Sequence[tuple[FloatArray, FloatArray]], *, torque_constant: float, inertia: float, period: float, most: int,
    least: float = 0.0,
) -> CoggingMap:  # fmt: skip
    """Return the cogging that runs at constant speed show.

    Parameters
    ----------
    runs : sequence of (position, i_q), each of shape (n,)
        At constant speed, one way or the other, a turn at least each. [rad], [A]
    torque_constant, inertia : float
        Of the motor [N·m/A]; of all that moves at the motor [kg·m²].
    period : float
        Between samples. [s]
    most : int
        Highest order. [per turn]
    least : float
        Amplitude below which no order is named. [N·m]

    Raises
    ------
    UnusableInput
        No run is a turn long.

    Notes
    -----
    J dw/dt = Kt i + T_cogging - T_friction. Current and position are each fitted by harmonics of the angle over whole
    turns; an angle that swings by p at order k is an acceleration of -(k w)² p. Friction is a constant at one speed
    and falls out. Every whole turn, of either way, is an experiment of its own: their scatter is the doubt, so that
    what does not repeat with the turn (friction along the travel, noise) counts as noise.
    """
    orders = np.arange(1, most + 1)
    found = []
    for position, current in runs:
        for part in _turns(position):
            place = position[part]
            speed = (place[-1] - place[0]) / ((len(place) - 1) * period)
            found.append(_harmonics(place, current[part], orders, torque_constant, inertia, float(speed)))
    if not found:
        raise UnusableInput(what="No run was a whole turn long.", remedy="Agree to more travel.")
    each = np.stack(found)
    count = len(each)
    scatter = np.abs(each - each.mean(0)) ** 2
    std = np.sqrt(scatter.sum(0) / max(count - 1, 1) / count) if count > 1 else np.abs(each[0])
    return CoggingMap(orders=orders, value=each.mean(0), std=np.maximum(std, 1e-12), least=least)


def _turns(position: FloatArray) -> list[slice]:
    """Samples of each whole turn, by where the motor was."""
    gone = np.maximum.accumulate(np.abs(position - position[0]))
    whole = int(gone[-1] / (2 * np.pi) + 1e-9)
    edges = np.searchsorted(gone, 2 * np.pi * np.arange(whole + 1))
    return [slice(int(a), int(b)) for a, b in pairwise(edges)]


def _harmonics(
    position: FloatArray, current: FloatArray, orders: IntArray, torque_constant: float, inertia: float, speed: float
) -> NDArray[np.complex128]:
    """Complex torque of every order in one turn."""
    time = np.linspace(-1.0, 1.0, len(position))
    even = np.polynomial.legendre.legvander(time, DRIFTS)
    line, *_ = np.linalg.lstsq(even, position, rcond=None)
    swing = position - even @ line
    turned = np.outer(position, orders)  # the torque is one of where the motor stands, not of where it ought to
    basis = np.concatenate([even, np.cos(turned), np.sin(turned)], axis=1)
    both, *_ = np.linalg.lstsq(basis, np.stack([current, swing], axis=1), rcond=None)
    first = DRIFTS + 1
    n = len(orders)
    value = both[first : first + n] - 1j * both[first + n :]  # a cos + b sin = Re((a - i b) exp(i k angle))
    acceleration = -((orders * speed) ** 2) * value[:, 1]
    return np.asarray(inertia * acceleration - torque_constant * value[:, 0])
