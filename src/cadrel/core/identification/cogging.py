"""Cogging over a turn: from runs at constant speed, both ways."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Mechanics = Callable[[FloatArray], NDArray[np.complex128]]
DRIFTS, DRIFTS_OF_A_WAY = 3, 6  # powers of time in a turn, and in a way, that are no harmonic: a speed that settles
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
    runs: Sequence[tuple[FloatArray, FloatArray]], *, torque_constant: float, mechanics: Mechanics, period: float,
    most: int, least: float = 0.0,
) -> CoggingMap:  # fmt: skip
    """Return the cogging that runs at constant speed show.

    Parameters
    ----------
    runs : sequence of (position, i_q), each of shape (n,)
        At constant speed, one way or the other, a turn at least each. [rad], [A]
    torque_constant : float
        Of the motor. [N·m/A]
    mechanics : callable
        Torque to speed of the motor at frequencies, all that moves with it. [Hz] -> [rad/s per N·m]
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
    Z w = Kt i + T_cogging - T_friction, with Z the impedance of what moves, one over its mechanics: a load on a soft
    shaft is not there at forty cycles a second. Current and position are each fitted by harmonics of the angle over
    a whole way; an angle that swings by p at order k is a speed of j k w p, and turned the other way all of it is
    conjugate. Friction is a constant at one speed and falls out. Every whole turn, of either way, is an experiment of
    its own: their scatter is the doubt, so that what does not repeat with the turn (friction along the travel, noise)
    counts as noise. Their mean is no value: a speed that drifts leaks into the harmonics of a turn, of a whole way
    hardly. Half of what the two ways differ by is doubt too: what is wrong with Z turns round with the way.
    """
    orders = np.arange(1, most + 1)
    found, ways, whole = [], [], []
    for position, current in runs:
        for part in _turns(position):
            place = position[part]
            speed = (place[-1] - place[0]) / ((len(place) - 1) * period)
            found.append(_harmonics(place, current[part], orders, torque_constant, mechanics, float(speed), DRIFTS))
            ways.append(speed > 0.0)
        mean = float(position[-1] - position[0]) / ((len(position) - 1) * period)
        whole.append(_harmonics(position, current, orders, torque_constant, mechanics, mean, DRIFTS_OF_A_WAY))
    if not found:
        raise UnusableInput(what="No run was a whole turn long.", remedy="Agree to more travel.")
    each = np.stack(found)
    count = len(each)
    scatter = np.abs(each - each.mean(0)) ** 2
    std = np.sqrt(scatter.sum(0) / max(count - 1, 1) / count) if count > 1 else np.abs(each[0])
    forward, passes = np.array(ways), [bool(p[-1] > p[0]) for p, _ in runs]
    if forward.any() and not forward.all():
        sides = [np.mean([w for w, f in zip(whole, passes, strict=True) if f == way], axis=0) for way in (True, False)]
        std = np.maximum(std, 0.5 * np.abs(sides[0] - sides[1]))
    return CoggingMap(orders=orders, value=np.mean(whole, axis=0), std=np.maximum(std, 1e-12), least=least)


def _turns(position: FloatArray) -> list[slice]:
    """Samples of each whole turn, by where the motor was."""
    gone = np.maximum.accumulate(np.abs(position - position[0]))
    whole = int(gone[-1] / (2 * np.pi) + 1e-9)
    edges = np.searchsorted(gone, 2 * np.pi * np.arange(whole + 1))
    return [slice(int(a), int(b)) for a, b in pairwise(edges)]


def _harmonics(
    position: FloatArray,
    current: FloatArray,
    orders: IntArray,
    torque_constant: float,
    mechanics: Mechanics,
    speed: float,
    drifts: int,
) -> NDArray[np.complex128]:
    """Complex torque of every order in one turn."""
    time = np.linspace(-1.0, 1.0, len(position))
    even = np.polynomial.legendre.legvander(time, drifts)
    line, *_ = np.linalg.lstsq(even, position, rcond=None)
    swing = position - even @ line
    turned = np.outer(position, orders)  # the torque is one of where the motor stands, not of where it ought to
    basis = np.concatenate([even, np.cos(turned), np.sin(turned)], axis=1)
    both, *_ = np.linalg.lstsq(basis, np.stack([current, swing], axis=1), rcond=None)
    first = drifts + 1
    n = len(orders)
    value = both[first : first + n] - 1j * both[first + n :]  # a cos + b sin = Re((a - i b) exp(i k angle))
    response = mechanics(np.abs(orders * speed) / (2 * np.pi))
    response = response if speed > 0.0 else np.conj(response)
    return np.asarray(1j * orders * speed * value[:, 1] / response - torque_constant * value[:, 0])
