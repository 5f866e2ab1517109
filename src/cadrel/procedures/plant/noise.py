"""What a device's noise does while the axis moves: how much of it there is, and how much of it the voltage follows.

A counter that stands tells nothing and has no noise; in motion its edges come at moments that no speed explains. What
the loop makes of that the current has to follow, and where that takes more voltage than the bus has the loop is weaker
and later than any linear plant tells.
"""

import math

import numpy as np

from cadrel.core.control import Gains, feedback_filter
from cadrel.link import Recording
from cadrel.procedures.plant.excitation import PERIOD, PERIODS
from cadrel.procedures.session import Session

FROM = 0.5  # of half the rate: what scatters above is the device's, no axis answers its noise there
# Of the voltage that is left, rms. A Gaussian signal passes a limit at twice its rms with 0.95 of its gain (A. Gelb,
# W. Vander Velde, Multiple-Input Describing Functions, 1968, from memory).
FOLLOWED = 0.5
LEFT = 0.5  # of the bus's voltage, that is left beside the back-EMF at the least: near the highest speed for a moment


def noise_in_motion(record: Recording, gains: Gains) -> float:
    """Return the noise of the raw speed in a record of `measure_plant`, rms, as of positions with white noise. [rad/s]

    It is what differs between two periods of one pass, high enough that no motion does.
    """
    first, second = np.moveaxis(record["velocity"].reshape(-1, PERIODS, PERIOD)[:, :2], 1, 0)
    scattered = np.abs(np.fft.rfft(second - first, axis=1)) ** 2 / (2 * PERIOD)  # twice one's own
    line = np.arange(scattered.shape[1])
    turned = 2 * math.pi * line / PERIOD
    used = (turned > FROM * math.pi) & (turned < math.pi)
    passed = np.abs(feedback_filter(gains, line[used] / (PERIOD * gains.rates.velocity))) ** 2
    differenced = 1 - np.cos(turned[used])  # power of white positions' differences, of their mean
    return float(np.sqrt(np.mean(scattered[:, used] / (passed * differenced))))


def most_change(session: Session) -> float:
    """Return by how much torque may change from one sample to the next, rms, that the voltage still follows. [N·m]

    The current regulator answers a step of its command by its gain, at once; beside what turns the motor at the speed
    of the planned move.
    """
    motor, v = session.axis.motor, session.values
    volts = session.axis.bus_voltage / math.sqrt(3)
    turning = motor.flux_linkage * motor.pole_pairs * session.axis.goal.velocity
    left = max(volts - turning, LEFT * volts)
    return float(motor.torque_constant * FOLLOWED * left / v["current.gain"])
