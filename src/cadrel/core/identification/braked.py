"""A holding brake, seen from the shaft: when it lets go, when it holds, what it holds."""

import math

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated

FloatArray = NDArray[np.float64]
FEWEST = 12  # samples that a start of motion is read from
SEEN_COUNTS = 6.0  # counts of motion from which a sample is used: below, it is quantisation
STOOD = 2.5e-3  # [s] without a count more: the shaft stands
SMOOTHED = 1e-3  # [s] over which speed is taken where the stop is looked for


def onset_of_motion(position: FloatArray, *, period: float, count: float) -> Estimated:
    """Return when a shaft under a constant torque began to move, from the record's first sample on. [s]

    Parameters
    ----------
    position : ndarray, shape (n,)
        From before the motion until some while after it began, the torque constant. [rad]
    period : float
        Of a sample. [s]
    count : float
        One count of the device. [rad]

    Raises
    ------
    UnusableInput
        It did not move, or there is too little of its motion.

    Notes
    -----
    From rest x = a (t - t0)² / 2, so sqrt(x) is a line in time and t0 is where it meets zero. The standard deviation
    is the line's, and half a sample.
    """
    way = position - float(np.median(position[:FEWEST]))
    way = way * math.copysign(1.0, float(way[-1]))
    used = np.nonzero(way > SEEN_COUNTS * count)[0]
    if not len(used) or len(way) - used[0] < FEWEST:
        raise UnusableInput(
            what="The shaft hardly moved while the brake was open.", remedy="Give it more torque, or free the axis."
        )
    t = period * np.arange(used[0], len(way))
    root = np.sqrt(np.maximum(way[used[0] :], 0.0))
    (slope, start), cov = np.polyfit(t, root, 1, cov=True)
    at = -start / slope
    variance = cov[1, 1] + at**2 * cov[0, 0] + 2 * at * cov[0, 1]
    return Estimated(float(at), float(math.hypot(math.sqrt(max(variance, 0.0)) / abs(slope), 0.5 * period)))


def instant_of_stop(position: FloatArray, *, period: float, count: float) -> Estimated:
    """Return when a shaft that was still gaining speed began to be held, from the record's first sample on. [s]

    Parameters
    ----------
    position : ndarray, shape (n,)
        From before it was held until it stands, the torque constant. [rad]
    period, count : float
        Of a sample [s]; one count of the device [rad].

    Raises
    ------
    UnusableInput
        It never came to rest.

    Notes
    -----
    The torque goes on and the brake holds many times as much: speed rises until the brake grips, then falls at once. So
    the fastest moment is the one. The standard deviation is a third of the window that speed is taken over.
    """
    width = max(round(SMOOTHED / period), 2)
    # With few counts in a window its length is what one count of speed allows, not what the clock does.
    fastest = float(np.abs(np.gradient(position, period)).max())
    width = max(width, math.ceil(4 * count / max(fastest * period, 1e-12)))
    if len(position) < 4 * width:
        raise UnusableInput(what="The record of the closing brake is too short.", remedy="Record it again.")
    speed = np.abs(position[width:] - position[:-width]) / (width * period)
    if speed[-1] > 0.2 * speed.max() or speed.max() * width * period < SEEN_COUNTS * count:
        raise UnusableInput(
            what="The shaft did not come to rest after the brake was told to close.",
            remedy="Look at the brake: it may be worn, oily or not connected.",
        )
    at = (int(np.argmax(speed)) + 0.5 * width) * period
    return Estimated(float(at), float(max(width * period / 3, 0.5 * period)))


def torque_held(
    position: FloatArray, torque: FloatArray, *, period: float, count: float, moved: float
) -> tuple[float, bool]:
    """Return the largest torque on a closed brake before the shaft gave way, and whether it did. [N·m]

    Parameters
    ----------
    position, torque : ndarray, shape (n,)
        Of the shaft [rad]; what the brake carries, of either sign. [N·m]
    period, count : float
        Of a sample [s]; one count of the device [rad].
    moved : float
        How far a shaft may give without having slipped: play of the hub. [rad]

    Notes
    -----
    It has slipped once it is farther away than that; it began to where it stood for the last time before.
    """
    away = np.abs(position - position[0]) > moved
    gave = bool(away.any())
    until = int(np.argmax(away)) if gave else len(position)
    if gave:
        look = max(round(STOOD / period), 1)
        before = position[:until]
        stood = np.abs(before[look:] - before[:-look]) <= 1.5 * count
        until = int(np.nonzero(stood)[0][-1]) + look if stood.any() else 1
    return float(np.abs(torque[: max(until, 1)]).max()), gave
