"""Torque over speed at a bus voltage: what current and voltage leave."""

import numpy as np
from numpy.typing import NDArray

from cadrel.core.motor.winding import Motor

FloatArray = NDArray[np.float64]


def torque_speed_envelope(motor: Motor, speed: FloatArray, *, current: float, bus_voltage: float) -> FloatArray:
    """Return the largest torque at each speed, without field weakening (i_d = 0).

    Parameters
    ----------
    speed : ndarray, shape (n,)
        Mechanical speed, not negative. [rad/s]
    current : float
        Current limit. [A peak]
    bus_voltage : float
        DC bus; the phase voltage reaches bus / sqrt(3). [V]

    Returns
    -------
    ndarray, shape (n,)
        Torque, zero where the back-EMF alone exceeds the voltage. [N·m]

    Notes
    -----
    With i_d = 0 the phase voltage is |(R i + w psi) + j w L i|, w the electrical speed: a quadratic in i.
    """
    omega = motor.pole_pairs * speed
    a = motor.resistance**2 + (omega * motor.inductance) ** 2
    b = 2 * motor.resistance * omega * motor.flux_linkage
    c = (omega * motor.flux_linkage) ** 2 - bus_voltage**2 / 3
    root = np.sqrt(np.maximum(b * b - 4 * a * c, 0.0))
    reachable = np.where(c < 0, (root - b) / (2 * a), 0.0)
    return motor.torque_constant * np.clip(reachable, 0.0, current)
