"""The two current sensors: what they show without current, and the second against the first."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated
from cadrel.core.identification.inverter import DeadTime

FloatArray = NDArray[np.float64]
DOUBTED = 0.2  # of what dead time takes across the vector: no bend that is given back is an inverter's own
PASSES = 4  # each takes nine tenths or more of the last one's error
PHASES_ALIKE = 1e-3  # of a winding's resistances; common practice. What they differ by is read as a sensor's gain
LEAST_ACROSS = 0.1  # of R times the gain error: where less of it shows across the vector, noise would be read


def sensor_offsets(i_d: FloatArray, i_q: FloatArray, angle: FloatArray, *, order: int) -> tuple[Estimated, Estimated]:
    """Return what the sensors of phases a and b show while no current flows. [A]

    Parameters
    ----------
    i_d, i_q, angle : ndarray, shape (n,)
        As recorded with the power stage off, and the electrical angle they were turned by. [A], [rad]
    order : int
        -1 where the drive exchanges two phases, 1 where not.

    Notes
    -----
    i_a = alpha, i_b = (order sqrt(3) beta - alpha) / 2: the drive's own transformation undone. The std is that of the
    means.
    """
    alpha = i_d * np.cos(angle) - i_q * np.sin(angle)
    beta = i_d * np.sin(angle) + i_q * np.cos(angle)
    root = math.sqrt(len(alpha))
    a, b = alpha, 0.5 * (order * math.sqrt(3) * beta - alpha)
    return tuple(Estimated(float(x.mean()), float(x.std()) / root) for x in (a, b))  # type: ignore[return-value]


@dataclass(frozen=True, slots=True, kw_only=True)
class SensorGain:
    """The second current sensor against the first, and what that changes of a resistance read with it."""

    ratio: Estimated  # [1] what it shows over what the first would
    resistance: float  # [1] true resistance over the slope of the voltage along the vector


def fit_sensor_gain(
    current: FloatArray,
    across: FloatArray,
    *,
    angle: float,
    order: int,
    resistance: float,
    dead_time: DeadTime | None = None,
) -> SensorGain | None:
    """Return the gain of phase b's current sensor over phase a's, from a vector held at levels of current.

    Parameters
    ----------
    current, across : ndarray, shape (n,)
        Means at each level: the current along the vector, and the voltage a quarter turn ahead of it. [A], [V]
    angle : float
        At which the vector was held, from phase a. [rad]
    order : int
        -1 where the drive exchanges two phases, 1 where not.
    resistance : float
        Slope of the voltage along the vector. [ohm]
    dead_time : DeadTime, optional
        What the inverter loses; across the vector it loses something, too.

    Returns
    -------
    SensorGain or None
        None at angles where the error hardly shows: at a quarter turn of phase a, and where phase b has no current.

    Raises
    ------
    UnusableInput
        Fewer than four levels, or all alike.

    Notes
    -----
    i_b true = i_b / G, alpha = i_a, beta = (i_a + 2 i_b) / sqrt(3). With h = 1 - 1/G and k = sin(angle) -
    order cos(angle) / sqrt(3), the current that flows has -h k i more of beta than the drive sees, so that
    v_d = R i (1 - h k sin), v_q = -R i h k cos: the ratio of both slopes tells h whatever R is. A constant voltage
    across does not matter, only its slope; what of that is dead time's is taken off, and doubted. Phases of unequal
    resistance look the same, which the std allows for; a gain that both sensors share does not show.
    """
    if len(current) < 4 or np.ptp(current) < 1e-6:
        raise UnusableInput(what="The current levels do not differ.", remedy="Use four or more levels.")
    k = math.sin(angle) - order * math.cos(angle) / math.sqrt(3)
    if abs(k * math.cos(angle)) < LEAST_ACROSS or resistance <= 0:
        return None
    spread = current - current.mean()

    def slope_of(y: FloatArray) -> float:
        return float(spread @ y / (spread @ spread))

    cosine, sine = math.cos(angle), math.sin(angle)
    h, taken = 0.0, 0.0
    for _ in range(PASSES):  # dead time takes it of the current that flows, which is known once h is
        if dead_time is not None:
            flowing = current * (np.exp(1j * angle) - 1j * h * k)
            taken = slope_of((dead_time.lost_of(flowing) * np.exp(-1j * angle)).imag)
        ratio = (slope_of(across) - taken) / resistance
        h = ratio / (k * (ratio * sine - cosine))
    rest = across - across.mean() - slope_of(across) * spread
    std = math.sqrt(float(rest @ rest) / (len(current) - 2) / float(spread @ spread))
    doubt = math.hypot(math.hypot(std, DOUBTED * taken) / resistance / abs(k * cosine), PHASES_ALIKE)
    return SensorGain(ratio=Estimated(1 / (1 - h), doubt), resistance=1 / (1 - h * k * sine))
