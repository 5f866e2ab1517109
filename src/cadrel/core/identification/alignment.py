"""Vectors held, and the shaft's answer -> offset; breakaway currents -> rotor angle almost without motion."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from cadrel.core.errors import UnusableInput
from cadrel.core.parameters import field_of

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
    load_share: float  # constant torque over breakaway torque
    current: float  # [A] that just moves the shaft when the vector stands square to the rotor


@dataclass(frozen=True, slots=True)
class SlipResult:
    """Rotor angle from the slips of the shaft to both sides of it."""

    angle: float  # [rad] electrical
    std: float  # [rad]
    breakaway: float  # [A] that just moves the shaft without load, square to the rotor
    load: float  # [A] that holds the load, square to the rotor


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
            what="The shaft moved for too few of the nudges.",
            remedy=f"Raise {field_of('phasing.current')}, or free the shaft.",
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
    return SearchResult(math.atan2(c, s), std, load, 1.0 / size)


def angle_from_slips(
    ahead: FloatArray, behind: FloatArray, current: FloatArray, *, load_share: float, stirred: float
) -> SlipResult:
    """Return the rotor angle from where a strong vector, turned away slowly to both sides, drags the shaft along.

    Parameters
    ----------
    ahead, behind : ndarray, shape (n,)
        Vector angle at which the shaft had moved by `stirred`, turned forward and back. [rad]
    current : ndarray, shape (n,)
        The vector's current at each. [A]
    load_share : float
        Constant torque over breakaway torque; used where all currents are one, else it follows from them.
    stirred : float
        Motion of the shaft by which a slip was seen. [rad]

    Notes
    -----
    The shaft slips at Kt i sin(ahead - rotor) = T_b - L and Kt i sin(behind - rotor) = -T_b - L, T_b the breakaway
    torque, L the load. Without load the rotor stands half-way. A load moves the middle, by the more the less the
    current: from two currents all three unknowns follow.
    """
    known = bool(np.ptp(current) < 0.1 * float(np.mean(current)))
    a, b = ahead - stirred, behind + stirred

    def slips(x: FloatArray) -> FloatArray:
        rotor, square, load = x[0], x[1], x[1] * load_share if known else x[2]
        up = np.arcsin(np.clip((square - load) / current, -1.0, 1.0))
        down = np.arcsin(np.clip((-square - load) / current, -1.0, 1.0))
        return np.concatenate([rotor + up - a, rotor + down - b])

    half = float(np.mean(a - b)) / 2
    square = float(np.mean(current)) * math.sin(min(max(half, 0.0), math.pi / 2))
    first = np.array([float(np.mean(a + b)) / 2, square, square * load_share])[: 2 if known else 3]
    scale = np.array([1.0, float(np.mean(current)), float(np.mean(current))])[: len(first)]
    found = least_squares(slips, first, x_scale=scale)
    free = max(2 * len(a) - len(first), 1)
    cov = np.linalg.pinv(found.jac.T @ found.jac) * float(found.fun @ found.fun) / free
    load = float(found.x[1] * load_share if known else found.x[2])
    return SlipResult(float(found.x[0]), math.sqrt(float(cov[0, 0])), float(found.x[1]), load)
