"""The frequency responses of the cascade, as the drive's difference equations have them.

e^{-jwT}, T the velocity sample, is `z`; plant and current loop are continuous behind their holds. Aliases of the
sampled plant are left out: below 1 kHz the first is under 1 % (docs/control-structure.md, section 7).
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass, fields, replace
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control.filters import TICK, TV, Biquad, ComplexArray, lowpass_pole, notch

FloatArray = NDArray[np.float64]


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

    @classmethod
    def from_model(cls, model: Mapping[str, Any]) -> Self | None:
        """Return the load that plain values (`asdict`) describe; None unless they describe it whole."""
        names = [f.name for f in fields(cls)]
        return cls(**{k: model[k] for k in names}) if all(k in model for k in names) else None

    @classmethod
    def model_keys(cls) -> tuple[str, ...]:
        """Return the keys under which `asdict` keeps a load."""
        return tuple(f.name for f in fields(cls))

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


@dataclass(frozen=True, slots=True, kw_only=True)
class Gains:
    """Everything in the drive that shapes its loops. SI."""

    current_gain: float
    current_reset: float
    velocity_gain: float
    velocity_reset: float
    feedback_filter_hz: float
    torque_filter_hz: float
    notch_hz: float = 0.0
    notch_depth_db: float = 0.0
    notch_width: float = 0.3
    position_gain: float = 10.0

    @classmethod
    def from_drive(cls, values: Mapping[str, float]) -> Self:
        """Return the gains of a full set of drive parameters."""
        return cls(
            current_gain=values["current.gain"],
            current_reset=values["current.reset_time"],
            velocity_gain=values["velocity.gain"],
            velocity_reset=values["velocity.reset_time"],
            feedback_filter_hz=values["velocity.feedback_filter"],
            torque_filter_hz=values["velocity.torque_filter"],
            notch_hz=values["velocity.notch_frequency"],
            notch_depth_db=values["velocity.notch_depth"],
            notch_width=values["velocity.notch_width"],
            position_gain=values["position.gain"],
        )

    def to_drive(self) -> dict[str, float]:
        """Return the drive parameters of these gains, by key."""
        return {
            "current.gain": self.current_gain,
            "current.reset_time": self.current_reset,
            "velocity.gain": self.velocity_gain,
            "velocity.reset_time": self.velocity_reset,
            "velocity.feedback_filter": self.feedback_filter_hz,
            "velocity.torque_filter": self.torque_filter_hz,
            "velocity.notch_frequency": self.notch_hz,
            "velocity.notch_depth": self.notch_depth_db,
            "velocity.notch_width": self.notch_width,
            "position.gain": self.position_gain,
        }

    def with_(self, **changes: float) -> Self:
        """Return these gains with some changed."""
        return replace(self, **changes)

    def notch(self) -> Biquad:
        """The notch's coefficients."""
        return notch(self.notch_hz, width=self.notch_width, depth_db=self.notch_depth_db)


def current_open(winding: Winding, gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the open current loop: PI, one tick of delay, hold, R-L, all exact at the tick. Shape of `frequency`."""
    zi = np.exp(-2j * np.pi * frequency * TICK)
    controller = gains.current_gain * (1 + TICK / gains.current_reset * zi / (1 - zi))
    a = math.exp(-TICK * winding.resistance / winding.inductance)
    plant = (1 - a) / winding.resistance * zi / (1 - a * zi)
    return controller * zi * plant


def closed(loop: ComplexArray) -> ComplexArray:
    """Return L / (1 + L)."""
    return loop / (1 + loop)


def sensitivity(loop: ComplexArray) -> ComplexArray:
    """Return 1 / (1 + L)."""
    return 1 / (1 + loop)


def current_to_torque_path(winding: Winding, gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return commanded to true current, in continuous time behind the tick's hold.

    The command is constant over a velocity sample; the current between ticks follows the held voltage. True current
    over sampled command is controller x delay x hold x R-L(s) / (1 + L).
    """
    zi = np.exp(-2j * np.pi * frequency * TICK)
    s = 2j * np.pi * frequency
    controller = gains.current_gain * (1 + TICK / gains.current_reset * zi / (1 - zi))
    hold = (1 - zi) / (s * TICK)
    forward = controller * zi * hold / (winding.resistance + s * winding.inductance)
    return forward / (1 + current_open(winding, gains, frequency))


def mechanics(load: TwoMass, frequency: FloatArray) -> ComplexArray:
    """Return torque to motor speed. [rad/s per N·m]"""
    s = 2j * np.pi * frequency
    if load.stiffness is None:
        return np.asarray(1 / (load.inertia * s + load.viscous + load.viscous_load), dtype=np.complex128)
    spring = load.stiffness + load.damping * s
    own = load.inertia_motor * s * s + spring + load.viscous * s
    other = load.inertia_load * s * s + spring + load.viscous_load * s
    return s * other / (own * other - spring * spring)


def velocity_plant(
    load: TwoMass, winding: Winding, gains: Gains, frequency: FloatArray, *, edge_age: float = 0.0
) -> ComplexArray:
    """Return torque command (before its hold) to measured, unfiltered speed at the velocity sample.

    Chain: command kept for four ticks of the current loop, current loop, mechanics, angle by integration, difference
    over T; the back-EMF closes a loop around current and mechanics. `edge_age` is how old the last encoder edge is on
    average when speed is sampled, half a count's time at the speed in question. [s]
    """
    z, zi = np.exp(-2j * np.pi * frequency * TV), np.exp(-2j * np.pi * frequency * TICK)
    s = 2j * np.pi * frequency
    hold = (1 - z) / (1 - zi) * TICK / TV  # the current loop samples the command: four equal ticks, not a staircase
    moved = mechanics(load, frequency)
    measured = (1 - z) / (s * TV) * np.exp(-s * edge_age)
    plant = hold * current_to_torque_path(winding, gains, frequency) * moved * measured
    if winding.emf == 0.0:
        return plant
    # Back-EMF brakes what the loop cannot hold against it; its feedforward knows the filtered speed, a tick late.
    known = measured * feedback_filter(gains, frequency) * hold * zi * (1 - zi) / (s * TICK)
    admittance = 1 / (winding.resistance + s * winding.inductance) / (1 + current_open(winding, gains, frequency))
    return plant / (1 + winding.emf * admittance * moved * (1 - known))


def velocity_controller(gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return speed error to torque command: PI, torque low-pass, notch."""
    z = np.exp(-2j * np.pi * frequency * TV)
    a = lowpass_pole(gains.torque_filter_hz)
    pi = gains.velocity_gain * (1 + TV / gains.velocity_reset * z / (1 - z))
    return pi * (1 - a) / (1 - a * z) * gains.notch().response(z)


def feedback_filter(gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the low-pass on the measured speed."""
    a = lowpass_pole(gains.feedback_filter_hz)
    return (1 - a) / (1 - a * np.exp(-2j * np.pi * frequency * TV))


def velocity_open(plant: ComplexArray, gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the open velocity loop for a plant from `velocity_plant` or from a measurement."""
    return velocity_controller(gains, frequency) * plant * feedback_filter(gains, frequency)


def position_open(plant: ComplexArray, gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the open position loop around the closed velocity loop."""
    z = np.exp(-2j * np.pi * frequency * TV)
    loop = velocity_open(plant, gains, frequency)
    command_to_speed = velocity_controller(gains, frequency) * plant / (1 + loop)
    # The measured speed is the difference of positions, so position = speed * T / (1 - z).
    return gains.position_gain * command_to_speed * TV / (1 - z)


@dataclass(frozen=True, slots=True, eq=False)
class LoopResponses:
    """Open and closed loop and sensitivity of one loop on a grid."""

    frequency: FloatArray
    open: ComplexArray
    closed: ComplexArray
    sensitivity: ComplexArray


def loop_responses(
    load: TwoMass | ComplexArray, winding: Winding, gains: Gains, frequency: FloatArray
) -> dict[str, LoopResponses]:
    """Return current, velocity and position loop on a grid. `load` is a model, or a measured velocity plant."""
    plant = velocity_plant(load, winding, gains, frequency) if isinstance(load, TwoMass) else load
    loops = {
        "current": current_open(winding, gains, frequency),
        "velocity": velocity_open(plant, gains, frequency),
        "position": position_open(plant, gains, frequency),
    }
    result = {}
    for key, loop in loops.items():
        s = sensitivity(loop)
        # Command to measured value: the filter in the velocity feedback is outside the forward path.
        shown = loop * s / feedback_filter(gains, frequency) if key == "velocity" else loop * s
        result[key] = LoopResponses(frequency, loop, shown, s)
    return result
