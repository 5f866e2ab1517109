"""The motor as the rest of the core knows it."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from cadrel.core.errors import UnusableInput
from cadrel.core.parameters import Entry, check_entry

COPPER_TEMPCO = 0.00393  # [1/K] at 20 °C, IEC 60028


@dataclass(frozen=True, slots=True, kw_only=True)
class Motor:
    """A star-connected synchronous motor: per phase, peak of sine, amplitude-invariant dq, SI."""

    resistance: float  # [ohm] at 20 °C
    inductance: float  # [H]
    flux_linkage: float  # [Wb]
    pole_pairs: int
    current_continuous: float  # [A peak]
    current_peak: float  # [A peak]
    inertia: float  # [kg·m²]
    speed_max: float  # [rad/s]

    @property
    def torque_constant(self) -> float:
        """Torque per ampere peak. [N·m/A]"""
        return 1.5 * self.pole_pairs * self.flux_linkage

    @property
    def motor_constant(self) -> float:
        """Torque per square root of winding loss: T / sqrt(3/2 R i²). [N·m/sqrt(W)]"""
        return self.torque_constant / math.sqrt(1.5 * self.resistance)

    @property
    def electrical_time_constant(self) -> float:
        """L / R. [s]"""
        return self.inductance / self.resistance

    @property
    def mechanical_time_constant(self) -> float:
        """Rotor alone: 1.5 R J / Kt², Kt per ampere peak. [s]"""
        return 1.5 * self.resistance * self.inertia / self.torque_constant**2

    @property
    def short_circuit_current(self) -> float:
        """Steady current of a fast-turned, shorted winding: psi / L. [A peak]"""
        return self.flux_linkage / self.inductance

    def no_load_speed(self, bus_voltage: float) -> float:
        """Speed at which the back-EMF equals the largest phase voltage, bus / sqrt(3). [rad/s]"""
        return bus_voltage / math.sqrt(3) / (self.pole_pairs * self.flux_linkage)

    def winding_loss(self, current: float) -> float:
        """Copper loss of all three phases at a current. [A peak] -> [W]"""
        return 1.5 * self.resistance * current**2


def motor_from_sheet(values: Mapping[str, Entry]) -> Motor:
    """Return the motor understood from printed entries.

    The flux linkage is taken from the back-EMF constant if printed, else from the torque constant: volts are
    measured more exactly than torque, and saturation does not enter.

    Raises
    ------
    EntryProblem
        A required entry is missing or cannot be right.
    UnusableInput
        Neither a torque constant nor a back-EMF constant is given.
    """

    def si(key: str) -> float:
        return check_entry(key, values.get(key, {}))

    pairs = round(si("sheet.poles"))
    if _given(values, "sheet.back_emf"):
        flux = si("sheet.back_emf") / pairs
    elif _given(values, "sheet.torque_constant"):
        flux = si("sheet.torque_constant") / (1.5 * pairs)
    else:
        raise UnusableInput(
            what="Neither torque constant nor back-EMF constant is given.",
            remedy="Type one of the two; with both, one checks the other.",
        )
    return Motor(
        resistance=si("sheet.resistance"),
        inductance=si("sheet.inductance"),
        flux_linkage=flux,
        pole_pairs=pairs,
        current_continuous=si("sheet.current_continuous"),
        current_peak=si("sheet.current_peak"),
        inertia=si("sheet.inertia"),
        speed_max=si("sheet.speed_max"),
    )


def _given(values: Mapping[str, Entry], key: str) -> bool:
    return values.get(key, {}).get("value") not in (None, "")
