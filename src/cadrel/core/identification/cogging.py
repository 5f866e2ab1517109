"""Cogging over a turn: from runs at constant speed, both ways."""

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Self

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Mechanics = Callable[[FloatArray], NDArray[np.complex128]]
DRIFTS, DRIFTS_OF_A_WAY = 3, 6  # powers of time in a turn, and in a way, that are no harmonic: a speed that settles
SIGNIFICANT = 4.0  # times its std: a harmonic that is named
ALIKE = 5  # orders to either side, whose noise is alike
SHAFT_KNOWN = 0.01  # of a frequency, to which it is known where what moves resonates
RAYLEIGH_MEDIAN = math.sqrt(math.log(2.0))  # of the amplitude of noise, over its rms
SEEN = 4.0  # times the median doubt: orders known worse than that are not seen
LIKELY = 2.0  # times its std: an order that is larger than the largest named, and as likely as this, may be the largest
OF_RIPPLE = 6  # times an electrical turn: what a motor's torque per ampere ripples by, and whole multiples of it
MOST_RIPPLE = 0.03  # of the torque: what would be more is something else
RIPPLE = 0.015  # of the torque, rms of what servo motors ripple by; before it is measured (common practice)


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

    @property
    def seen(self) -> NDArray[np.bool_]:
        """Which orders were seen at all: where the load stands against the motor, next to nothing shows."""
        return self.std < SEEN * np.median(self.std)

    @property
    def at_most(self) -> float:
        """What no order that was seen exceeds. [N·m]"""
        return float(np.max((self.amplitude + 2 * self.std)[self.seen]))

    @property
    def is_settled(self) -> bool:
        """Whether an order is named, and none that is not named is likely the larger one."""
        if not len(self.named):
            return False
        return not bool(np.any(self.amplitude[self._likely] > self.amplitude[self._largest]))

    @property
    def doubt(self) -> float:
        """Of the largest order's amplitude, its std; infinite where another may be the larger one by its doubt."""
        if not self.is_settled:
            return math.inf
        largest = self._largest
        others = self._likely & (self.orders != self.orders[largest])
        if np.any((self.amplitude + self.std)[others] > self.amplitude[largest] - self.std[largest]):
            return math.inf
        return float(self.std[largest] / self.amplitude[largest])

    @property
    def _largest(self) -> int:
        """Where the largest order is that is named."""
        return int(np.nonzero(self.orders == self.named[0])[0][0])

    @property
    def _likely(self) -> NDArray[np.bool_]:
        """Orders that are there as likely as not, also where the load hardly lets the motor move."""
        return self.amplitude > LIKELY * self.std

    def over(self, angle: FloatArray) -> FloatArray:
        """Torque at angles of the motor, of the named orders. [rad] -> [N·m]"""
        keep = np.isin(self.orders, self.named)
        turned = np.exp(1j * np.outer(angle, self.orders[keep]))
        return np.asarray((turned * self.value[keep]).sum(1).real, dtype=np.float64)


def together(maps: Sequence[CoggingMap]) -> CoggingMap:
    """Return what maps made at several speeds tell together, each order weighed by its doubt.

    What friction and shaft make of torque differs between speeds, the cogging does not: where maps lie farther apart
    than their doubts say, the doubt of the mean is the larger for it (R. T. Birge, Physical Review 40 (1932) 207; from
    memory).
    """
    first = maps[0]
    weight = np.stack([1 / m.std**2 for m in maps])
    value = (weight * np.stack([m.value for m in maps])).sum(0) / weight.sum(0)
    std = 1 / np.sqrt(weight.sum(0))
    if len(maps) > 1:
        apart = np.stack([np.abs(m.value - value) ** 2 for m in maps])
        std = std * np.sqrt(np.maximum((weight * apart).sum(0) / (len(maps) - 1), 1.0))
    return CoggingMap(orders=first.orders, value=value, std=std, least=first.least)


def cogging_map(
    runs: Sequence[tuple[FloatArray, FloatArray]], *, torque_constant: float, mechanics: Mechanics, period: float,
    most: int, pole_pairs: int, least: float = 0.0,
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
    pole_pairs : int
        Of the motor.
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
    counts as noise. So does what the noise of neighbouring orders would make of torque, and their own torque: cogging
    is a line among them. Their mean is no value: a speed that drifts leaks into the harmonics of a turn, of a whole
    way hardly. Half of what the two ways differ by is doubt too: what is wrong with Z turns round with the way.
    """
    orders = np.arange(1, most + 1)
    turns, ways = [], []
    for position, current in runs:
        for part in _turns(position):
            turns.append(_Harmonics.of(position[part], current[part], orders, period, DRIFTS))
        ways.append(_Harmonics.of(position, current, orders, period, DRIFTS_OF_A_WAY))
    if not turns:
        raise UnusableInput(what="No run was a whole turn long.", remedy="Agree to more travel.")
    each = np.stack([t.torque(torque_constant, mechanics) for t in turns])
    whole = np.stack([w.torque(torque_constant, mechanics) for w in ways])
    noise = _expected(turns, torque_constant, mechanics)
    forward = np.array([w.speed > 0.0 for w in ways])
    ripples = orders % (OF_RIPPLE * pole_pairs) == 0
    ripple, rippled = _ripple(ways, whole, noise, torque_constant)
    each = each - np.where(ripples, np.outer([t.mean for t in turns], torque_constant * ripple), 0.0)
    whole = whole - np.where(ripples, np.outer([w.mean for w in ways], torque_constant * ripple), 0.0)
    std = np.maximum(_deviation(each), noise)
    std = np.maximum(std, np.max([w.doubt_of_shaft(mechanics) for w in ways], axis=0))
    std = np.hypot(std, np.max([w.doubt_of_sine(mechanics) for w in ways], axis=0))
    std = np.hypot(std, np.where(ripples, rippled, 0.0))
    if forward.any() and not forward.all():
        std = np.maximum(std, 0.5 * np.abs(whole[forward].mean(0) - whole[~forward].mean(0)))
    value = whole.mean(0)
    std = np.maximum(std, _beside(np.abs(value)) / RAYLEIGH_MEDIAN)
    return CoggingMap(orders=orders, value=value, std=np.maximum(std, 1e-12), least=least)


def _ripple(
    ways: Sequence["_Harmonics"], whole: NDArray[np.complex128], noise: FloatArray, torque_constant: float
) -> tuple[NDArray[np.complex128], FloatArray]:
    """Share of the motor's torque that each order ripples by, and what its doubt is in the mean of the ways. [N·m]

    Of two ways under different torque: what they differ by over what their torques differ by, drawn towards nought as
    far as noise makes it, ripple of an unknown motor being about `RIPPLE` (a ridge; A. Hoerl and R. Kennard,
    Technometrics 12 (1970) 55; from memory), and no more than `MOST_RIPPLE`.
    """
    forward = np.array([w.speed > 0.0 for w in ways])
    torque = torque_constant * np.array([w.mean for w in ways])
    mean, apart, by = float(torque.mean()), np.zeros_like(whole[0]), 0.0
    if forward.any() and not forward.all():
        apart = whole[forward].mean(0) - whole[~forward].mean(0)
        by = float(torque[forward].mean() - torque[~forward].mean())
    variance = (2 * noise) ** 2  # the mean of both ways is half as far off as their difference
    known = by**2 * RIPPLE**2 + variance
    ripple = apart * by * RIPPLE**2 / np.maximum(known, 1e-300)
    ripple = ripple * np.minimum(MOST_RIPPLE / np.maximum(np.abs(ripple), 1e-300), 1.0)
    doubt = RIPPLE * np.sqrt(variance / np.maximum(known, 1e-300)) * abs(mean)
    return np.asarray(ripple, dtype=np.complex128), np.asarray(doubt)


def _deviation(each: NDArray[np.complex128]) -> FloatArray:
    """Standard deviation of the mean of rows; of a single one its own size."""
    count = len(each)
    if count < 2:
        return np.abs(each[0])
    return np.asarray(np.sqrt((np.abs(each - each.mean(0)) ** 2).sum(0) / (count - 1) / count))


def _expected(turns: Sequence["_Harmonics"], torque_constant: float, mechanics: Mechanics) -> FloatArray:
    """Deviation of each order's torque that the noise of angle and current explains, met as the mechanics meet it.

    Few turns tell their own scatter badly; that of angle and current is alike among neighbouring orders. What it makes
    of torque is not: where the load stands against the motor a small swing of it would take a large torque.
    """
    parts = []
    for way in (True, False):
        of_way = [t for t in turns if (t.speed > 0.0) == way]
        if len(of_way) > 1:
            swing, current = (
                _smoothed(_deviation(np.stack([getattr(t, name) for t in of_way]))) for name in ("swing", "current")
            )
            parts.append(np.hypot(of_way[0].impedance(mechanics) * swing, torque_constant * current))
    if not parts:
        return np.zeros(len(turns[0].orders))
    return np.asarray(np.sqrt(np.sum(np.square(parts), axis=0)) / len(parts))


def _beside(values: FloatArray) -> FloatArray:
    """Median of the neighbours alone: cogging stands out as a line, and what does not repeat as a hill."""
    return np.asarray(np.median(np.delete(_windows(values), ALIKE, axis=1), axis=1))


def _smoothed(values: FloatArray) -> FloatArray:
    """Median over neighbours and itself."""
    return np.asarray(np.median(_windows(values), axis=1))


def _windows(values: FloatArray) -> FloatArray:
    """Every order with its neighbours, one row each; shape (n, 2 `ALIKE` + 1)."""
    padded = np.pad(values, ALIKE, mode="reflect" if len(values) > ALIKE else "edge")
    return np.asarray(np.lib.stride_tricks.sliding_window_view(padded, 2 * ALIKE + 1))


def _turns(position: FloatArray) -> list[slice]:
    """Samples of each whole turn, by where the motor was."""
    gone = np.maximum.accumulate(np.abs(position - position[0]))
    whole = int(gone[-1] / (2 * np.pi) + 1e-9)
    edges = np.searchsorted(gone, 2 * np.pi * np.arange(whole + 1))
    return [slice(int(a), int(b)) for a, b in pairwise(edges)]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Harmonics:
    """What current and angle hold of each order, over a turn or a whole way at constant speed."""

    orders: IntArray
    speed: float  # [rad/s] with the sign of its way
    mean: float  # [A]
    current: NDArray[np.complex128]  # [A]
    swing: NDArray[np.complex128]  # [rad] beside the even motion

    @classmethod
    def of(cls, position: FloatArray, current: FloatArray, orders: IntArray, period: float, drifts: int) -> Self:
        """Fit harmonics of the angle and a drift to a recording."""
        time = np.linspace(-1.0, 1.0, len(position))
        even = np.polynomial.legendre.legvander(time, drifts)
        line, *_ = np.linalg.lstsq(even, position, rcond=None)
        swing = position - even @ line
        turned = np.outer(position, orders)  # the torque is one of where the motor stands, not of where it ought to
        basis = np.concatenate([even, np.cos(turned), np.sin(turned)], axis=1)
        both, *_ = np.linalg.lstsq(basis, np.stack([current, swing], axis=1), rcond=None)
        first, n = drifts + 1, len(orders)
        value = both[first : first + n] - 1j * both[first + n :]  # a cos + b sin = Re((a - i b) exp(i k angle))
        speed = float(position[-1] - position[0]) / ((len(position) - 1) * period)
        mean = float(current.mean())
        return cls(orders=orders, speed=speed, mean=mean, current=value[:, 0], swing=value[:, 1])

    def torque(self, torque_constant: float, mechanics: Mechanics) -> NDArray[np.complex128]:
        """Torque of each order that is neither the motor's nor a friction that is constant. [N·m]"""
        response = self._response(mechanics, 1.0)
        return np.asarray(1j * self.orders * self.speed * self.swing / response - torque_constant * self.current)

    def impedance(self, mechanics: Mechanics) -> FloatArray:
        """Torque that a unit of swing takes, by order. [N·m/rad]"""
        return np.asarray(np.abs(self.orders * self.speed / self._response(mechanics, 1.0)))

    def doubt_of_shaft(self, mechanics: Mechanics) -> FloatArray:
        """Torque by which each order is off if what moves resonates a little elsewhere. [N·m]"""
        above, below = (1 / self._response(mechanics, 1 + way * SHAFT_KNOWN) for way in (1, -1))
        return np.asarray(0.5 * np.abs(above - below) * np.abs(self.orders * self.speed * self.swing))

    def doubt_of_sine(self, mechanics: Mechanics) -> FloatArray:
        """Torque of each order's swing, by as much as it is of the speed. [N·m]"""
        swing = np.abs(self.swing)
        return np.asarray(self.impedance(mechanics) * swing * np.minimum(self.orders * swing, 1.0))

    def _response(self, mechanics: Mechanics, scale: float) -> NDArray[np.complex128]:
        response = mechanics(scale * np.abs(self.orders * self.speed) / (2 * np.pi))
        return response if self.speed > 0.0 else np.conj(response)
