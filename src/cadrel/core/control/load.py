"""Winding and load as the loops meet them."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Self

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]


@dataclass(frozen=True, slots=True, kw_only=True)
class Winding:
    """One phase as the current loop sees it."""

    resistance: float  # [ohm]
    inductance: float  # [H]
    emf: float = 0.0  # [ohm·N·m·s/rad] 1.5 (p psi)²: torque constant times back-EMF constant

    @classmethod
    def from_drive(cls, values: Mapping[str, float]) -> Self:
        """Return the winding of a full set of drive parameters."""
        return cls(
            resistance=values["motor.resistance"],
            inductance=values["motor.inductance"],
            emf=1.5 * (values["motor.pole_pairs"] * values["motor.flux_linkage"]) ** 2,
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class TwoMass:
    """Motor and load on a spring; `stiffness` None is one rigid mass `inertia_motor + inertia_load`."""

    inertia_motor: float
    inertia_load: float = 0.0
    stiffness: float | None = None
    damping: float = 0.0
    viscous: float = 0.0  # [N·m·s/rad] on the motor
    viscous_load: float = 0.0  # [N·m·s/rad] on the load: it fills the anti-resonance

    @property
    def inertia(self) -> float:
        """Both together. [kg·m²]"""
        return self.inertia_motor + self.inertia_load

    @property
    def resonance_hz(self) -> float | None:
        """sqrt(k (J1 + J2) / (J1 J2)) / 2 pi."""
        if self.stiffness is None:
            return None
        return math.sqrt(self.stiffness * self.inertia / (self.inertia_motor * self.inertia_load)) / (2 * math.pi)

    @property
    def antiresonance_hz(self) -> float | None:
        """sqrt(k / J2) / 2 pi."""
        if self.stiffness is None:
            return None
        return math.sqrt(self.stiffness / self.inertia_load) / (2 * math.pi)

    def drifted(self, share: float) -> Self:
        """Return the load with resonance and anti-resonance higher by a share: another stiffness, the same masses."""
        if self.stiffness is None:
            return self
        return replace(self, stiffness=self.stiffness * (1 + share) ** 2)

    def weighing(self, factor: float) -> Self:
        """Return the load with the total inertia times a factor, what changes being on the load's side; the motor's
        own stays, and of the load a twentieth at least."""
        if self.stiffness is None:
            return replace(self, inertia_motor=factor * self.inertia_motor, inertia_load=factor * self.inertia_load)
        rest = factor * self.inertia - self.inertia_motor
        return replace(self, inertia_load=max(rest, 0.05 * self.inertia_load))


def load_over_motor(load: TwoMass, frequency: FloatArray) -> ComplexArray:
    """Return how the load moves over how the motor does; 1 where the shaft is rigid or not known."""
    if load.stiffness is None or not load.inertia_load:
        return np.ones(len(frequency), dtype=np.complex128)
    s = 2j * np.pi * frequency
    shaft = load.stiffness + load.damping * s
    return np.asarray(shaft / (load.inertia_load * s**2 + load.viscous_load * s + shaft), dtype=np.complex128)


def mechanics(load: TwoMass, frequency: FloatArray) -> ComplexArray:
    """Return torque to motor speed. [rad/s per N·m]"""
    s = 2j * np.pi * frequency
    if load.stiffness is None:
        return np.asarray(1 / (load.inertia * s + load.viscous + load.viscous_load), dtype=np.complex128)
    spring = load.stiffness + load.damping * s
    own = load.inertia_motor * s * s + spring + load.viscous * s
    other = load.inertia_load * s * s + spring + load.viscous_load * s
    return s * other / (own * other - spring * spring)
