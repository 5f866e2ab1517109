"""A vector turned forward and back, and what the shaft and the voltages say to it."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
WINDOW = math.pi / 4  # [rad] of the vector: advance of the shaft is judged in pieces of this
SETTLED = math.pi  # [rad] of the vector before the lag is that of steady turning
EDGE = 40  # [samples] at both ends, where the shaft rests
LEAST_RATIO = 0.05
SLIPPED = math.radians(150)  # electrical: so far from the vector a shaft has slipped
FOLLOWS = 0.5  # share of the usual advance: a window with less, or with as much too much, did not follow


@dataclass(frozen=True, slots=True)
class Following:
    """How a shaft followed a turning vector."""

    ratio: float  # shaft turns by the entered data, over the vector's turns by entered pole pairs; 1 when all is right
    share: float  # of the way it followed at that ratio
    lost_from: float | None  # [rad] of the vector where it stopped following after it had; None if it did not

    @property
    def followed(self) -> bool:
        """Whether it followed nearly everywhere."""
        return self.share > 0.85


def following(vector: FloatArray, shaft_el: FloatArray) -> Following:
    """Return how a shaft followed a vector that turned one way.

    Parameters
    ----------
    vector, shaft_el : ndarray, shape (n,)
        Vector angle, and shaft angle times entered pole pairs, by the entered resolution. [rad]

    Notes
    -----
    A vector slips through a shaft that stands: the shaft trembles, gets nowhere, and is left half a turn behind again
    and again. One that swings about the vector but keeps up is never so far from the straight line between its ends.
    """
    total = float(vector[-1] - vector[0])
    begun, ended = float(shaft_el[:EDGE].mean()), float(shaft_el[-EDGE:].mean())
    ratio = (ended - begun) / total
    if abs(ratio) > LEAST_RATIO:
        behind = np.abs(shaft_el - begun - ratio * (vector - vector[0])) / abs(ratio)
        if float(behind.max()) < SLIPPED:
            return Following(ratio, 1.0, None)
    return _in_part(np.abs(vector - vector[0]), math.copysign(1.0, total) * shaft_el)


def _in_part(travelled: FloatArray, shaft_el: FloatArray) -> Following:
    """How far a shaft followed that did not keep up: advance in windows of the vector."""
    edges = np.arange(SETTLED, travelled[-1] + 1e-9, WINDOW)
    advance = np.diff(np.interp(edges, travelled, shaft_el)) / WINDOW
    moved = advance[np.abs(advance) > 0.08]
    if len(moved) == 0:
        return Following(0.0, 0.0, None)
    ratio = float(np.median(moved))
    if abs(ratio) < LEAST_RATIO:
        return Following(0.0, 0.0, None)
    good = np.abs(advance / ratio - 1) < FOLLOWS
    share = min(float(good.mean()), 0.8)
    lost = float(edges[int(np.argmin(good))]) if share > 0.1 and bool(good[0]) and not good.all() else None
    return Following(ratio if share > 0.3 else 0.0, share, lost)


@dataclass(frozen=True, slots=True)
class VectorLoad:
    """What the voltages of a vector turned both ways say, without friction and without the sheet's flux."""

    bias: float  # [rad] electrical: the rotor stands ahead of the vector by this, both ways, as gravity pulls it
    flux_linkage: float  # [Wb] as far as the rotor's mean lag lets it show


def load_of_vector(
    up: tuple[float, float],
    down: tuple[float, float],
    *,
    omega_el: float,
    inductance: float,
    current: float,
    lag: float,
) -> VectorLoad:
    """Return rotor bias and flux from mean voltages along and across the vector.

    Parameters
    ----------
    up, down : (v_d, v_q)
        Means over whole electrical turns, forward and back, in the frame of the vector. [V]
    omega_el : float
        Speed of the vector, without sign. [rad/s]
    lag : float
        Half the difference of the rotor's lag in the two directions, which friction makes. [rad]

    Notes
    -----
    With the rotor ahead of the vector by d: v_d = R i + D - w psi sin d, v_q = w L i + w psi cos d. Resistive drop and
    dead time D are the same both ways and leave in the difference; with d = g -+ f:
    v_d(+) - v_d(-) = -2 w psi sin g cos f, v_q(+) - v_q(-) = 2 w L i + 2 w psi cos g cos f.
    """
    across = (up[1] - down[1]) / (2 * omega_el) - inductance * current
    along = -(up[0] - down[0]) / (2 * omega_el)
    bias = math.atan2(along, max(across, 1e-9))
    return VectorLoad(bias, math.hypot(along, max(across, 0.0)) / max(math.cos(lag), 0.2))


def play_from_two_currents(
    width_low: float, width_high: float, *, current_low: float, current_high: float, load: float = 0.0
) -> float:
    """Return the part of a reversal's width that does not shrink with current: play of the coupling. [rad]

    `load` is the current that would hold the constant load. [A]

    Notes
    -----
    Width = asin((c + load) / i) + asin((c - load) / i) + play, c friction over torque constant. Two currents give
    both; c by bisection.
    """

    def width(c: float, current: float) -> float:
        return sum(math.asin(min(max((c + side) / current, -1.0), 1.0)) for side in (load, -load))

    def difference(c: float) -> float:
        return width(c, current_low) - width(c, current_high)

    wanted = width_low - width_high
    if wanted <= 0:
        return max(width_high, 0.0)
    low, high = 0.0, max(0.999 * current_low - abs(load), 0.0)
    if difference(high) <= wanted:
        low = high
    for _ in range(60):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if difference(middle) < wanted else (low, middle)
    return width_high - width(low, current_high)
