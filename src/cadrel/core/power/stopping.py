"""The bus while an axis stops, stepped in time: which way the energy of a stop goes."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
BusCase = Literal["nothing", "capacitors", "resistor", "stretched", "fault", "coasted"]
REACTIONS: tuple[BusCase, ...] = ("stretched", "fault", "coasted")  # by the value of power.braking_reaction
# Between the chopper's threshold and the voltage that trips: from here a ramp is stretched, and there it stands still.
LIMITED_FROM, LIMITED_TO = 0.3, 0.8
ROSE = 0.01  # of the bus: less is no energy that came back
HYSTERESIS = 0.026  # of its threshold, at which a chopper switches off again; common practice
SEEN = 2  # samples of a chopper or of a limit that make a case: one may be the bus's own noise


@dataclass(frozen=True, slots=True, kw_only=True)
class StopOnBus:
    """What a stop does to the bus."""

    case: BusCase
    energy: float  # [J] into the resistor
    peak: float  # [V]


def stop_on_bus(
    power: FloatArray, *, period: float, bus: float, nominal: float, capacitance: float, threshold: float,
    trips_at: float, resistor: float, reaction: int, burns: bool = False,
) -> StopOnBus:  # fmt: skip
    """Return where the energy of a stop goes.

    Parameters
    ----------
    power : ndarray, shape (n,)
        Taken by the motor from the bus; below 0 it gives back. [W]
    period : float
        Between two samples. [s]
    bus, nominal : float
        As it stands when the stop is commanded, and as the rectifier keeps it at least. [V]
    capacitance, threshold, trips_at : float
        Of the bus; its chopper's threshold; where the drive trips. [F], [V], [V]
    resistor : float
        Fitted; 0 for none. [ohm]
    reaction : int
        What the drive does where the bus rises too high, as `power.braking_reaction`.
    burns : bool
        Whether the chopper is on when the stop is commanded.

    Notes
    -----
    C v dv/dt = -P - v² / R while the chopper is on; from the nominal voltage on the rectifier gives what is asked. A
    stretched ramp is not followed further: the case is told from where it begins.
    """
    acts = threshold if resistor or trips_at <= threshold else threshold + LIMITED_FROM * (trips_at - threshold)
    limits = threshold + LIMITED_FROM * (trips_at - threshold)
    v, burnt, peak, highest, on, used = bus, 0.0, bus, bus, burns and resistor > 0, 0
    floor = min(bus, nominal)
    for p in power:
        if resistor:
            on = v > threshold or (on and v > (1 - HYSTERESIS) * threshold)
        burn = v * v / resistor if on else 0.0
        used += on
        burnt += burn * period
        v = max(floor, v - period * (p + burn) / (capacitance * v))
        peak = max(peak, v)
        highest = peak
        if v > trips_at:
            break
    case: BusCase
    if REACTIONS[reaction] == "stretched" and highest > max(acts, limits) and trips_at > threshold:
        case = "stretched"
    elif highest > trips_at:
        case = REACTIONS[reaction]
    elif used >= SEEN:
        case = "resistor"
    else:
        case = "capacitors" if peak > (1 + ROSE) * bus else "nothing"
    return StopOnBus(case=case, energy=burnt, peak=peak)


def seen_case(*, bus: FloatArray, chopper: FloatArray, limited: FloatArray, ended: BusCase | None = None) -> BusCase:
    """Return which case a stop was, from what the drive recorded of it.

    Parameters
    ----------
    bus, chopper, limited : ndarray, shape (n,)
        Voltage, whether the chopper was on, whether the bus held the ramp back; from the stop's command on. [V]
    ended : BusCase or None
        What ended it before it stood, where something did.
    """
    if ended is not None:
        return ended
    if np.count_nonzero(limited) >= SEEN:
        return "stretched"
    if np.count_nonzero(chopper) >= SEEN:
        return "resistor"
    return "capacitors" if float(bus.max()) > (1 + ROSE) * float(bus[0]) else "nothing"
