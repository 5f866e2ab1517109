"""The motor as the rest of the core knows it: one frozen class for every kind."""

import math
from dataclasses import dataclass, replace
from typing import Self

COPPER_TEMPCO = 0.00393  # [1/K] at 20 °C, IEC 60028
REFERENCE_TEMPERATURE = 20.0  # [°C] of printed resistances
FIELD_WEAKENING_TOP = 3.0  # base speeds an induction motor is shown to


@dataclass(frozen=True, slots=True, kw_only=True)
class Motor:
    """A motor per phase: peak of sine, amplitude-invariant dq, SI.

    Straight motors are kept as if they turned: of a linear synchronous motor one pole pair is one turn, of a voice
    coil one metre is one radian; `metres_per_rad` leads back. A stepper has two phases; a dc motor counts as two
    phases of one pole pair whose vector stands still. An induction motor is what rotor-flux orientation at rated flux
    makes of it: `flux_linkage` is then the linkage that torque-making current meets.
    """

    kind: str = "rotary"
    phases: int = 3
    resistance: float  # [ohm] at `temperature`, with the cable
    inductance: float  # [H]
    flux_linkage: float  # [Wb]
    pole_pairs: int
    current_continuous: float  # [A peak]
    current_peak: float  # [A peak]
    inertia: float  # [kg·m²]
    speed_max: float  # [rad/s]
    metres_per_rad: float | None = None
    temperature: float = REFERENCE_TEMPERATURE  # [°C]
    magnet_coefficient: float = 0.0  # [1/K]
    magnetising_current: float = 0.0  # [A peak], induction
    slip_rated: float = 0.0  # [1], induction
    rotor_time_constant: float = 0.0  # [s], induction
    base_speed: float | None = None  # [rad/s], induction: field is weakened above
    breakdown_ratio: float = 0.0  # [1], induction

    @property
    def torque_constant(self) -> float:
        """Torque per ampere peak. [N·m/A]"""
        return 0.5 * self.phases * self.pole_pairs * self.flux_linkage

    @property
    def force_constant(self) -> float | None:
        """Force per ampere peak of a straight motor. [N/A]"""
        return None if self.metres_per_rad is None else self.torque_constant / self.metres_per_rad

    @property
    def motor_constant(self) -> float:
        """Torque per square root of winding loss: T / sqrt(3/2 R i²) with three phases. [N·m/√W]"""
        return self.torque_constant / math.sqrt(0.5 * self.phases * self.resistance)

    @property
    def electrical_time_constant(self) -> float:
        """L / R. [s]"""
        return self.inductance / self.resistance

    @property
    def mechanical_time_constant(self) -> float:
        """Rotor alone: 1.5 R J / Kt² with three phases, Kt per ampere peak. [s]"""
        return self.inertia / self.motor_constant**2

    @property
    def short_circuit_current(self) -> float:
        """Steady current of a fast-turned, shorted winding: psi / L. [A peak]"""
        return self.flux_linkage / self.inductance

    def voltage_reach(self, bus_voltage: float) -> float:
        """Largest phase voltage a bridge makes: bus / sqrt(3) with three phases, else the bus. [V peak]"""
        return bus_voltage / math.sqrt(3) if self.phases == 3 else bus_voltage

    @property
    def reactance_share(self) -> float:
        """1 where the current alternates with speed, 0 where it does not (dc)."""
        return 0.0 if self.kind in ("dc", "voice_coil") else 1.0

    def no_load_speed(self, bus_voltage: float) -> float:
        """Speed at which the back-EMF equals the largest phase voltage. [rad/s]"""
        return self.voltage_reach(bus_voltage) / (self.pole_pairs * self.flux_linkage)

    def winding_loss(self, current: float) -> float:
        """Copper loss of all phases at a current. [A peak] -> [W]"""
        return 0.5 * self.phases * self.resistance * current**2

    def at(self, temperature: float) -> Self:
        """Return the motor at another winding and magnet temperature. [°C]

        Copper: R (1 + 0.00393 (t - 20)) over the same at the present one; flux: linear with its coefficient.
        """
        copper = copper_factor(temperature) / copper_factor(self.temperature)
        magnets = magnet_factor(temperature, self.magnet_coefficient) / magnet_factor(
            self.temperature, self.magnet_coefficient
        )
        return replace(
            self,
            resistance=self.resistance * copper,
            flux_linkage=self.flux_linkage * magnets,
            temperature=temperature,
        )

    def warm_as(self, resistance: float) -> float:
        """Return how warm the winding is that has a resistance. [ohm] -> [°C]

        By this motor's own, of which the cable is taken to be as warm: what a sheet is off by shows as temperature,
        12.7 K for each 5 %.
        """
        cold = self.resistance / copper_factor(self.temperature)
        return REFERENCE_TEMPERATURE + (resistance / cold - 1) / COPPER_TEMPCO

    def with_cable(self, resistance: float) -> Self:
        """Return the motor behind a cable of that resistance per wire. [ohm]"""
        return replace(self, resistance=self.resistance + resistance * (1 if self.phases == 3 else 2))


def magnet_factor(temperature: float, coefficient: float) -> float:
    """Return the flux of magnets over that at 20 °C. [°C], [1/K]"""
    return 1 + coefficient * (temperature - REFERENCE_TEMPERATURE)


def copper_factor(temperature: float) -> float:
    """Return the resistance of copper over that at 20 °C. [°C]"""
    return 1 + COPPER_TEMPCO * (temperature - REFERENCE_TEMPERATURE)
