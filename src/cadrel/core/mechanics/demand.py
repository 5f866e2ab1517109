"""What a move asks of the motor."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.mechanics.mechanism import Mechanism
from cadrel.core.motion import Profile, sample_profile

FloatArray = NDArray[np.float64]
SAMPLES = 400


@dataclass(frozen=True, slots=True, eq=False)
class MoveDemand:
    """Torque and speed at the motor over a move, and what counts of them."""

    speed: FloatArray  # [rad/s]
    torque: FloatArray  # [N·m]
    torque_peak: float
    torque_rms: float  # over move and dwell
    torque_holding: float  # at standstill after the move
    speed_top: float


def demand_of_move(profile: Profile, mechanism: Mechanism, *, inertia: float, dwell: float) -> MoveDemand:
    """Return what a move, followed by a dwell, asks of the motor.

    Parameters
    ----------
    inertia : float
        Motor and load together, at the motor. [kg·m²]
    dwell : float
        Standstill after the move. [s]

    Notes
    -----
    Torque at the load side (load inertia, gravity, counter-force, friction) is divided by the efficiency while it takes
    power and multiplied while it gives power back; the rotor's own share needs no gear.
    """
    time = np.linspace(0.0, profile.duration, SAMPLES)
    _, speed, acceleration = sample_profile(profile, time)
    own = inertia - mechanism.inertia_reflected
    load = (
        mechanism.inertia_reflected * acceleration
        + mechanism.torque_constant_load
        + mechanism.torque_friction * np.sign(speed)
    )
    driving = load * speed >= 0
    torque = own * acceleration + np.where(driving, load / mechanism.efficiency, load * mechanism.efficiency)
    holding = mechanism.torque_constant_load  # friction may help, and must not be counted on
    rms = np.sqrt((np.mean(torque**2) * profile.duration + holding**2 * dwell) / (profile.duration + dwell))
    return MoveDemand(
        speed=speed,
        torque=torque,
        torque_peak=float(np.abs(torque).max()),
        torque_rms=float(rms),
        torque_holding=float(holding),
        speed_top=float(np.abs(speed).max()),
    )
