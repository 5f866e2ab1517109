"""What comes back while an axis decelerates, and the resistor that takes it."""

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class BrakingDemand:
    """Energy of one deceleration and what a resistor must stand."""

    kinetic: float  # [J] of motor and load
    potential: float  # [J] given back by a load that sinks meanwhile; negative if it rises
    friction: float  # [J]
    copper: float  # [J]
    capacitors: float  # [J] taken between nominal bus and threshold
    back: float  # [J] that comes back to the bus
    to_resistor: float  # [J] per deceleration
    power_continuous: float  # [W]
    power_peak: float  # [W] at the threshold with the fitted resistor; 0 without one
    resistance_largest: float  # [ohm] that still takes the peak braking power


def braking_demand(
    *,
    inertia: float,
    speed: float,
    deceleration: float,
    friction: float,
    load: float,
    torque_constant: float,
    resistance_loss: float,
    capacitance: float,
    bus: float,
    threshold: float,
    resistor: float,
    stops: float,
    cycle: float,
) -> BrakingDemand:
    """Return the energy of one deceleration from `speed`, and the resistor's load over a cycle.

    Parameters
    ----------
    inertia, speed, deceleration : float
        Motor and load at the motor. [kg·m²], [rad/s], [rad/s²]
    friction : float
        Torque of friction, at the motor. [N·m]
    load : float
        Constant torque against forward motion, gravity included; a sinking load has `speed` < 0. [N·m]
    torque_constant, resistance_loss : float
        N·m per A peak, and watts per A² peak (3/2 R with three phases).
    capacitance, bus, threshold : float
        Of the bus; its nominal and its chopper voltage. [F], [V]
    resistor : float
        Fitted; 0 for none. [ohm]
    stops, cycle : float
        Decelerations in a cycle, and its length. [s]

    Notes
    -----
    E = J w²/2 - friction - copper - C (U_ch² - U²)/2; continuous watts = n E / t_cycle, peak watts = U_ch² / R: kinetic
    energy sizing as every maker's handbook has it (common practice), with copper loss counted only while power comes
    back: P(t) = M w(t) - P_cu falls in a line from P0 to below nothing, and its positive part is P0² / (2 M a). A
    constant deceleration is assumed.
    """
    time = abs(speed) / deceleration
    turned = 0.5 * abs(speed) * time
    kinetic = 0.5 * inertia * speed**2
    potential = -load * math.copysign(turned, speed)
    braking = inertia * deceleration - friction - load * math.copysign(1, speed)  # of the motor; below 0 it drives on
    torque = abs(braking)
    copper = resistance_loss * (torque / torque_constant) ** 2 * time
    capacitors = 0.5 * capacitance * (threshold**2 - bus**2)
    # The rectifier gives nothing back to the mains: what the winding wants towards the end of the stop is no relief for
    # what came at its beginning. So only the time counts in which power comes back.
    first = max(0.0, braking * abs(speed) - resistance_loss * (torque / torque_constant) ** 2)
    back = first**2 / (2 * braking * deceleration) if braking > 0 else 0.0
    burnt = max(0.0, back - capacitors)
    peak_back = max(torque * abs(speed), 1e-9)
    return BrakingDemand(
        kinetic=kinetic,
        potential=potential,
        friction=friction * turned,
        copper=copper,
        capacitors=capacitors,
        back=back,
        to_resistor=burnt,
        power_continuous=stops * burnt / cycle,
        power_peak=threshold**2 / resistor if resistor else 0.0,
        resistance_largest=threshold**2 / peak_back,
    )


@dataclass(frozen=True, slots=True, order=True)
class Combination:
    """Equal resistors, `series` in a string and `parallel` strings."""

    count: int
    series: int
    parallel: int
    resistance: float
    power: float


def combinations(
    *, each: float, power: float, low: float, high: float, wanted_power: float, most: int = 6
) -> list[Combination]:
    """Return how equal resistors can be joined so that resistance and power fit, the fewest first.

    Parameters
    ----------
    each, power : float
        Of one resistor. [ohm], [W]
    low, high : float
        Smallest the drive stands, largest that takes the peak. [ohm]
    wanted_power : float
        Continuous watts. [W]
    most : int
        Resistors at the most.
    """
    found = [
        Combination(s * p, s, p, each * s / p, power * s * p)
        for s in range(1, most + 1)
        for p in range(1, most // s + 1)
        if low <= each * s / p <= high and power * s * p >= wanted_power
    ]
    return sorted(found)


RATED_RISE = 250.0  # [K] of a resistor over its air at its continuous power; common practice
