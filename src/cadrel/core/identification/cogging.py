"""Cogging over a turn: from runs at constant speed, both ways."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
LEAST_TURNS = 0.98  # of the motor, in a part that harmonics are read from
SIGNIFICANT = 4.0  # times its std: a harmonic that is named


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CoggingMap:
    """Torque over the motor's angle, by harmonics of a turn."""

    orders: IntArray  # per turn
    value: NDArray[np.complex128]  # [N·m] torque = sum of Re(value exp(i order angle)), angle as the counts have it
    std: FloatArray  # [N·m] of the amplitude of each

    @property
    def amplitude(self) -> FloatArray:
        """Of each order. [N·m]"""
        return np.abs(self.value)

    @property
    def named(self) -> IntArray:
        """Orders that stand out of their doubt, the largest first."""
        clear = np.nonzero(self.amplitude > SIGNIFICANT * self.std)[0]
        return self.orders[clear[np.argsort(-self.amplitude[clear])]]

    def over(self, angle: FloatArray) -> FloatArray:
        """Torque at angles of the motor, of the named orders. [rad] -> [N·m]"""
        keep = np.isin(self.orders, self.named)
        turned = np.exp(1j * np.outer(angle, self.orders[keep]))
        return np.asarray((turned * self.value[keep]).sum(1).real, dtype=np.float64)


def cogging_map(
    runs: Sequence[tuple[FloatArray, FloatArray]], *, torque_constant: float, inertia: float, period: float, most: int
) -> CoggingMap:
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
        speed = float(np.polyfit(np.arange(len(position)) * period, position, 1)[0])
        turn = round(2 * np.pi / abs(speed) / period) if speed else 0
        if not turn:
            continue
        for k in range(int(len(position) / turn / LEAST_TURNS)):
            part = slice(k * turn, min((k + 1) * turn, len(position)))
            if part.stop - part.start < LEAST_TURNS * turn:
                continue
            found.append(_harmonics(position[part], current[part], orders, torque_constant, inertia, speed))
    if not found:
        raise UnusableInput(what="No run was a whole turn long.", remedy="Agree to more travel.")
    each = np.stack(found)
    count = len(each)
    scatter = np.abs(each - each.mean(0)) ** 2
    std = np.sqrt(scatter.sum(0) / max(count - 1, 1) / count) if count > 1 else np.abs(each[0])
    return CoggingMap(orders=orders, value=each.mean(0), std=np.maximum(std, 1e-12))


def _harmonics(
    position: FloatArray, current: FloatArray, orders: IntArray, torque_constant: float, inertia: float, speed: float
) -> NDArray[np.complex128]:
    """Complex torque of every order in one turn."""
    time = np.arange(len(position), dtype=np.float64)
    even = np.stack([np.ones_like(time), time - time.mean()], axis=1)
    line, *_ = np.linalg.lstsq(even, position, rcond=None)
    swing = position - even @ line
    angle = even @ line  # a swing is far smaller than a period of any order
    basis = np.concatenate([even, np.cos(np.outer(angle, orders)), np.sin(np.outer(angle, orders))], axis=1)
    both, *_ = np.linalg.lstsq(basis, np.stack([current, swing], axis=1), rcond=None)
    n = len(orders)
    value = both[2 : 2 + n] - 1j * both[2 + n :]  # a cos + b sin = Re((a - i b) exp(i k angle))
    acceleration = -((orders * speed) ** 2) * value[:, 1]
    return np.asarray(inertia * acceleration - torque_constant * value[:, 0])
