"""A vector turned forward and back, and what the shaft and the voltages say to it."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
WINDOW = math.pi / 4  # [rad] of the vector: advance of the shaft is judged in pieces of this
SETTLED = math.pi  # [rad] of the vector before the lag is that of steady turning
FOLLOWS = 0.5  # share of the usual advance: a window with less, or with as much too much, did not follow


@dataclass(frozen=True, slots=True)
class Following:
    """How a shaft followed a turning vector."""

    ratio: float  # shaft turns by the entered data, over the vector's turns by entered pole pairs; 1 when all is right
    share: float  # of the windows that followed at that ratio
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
    The vector slips through a shaft that stands: it trembles and gets nowhere. So the advance is judged in windows,
    not from end to end; the ratio is the median of those that advanced at all.
    """
    travelled = np.abs(vector - vector[0])
    way = math.copysign(1.0, vector[-1] - vector[0])
    edges = np.arange(SETTLED, travelled[-1] + 1e-9, WINDOW)
    at = np.interp(edges, travelled, way * shaft_el)
    advance = np.diff(at) / WINDOW
    moved = advance[np.abs(advance) > 0.08]
    if len(moved) == 0:
        return Following(0.0, 0.0, None)
    ratio = float(np.median(moved))
    good = np.abs(advance / ratio - 1) < FOLLOWS
    share = float(good.mean())
    lost = None
    if 0.1 < share < 0.85 and bool(good[:1].all()):
        lost = float(edges[int(np.argmin(good))])
    return Following(ratio if share > 0.3 else 0.0, share, lost)


@dataclass(frozen=True, slots=True)
class VectorLoad:
    """What the voltages of a vector turned both ways say, without friction and without the sheet's flux."""

    bias: float  # [rad] electrical: the rotor stands ahead of the vector by this, both ways, as gravity pulls it
    flux_linkage: float  # [Wb] as far as the rotor's mean lag lets it show


def load_of_vector(
    up: tuple[float, float], down: tuple[float, float], *, omega_el: float, inductance: float, current: float, lag: float
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


def play_from_two_currents(width_low: float, width_high: float, *, current_low: float, current_high: float) -> float:
    """Return the part of a reversal's width that does not shrink with current: play of the coupling. [rad]

    Notes
    -----
    Width = 2 asin(c / i) + play, c friction over torque constant. Two currents give both; c by bisection.
    """

    def difference(c: float) -> float:
        return 2 * (math.asin(min(c / current_low, 1.0)) - math.asin(min(c / current_high, 1.0)))

    wanted = width_low - width_high
    if wanted <= 0:
        return max(width_high, 0.0)
    low, high = 0.0, 0.999 * current_low
    if difference(high) <= wanted:
        low = high
    for _ in range(60):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if difference(middle) < wanted else (low, middle)
    return width_high - 2 * math.asin(min(low / current_high, 1.0))
