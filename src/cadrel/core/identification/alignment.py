"""Vectors held or turned, and the shaft's answer -> direction, pole pairs, offset, Hall map."""

import math
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]
NORMAL = (1, 3, 2, 6, 4, 5)
MIRRORED = (1, 5, 4, 6, 2, 3)


def electrical_turns(vector_angle: FloatArray, shaft_angle: FloatArray) -> float:
    """Return electrical turns per mechanical turn with its sign, by least squares over a turning vector.

    Parameters
    ----------
    vector_angle, shaft_angle : ndarray, shape (n,)
        Commanded electrical and measured mechanical angle. [rad]

    Raises
    ------
    UnusableInput
        The shaft did not move.
    """
    v, s = vector_angle - vector_angle.mean(), shaft_angle - shaft_angle.mean()
    moved = float(s @ s)
    if moved < 1e-9 * len(s):
        raise UnusableInput(what="The shaft did not move.", remedy="Raise the phasing current, or free the shaft.")
    return float(v @ s) / moved


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
class HallMap:
    """What a slow turn showed of the Hall signals."""

    mirrored: bool
    offset: float  # [rad] electrical angle entering state 1, forward
    edge_errors: tuple[float, ...]  # [rad] of each of the six edges against the even grid
    faults: tuple[str, ...]  # in plain words; empty when all is well


def learn_halls(
    angle_up: FloatArray, hall_up: NDArray[np.int64], angle_down: FloatArray, hall_down: NDArray[np.int64]
) -> HallMap:
    """Return sequence, offset and edge placement from records of a forward and a backward turn.

    Parameters
    ----------
    angle_up, angle_down : ndarray, shape (n,)
        Electrical angle of the rotor, with the offset applied. [rad]
    hall_up, hall_down : ndarray of int, shape (n,)
        Hall codes.
    """
    seen = sorted({int(h) for h in np.concatenate([hall_up, hall_down])})
    faults = _state_faults(seen)
    order = _sequence(hall_up)
    mirrored = _matches(order, MIRRORED) and not _matches(order, NORMAL)
    if not faults and not (_matches(order, NORMAL) or _matches(order, MIRRORED)):
        faults.append(
            f"The sequence {'-'.join(map(str, order[:8]))} is not that of three signals 120° apart; "
            "two of them may be inverted."
        )
    if faults:
        return HallMap(mirrored, 0.0, (0.0,) * 6, tuple(faults))
    ring = MIRRORED if mirrored else NORMAL
    edges = []
    for k in range(6):
        before, after = ring[k - 1], ring[k]
        found = np.concatenate(
            [_edge_angles(angle_up, hall_up, before, after), _edge_angles(angle_down, hall_down, after, before)]
        )
        if not found.size:
            return HallMap(mirrored, 0.0, (0.0,) * 6, (f"No edge into state {after} was seen; turn further.",))
        edges.append(complex(np.exp(1j * (found - k * math.pi / 3)).mean()))
    mean = sum(edges)
    offset = math.atan2(mean.imag, mean.real)
    errors = tuple(float(np.angle(e * np.exp(-1j * offset))) for e in edges)
    return HallMap(mirrored, offset, errors, ())


def _state_faults(seen: list[int]) -> list[str]:
    faults = []
    if 0 in seen or 7 in seen:
        faults.append("The Hall signals show 0 or 7, which no position has: a wire or their supply is off.")
    missing = [h for h in NORMAL if h not in seen]
    if missing and not faults:
        faults.append(f"The Hall states {missing} never came: one signal does not change.")
    return faults


def _sequence(hall: NDArray[np.int64]) -> list[int]:
    keep = np.concatenate([[True], np.diff(hall) != 0])
    return [int(h) for h in hall[keep]]


def _matches(order: list[int], ring: tuple[int, ...]) -> bool:
    """Whether most transitions follow the ring; a few backward steps of a trembling shaft do no harm."""
    steps = list(pairwise(order))
    good = sum(1 for a, b in steps if a in ring and b == ring[(ring.index(a) + 1) % 6])
    return len(steps) >= 5 and good >= 0.8 * len(steps)


def _edge_angles(angle: FloatArray, hall: NDArray[np.int64], before: int, after: int) -> FloatArray:
    at = np.nonzero((hall[:-1] == before) & (hall[1:] == after))[0]
    return 0.5 * (angle[at] + angle[at + 1])
