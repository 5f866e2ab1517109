"""Vectors held, and the shaft's answer -> offset; breakaway currents -> rotor angle almost without motion."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class OffsetResult:
    """Electrical angle at count zero, and how well it is known."""

    offset: float  # [rad] -pi...pi
    spread: float  # [rad] standard deviation over held angles, after friction cancelled
    friction_lag: float  # [rad] electrical, half the difference of the two directions
    followed: float  # turned angle of the shaft over that of the vector


def offset_from_alignment(
    vector_up: FloatArray, shaft_up: FloatArray, vector_down: FloatArray, shaft_down: FloatArray, *, pole_pairs: int
) -> OffsetResult:
    """Return the offset from held vectors approached from both directions, so that friction cancels.

    Parameters
    ----------
    vector_up, vector_down : ndarray, shape (n,)
        The same electrical angles, approached turning forwards and backwards. [rad]
    shaft_up, shaft_down : ndarray, shape (n,)
        Measured mechanical angle at each, counted so that forward is positive. [rad]

    Notes
    -----
    Held by a d-axis current the rotor rests where torque equals friction: it lags the vector by the same angle in
    both directions, and the mean of the two is the vector itself.
    """
    up = vector_up - pole_pairs * shaft_up
    down = vector_down - pole_pairs * shaft_down
    both = np.exp(1j * np.concatenate([up, down]))
    mean = complex(both.mean())
    offset = math.atan2(mean.imag, mean.real)
    each_up = np.angle(np.exp(1j * (up - offset)))
    each_down = np.angle(np.exp(1j * (down - offset)))
    pairs = 0.5 * (each_up + each_down)
    followed = pole_pairs * (shaft_up.max() - shaft_up.min()) / max(vector_up.max() - vector_up.min(), 1e-9)
    return OffsetResult(offset, float(np.std(pairs, ddof=1)), float(np.mean(each_up - each_down) / 2), float(followed))


@dataclass(frozen=True, slots=True)
class SearchResult:
    """Rotor angle from nudges."""

    angle: float  # [rad] electrical, at the shaft position that counts as zero
    std: float  # [rad]
    load_share: float  # constant torque over the torque constant times the mean breakaway current


def angle_from_breakaway(
    vector: FloatArray, shaft_el: FloatArray, current: FloatArray, way: FloatArray
) -> SearchResult:
    """Return the rotor angle from the currents at which vectors just began to move the shaft.

    Parameters
    ----------
    vector : ndarray, shape (n,)
        Angles of the vectors. [rad]
    shaft_el : ndarray, shape (n,)
        Electrical angle of the shaft before each nudge, from where the search began. [rad]
    current : ndarray, shape (n,)
        Current at which it began to move. [A]
    way : ndarray, shape (n,)
        +1 or -1: which way it moved.

    Raises
    ------
    UnusableInput
        Fewer than four nudges moved it, or all one way.

    Notes
    -----
    It begins to move when Kt i sin(vector - rotor) + load = way T_b, T_b the breakaway torque. Divided by T_b this is
    linear in Kt cos(rotor) / T_b, Kt sin(rotor) / T_b and load / T_b: gravity and friction drop out of the angle.
    """
    if len(vector) < 4 or np.ptp(way) == 0:
        raise UnusableInput(
            what="The shaft moved for too few of the nudges.", remedy="Allow more current, or free the shaft."
        )
    v = vector - shaft_el
    # way = i (s sin v - c cos v) + l, with s = Kt cos(rotor) / T_b, c = Kt sin(rotor) / T_b, l = load / T_b.
    design = np.stack([current * np.sin(v), -current * np.cos(v), np.ones_like(v)], axis=1)
    solution = np.linalg.lstsq(design, way, rcond=None)[0]
    rest = way - design @ solution
    s, c, load = (float(x) for x in solution)
    sigma = math.sqrt(float(rest @ rest) / max(len(v) - 3, 1))
    cov = sigma**2 * np.linalg.pinv(design.T @ design)
    size = math.hypot(s, c)
    turn = np.array([-c, s]) / size**2
    std = math.sqrt(max(float(turn @ cov[:2, :2] @ turn), 0.0))
    return SearchResult(math.atan2(c, s), std, load)
