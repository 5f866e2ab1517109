"""An induction motor's nameplate -> what a flux-oriented current loop needs."""

import math
from dataclasses import dataclass

from cadrel.core.errors import UnusableInput


@dataclass(frozen=True, slots=True, kw_only=True)
class Nameplate:
    """As printed, SI; line to line rms volts, line rms amperes."""

    power: float | None  # [W] at the shaft
    torque: float | None  # [N·m]
    voltage: float
    current: float
    frequency: float  # [Hz]
    speed: float  # [rad/s]
    power_factor: float
    breakdown_ratio: float = 2.5


@dataclass(frozen=True, slots=True, kw_only=True)
class InductionModel:
    """What follows from a nameplate, per phase in star, peak."""

    pole_pairs: int
    synchronous_speed: float  # [rad/s]
    slip: float
    torque: float  # [N·m]
    efficiency: float
    magnetising_current: float  # [A peak]
    torque_current: float  # [A peak]
    flux_linkage: float  # [Wb] torque = 1.5 p psi i_q
    leakage: float  # [1] total
    inductance_stator: float  # [H]
    resistance_rotor: float  # [ohm] referred to the stator
    rotor_time_constant: float  # [s]


def model_from_nameplate(plate: Nameplate) -> InductionModel:
    """Return the model of a nameplate.

    Raises
    ------
    UnusableInput
        Speed and frequency leave no slip, or more than a fifth; or power, voltage and current do not fit together.

    Notes
    -----
    Synchronous speed 60 f / p, p the largest whole number that keeps it above the rated speed; slip, torque = P / w,
    efficiency = P / (sqrt(3) U I cos phi): nameplate relations of any textbook (A. E. Fitzgerald et al., Electric
    Machinery, ch. 6; from memory). Magnetising current from the circle diagram (Heyland 1894, Ossanna 1899; from
    memory): the current's locus is a circle whose radius is breakdown over rated torque times the rated active
    current, so I_m = I sin phi - r + sqrt(r² - (I cos phi)²); total leakage I_m / (I_m + 2 r). Stator resistance is
    left out of the circle, which makes the magnetising current up to a tenth too large in small motors; identification
    refines it.
    """
    pairs = math.floor(2 * math.pi * plate.frequency / plate.speed + 1e-9)
    if pairs < 1:
        raise UnusableInput(
            what="The rated speed is above the synchronous speed of two poles at this frequency.",
            remedy="Check rated speed and rated frequency.",
        )
    synchronous = 2 * math.pi * plate.frequency / pairs
    slip = 1 - plate.speed / synchronous
    if not 1e-4 < slip < 0.25:
        raise UnusableInput(
            what=f"Rated speed and frequency make a slip of {slip:.1%} with {pairs} pole pairs.",
            remedy="Type the speed at rated load, a little below the synchronous one.",
        )
    if plate.power is None and plate.torque is None:
        raise UnusableInput(what="Neither rated power nor rated torque is given.", remedy="Type one of the two.")
    torque = plate.torque if plate.power is None else plate.power / plate.speed
    assert torque is not None  # one of the two is given
    apparent = math.sqrt(3) * plate.voltage * plate.current
    efficiency = torque * plate.speed / (apparent * plate.power_factor)
    if not 0.2 < efficiency < 1:
        raise UnusableInput(
            what=f"Power, voltage, current and power factor make an efficiency of {efficiency:.0%}.",
            remedy="Check that voltage and current are those of one connection, star or delta.",
        )
    peak = math.sqrt(2) * plate.current
    active, reactive = peak * plate.power_factor, peak * math.sqrt(1 - plate.power_factor**2)
    radius = plate.breakdown_ratio * active
    magnetising = reactive - radius + math.sqrt(radius**2 - active**2)
    if magnetising <= 0.02 * peak:
        raise UnusableInput(
            what="Power factor and breakdown torque leave no magnetising current.",
            remedy="Check the power factor, or raise the breakdown torque to the catalogue's value.",
        )
    stator = plate.voltage * math.sqrt(2 / 3) / (2 * math.pi * plate.frequency * magnetising)
    leakage = magnetising / (magnetising + 2 * radius)
    slip_speed = slip * 2 * math.pi * plate.frequency
    return InductionModel(
        pole_pairs=pairs,
        synchronous_speed=synchronous,
        slip=slip,
        torque=torque,
        efficiency=efficiency,
        magnetising_current=magnetising,
        torque_current=active,
        flux_linkage=torque / (1.5 * pairs * active),
        leakage=leakage,
        inductance_stator=stator,
        resistance_rotor=torque * slip_speed / pairs / (1.5 * active**2),
        rotor_time_constant=active / (slip_speed * magnetising),
    )
