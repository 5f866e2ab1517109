"""Torque over speed at a bus voltage: what current and voltage leave."""

import numpy as np
from numpy.typing import NDArray

from cadrel.core.motor.winding import Motor

FloatArray = NDArray[np.float64]


def torque_speed_envelope(motor: Motor, speed: FloatArray, *, current: float, bus_voltage: float) -> FloatArray:
    """Return the largest torque at each speed, without field weakening (i_d = 0) but of an induction motor.

    Parameters
    ----------
    speed : ndarray, shape (n,)
        Mechanical speed, not negative. [rad/s]
    current : float
        Current limit. [A peak]
    bus_voltage : float
        DC bus; the phase voltage reaches what `Motor.voltage_reach` says. [V]

    Returns
    -------
    ndarray, shape (n,)
        Torque, zero where the back-EMF alone exceeds the voltage. [N·m]

    Notes
    -----
    With i_d = 0 the phase voltage is |(R i + w psi) + j w L i|, w the electrical speed: a quadratic in i. An induction
    motor keeps its torque to the speed where rated flux takes the voltage, its power above, and falls with the square
    of speed where its breakdown torque does (A. E. Fitzgerald et al., Electric Machinery; from memory).
    """
    if motor.base_speed is not None:
        return _induction(motor, speed, current, bus_voltage)
    omega = motor.pole_pairs * speed
    a = motor.resistance**2 + motor.reactance_share * (omega * motor.inductance) ** 2
    b = 2 * motor.resistance * omega * motor.flux_linkage
    c = (omega * motor.flux_linkage) ** 2 - motor.voltage_reach(bus_voltage) ** 2
    root = np.sqrt(np.maximum(b * b - 4 * a * c, 0.0))
    reachable = np.where(c < 0, (root - b) / (2 * a), 0.0)
    return motor.torque_constant * np.clip(reachable, 0.0, current)


def _induction(motor: Motor, speed: FloatArray, current: float, bus_voltage: float) -> FloatArray:
    active = float(np.sqrt(max(current**2 - motor.magnetising_current**2, 0.0)))
    corner = min(motor.base_speed or np.inf, motor.no_load_speed(bus_voltage))
    weakening = corner / np.maximum(speed, corner)
    rated = motor.torque_constant * np.sqrt(max(motor.current_continuous**2 - motor.magnetising_current**2, 0.0))
    held = np.minimum(motor.torque_constant * active * weakening, motor.breakdown_ratio * rated * weakening**2)
    return np.asarray(np.where(speed <= motor.speed_max, held, 0.0))
