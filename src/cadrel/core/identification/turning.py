"""A vector turned forward and back, and what the shaft and the voltages say to it."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
SETTLED = math.pi  # [rad] of the vector before the lag is that of steady turning
EDGE = 40  # [samples] at both ends, where the shaft rests
LEAST_RATIO = 0.05
STOPPED = 0.65  # of the slope before
FALLEN = math.radians(60)  # electrical, behind where it would be
GRID = 20_000  # points of friction, and of lag
SALIENCIES = 26  # between none and the most, that are tried
INDUCTANCE_DOUBT, FLUX_DOUBT = 0.2, 0.1  # of the sheet's: a tenth by the sheet itself, and iron that saturates
SLIPPED = math.radians(150)  # electrical: so far from the vector a shaft has slipped


@dataclass(frozen=True, slots=True)
class Following:
    """How a shaft followed a turning vector."""

    ratio: float  # shaft turns by the entered data, over the vector's turns by entered pole pairs; 1 when all is right
    followed: bool


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
    if abs(ratio) < LEAST_RATIO:
        return Following(ratio, False)
    behind = np.abs(shaft_el - begun - ratio * (vector - vector[0])) / abs(ratio)
    return Following(ratio, bool(behind.max() < SLIPPED) and not _was_stopped(vector, shaft_el))


def _was_stopped(vector: FloatArray, shaft_el: FloatArray) -> bool:
    """Whether the shaft kept up in the first half of the way and fell behind in the second, as against a stop."""
    way = np.abs(vector - vector[0]) / abs(vector[-1] - vector[0])
    at = [int(np.searchsorted(way, share)) for share in (0.15, 0.55, 0.95)]
    first, second = np.diff(shaft_el[at]) / np.diff(vector[at])
    fallen = abs((first - second) * (vector[at[2]] - vector[at[1]]))
    return bool(first * second < STOPPED * first**2 and fallen > FALLEN)


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
    flux: float | None = None,
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
    flux : float, optional
        Linkage by the sheet, which the bias rests on as far as the voltages tell less. [Wb]

    Notes
    -----
    With the rotor ahead of the vector by d: v_d = R i + D - w psi sin d, v_q = w L i + w psi cos d. Resistive drop and
    dead time D are the same both ways and leave in the difference; with d = g -+ f:
    v_d(+) - v_d(-) = -2 w psi sin g cos f, v_q(+) - v_q(-) = 2 w L i + 2 w psi cos g cos f.
    """
    across = (up[1] - down[1]) / (2 * omega_el) - inductance * current
    along = -(up[0] - down[0]) / (2 * omega_el)
    aligned = across
    if flux is not None:
        # Of a motor with much inductance the current's own flux is the most of it, and that is known by the sheet.
        expected = math.sqrt(max((flux * math.cos(lag)) ** 2 - along**2, 0.0))
        by_volts, by_sheet = (INDUCTANCE_DOUBT * inductance * current) ** -2, (FLUX_DOUBT * flux) ** -2
        aligned = (by_volts * across + by_sheet * expected) / (by_volts + by_sheet)
    bias = math.atan2(along, max(aligned, 1e-9))
    return VectorLoad(bias, math.hypot(along, max(across, 0.0)) / max(math.cos(lag), 0.2))


def play_from_two_currents(
    width_low: float,
    width_high: float,
    *,
    current_low: float,
    current_high: float,
    load: float = 0.0,
    saliency: float = 0.0,
) -> float:
    """Return the part of a reversal's width that does not shrink with current: play of the coupling. [rad]

    `load` is the current that would hold the constant load [A]; `saliency` how much more inductance the rotor shows
    across its flux than along it, over that flux [1/A].

    Notes
    -----
    Width = lag(c + load) + lag(c - load) + play, c friction over torque constant; two currents give both. A round rotor
    lags by asin(c / i). A salient one is turned by its reluctance the other way, which a stronger vector makes more of:
    c = i sin(lag) (1 - saliency i cos(lag)), from the torque of a synchronous machine,
    3/2 p (psi i_q + (L_d - L_q) i_d i_q).
    """
    friction = np.linspace(0.0, max(0.999 * current_low - abs(load), 0.0), GRID)
    low, high = (_friction_width(friction, current, load, saliency) for current in (current_low, current_high))
    at = int(np.argmin(np.abs(low - high - (width_low - width_high))))
    return float(max(width_high - high[at], 0.0))


def play_from_three_currents(widths: Sequence[tuple[float, float]], *, load: float, salient: float) -> float:
    """Return the play of a coupling where the rotor may be salient, by up to `salient`. [rad]

    `widths` are current [A] and width of a reversal [rad], the current rising. Friction, saliency and play that fit
    all of them best, by trying all: at the lowest current friction lags most and reluctance least.
    """
    friction = np.linspace(0.0, max(0.999 * widths[0][0] - abs(load), 0.0), GRID)
    best, play = math.inf, 0.0
    for saliency in np.linspace(0.0, salient, SALIENCIES).tolist():
        left = np.array([seen - _friction_width(friction, current, load, saliency) for current, seen in widths])
        plays = np.maximum(left.mean(0), 0.0)
        off = ((left - plays) ** 2).sum(0)
        at = int(np.argmin(off))
        if off[at] < best:
            best, play = float(off[at]), float(plays[at])
    return play


def _friction_width(friction: FloatArray, current: float, load: float, saliency: float) -> FloatArray:
    """Width of a reversal that friction alone makes. [rad]"""
    lags = np.linspace(0.0, 0.5 * math.pi, GRID)
    borne = np.maximum.accumulate(current * np.sin(lags) * (1 - saliency * current * np.cos(lags)))
    sides = [friction + load, friction - load]
    return np.asarray(sum(np.sign(side) * np.interp(np.abs(side), borne, lags) for side in sides))
