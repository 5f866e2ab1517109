"""The identified axis as one value, and a profile run on it."""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Self

import numpy as np
from numpy.typing import NDArray
from scipy.signal import lfilter

from cadrel.core.axis import AxisModel
from cadrel.core.control import Gains, Rates, TwoMass, Winding
from cadrel.core.control.filters import FRICTION_BLENDS, lowpass_pole
from cadrel.core.control.sampling import TRACKING_DAMPING
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import IdentifiedPlant
from cadrel.core.motion import Profile, sample_profile
from cadrel.core.parameters import DEVICE_KINDS
from cadrel.core.twin.kernel import Figures, run_twin

FloatArray = NDArray[np.float64]
COUNTED = tuple(float(kind.code) for kind in DEVICE_KINDS.values() if kind.has_edges)
MOST_SAMPLES = 400_000  # velocity samples of one run: 100 s at the usual rate


@dataclass(frozen=True, slots=True, eq=False)
class TwinRecord:
    """What a twin did. Arrays of shape (n,), one value a velocity sample. SI, at the motor shaft."""

    period: float  # [s]
    position: FloatArray  # as the device shows it that the position loop compares
    position_ref: FloatArray
    velocity: FloatArray  # as the drive knows it
    current: FloatArray  # [A peak]
    load: FloatArray  # position of the load, from where it hung at rest
    motor: FloatArray  # true position of the motor
    moving: FloatArray  # 1 while the command moves
    voltage_limited: FloatArray  # 0 or 1
    current_limited: FloatArray

    @property
    def time(self) -> FloatArray:
        """From the start of the move. [s]"""
        return self.period * np.arange(len(self.position), dtype=np.float64)

    def at(self, time: FloatArray) -> dict[str, FloatArray]:
        """Return position, following error, velocity and current at other times; at rest before the start."""
        own = self.time
        columns = {
            "position": self.position,
            "following_error": self.position_ref - self.position,
            "velocity": self.velocity,
            "i_q": self.current,
        }
        return {name: np.interp(time, own, column) for name, column in columns.items()}


def _rubbing(load: TwoMass, viscous: float) -> TwoMass:
    """The load with so much viscous friction in all, shared as before; all of it on the motor where there was none."""
    before = load.viscous + load.viscous_load
    if before <= 0.0:
        return replace(load, viscous=viscous)
    return replace(load, viscous=viscous * load.viscous / before, viscous_load=viscous * load.viscous_load / before)


@dataclass(frozen=True, slots=True, kw_only=True)
class Twin:
    """The identified axis: gains and limits of the drive, winding, motor and load, what rubs, pulls and plays.

    Notes
    -----
    Where friction sits no run tells: half of it is put on the motor and half on the load. Breakaway is in it where
    friction was measured over speed. What is not: cogging, the device's noise, a bus that sags. Where it parts from the
    machine, that is what the machine has besides.
    """

    gains: Gains
    winding: Winding
    load: TwoMass  # with play closed
    coulomb: float = 0.0  # [N·m]
    breakaway: float = 0.0  # [N·m]; up to `coulomb`: nothing holds more than slides
    stribeck_speed: float = 1.0  # [rad/s] at which 1/e of what breakaway is more is left
    constant: float = 0.0  # [N·m] that holds what hangs or is pulled
    play: float = 0.0  # [rad] whole, between motor and load
    torque_constant: float  # [N·m/A peak]
    pole_pairs: float
    voltage_limit: float  # [V] of a phase
    current_limit: float  # [A peak]
    velocity_limit: float  # [rad/s]
    velocity_feedforward: float = 0.0  # share
    acceleration_torque: float = 0.0  # [N·m·s²/rad] the drive adds to an acceleration
    friction_torque: float = 0.0  # [N·m] it adds the way the command moves
    resolution: float = 0.0  # [rad] of a count
    load_resolution: float = 0.0  # [rad] of a count of the device on the load, where the position loop compares it
    flicker: float = 0.0  # [rad] rms of what the device shows of an axis at rest; it moves nothing here
    counted: bool = False  # speed is measured between the edges of counts

    @classmethod
    def of_identified(cls, axis: AxisModel, values: Mapping[str, float], plant: IdentifiedPlant, rates: Rates) -> Self:
        """Return the twin of an axis as far as it is identified.

        Parameters
        ----------
        axis : AxisModel
            For the bus voltage.
        values : mapping of str to float
            What the drive holds. SI
        plant : IdentifiedPlant
            What load and velocity run found; without the second, motor and load are one mass.
        rates : Rates
            Of the drive.

        Raises
        ------
        UnusableInput
            The load has not been identified.
        """
        if plant.total is None:
            raise UnusableInput(what="The load is not identified: there is no twin.", remedy="Run the load step first.")
        total, pairs, flux = plant.total, values["motor.pole_pairs"], values["motor.flux_linkage"]
        load, play = TwoMass(inertia_motor=total.inertia, viscous=total.viscous_total), 0.0
        if plant.springy is not None:
            s = plant.springy
            load, play = replace(s.load, damping=s.closed_damping * s.load.damping).drifted(s.rise), s.play
        coulomb, breakaway, fades = total.coulomb, 0.0, 1.0
        if plant.rubbed is not None:
            coulomb = plant.rubbed.sliding
            load = _rubbing(load, plant.rubbed.viscous)
            if plant.rubbed.breakaway is not None and plant.rubbed.stribeck_speed is not None:
                breakaway, fades = plant.rubbed.breakaway, plant.rubbed.stribeck_speed
        counts = values.get("feedback.counts", 0.0)
        gains = Gains.from_drive(values, rates)
        return cls(
            gains=gains,
            winding=Winding.from_drive(values),
            load=load,
            coulomb=coulomb,
            breakaway=breakaway,
            stribeck_speed=fades,
            constant=total.constant,
            play=play,
            torque_constant=1.5 * pairs * flux,
            pole_pairs=pairs,
            voltage_limit=axis.bus_voltage / math.sqrt(3) - values["current.dead_voltage"],
            current_limit=values["limit.current"],
            velocity_limit=values["limit.velocity"],
            velocity_feedforward=values["position.velocity_feedforward"],
            acceleration_torque=values["position.acceleration_feedforward"] * values["load.inertia"],
            friction_torque=values["position.friction_feedforward"] * values["load.friction"],
            resolution=2 * math.pi / counts if counts > 0.0 else 0.0,
            load_resolution=2 * math.pi / abs(values["feedback.second_counts"]) if gains.on_load else 0.0,
            flicker=0.0 if plant.springy is None else plant.springy.flicker,
            counted=counts > 0.0 and values["feedback.device"] in COUNTED,
        )

    @property
    def longest(self) -> float:
        """How long a profile and the rest after it may be. [s]"""
        return (MOST_SAMPLES - 1) * self.gains.rates.velocity

    def run(self, profile: Profile, *, rest: float = 0.2) -> TwinRecord:
        """Run a profile from rest, and so long a rest after it. [s]

        Raises
        ------
        UnusableInput
            The profile is longer than a twin keeps.
        """
        period = self.gains.rates.velocity
        n = int(np.ceil((profile.duration + rest) / period)) + 1
        if n > MOST_SAMPLES:
            raise UnusableInput(what="The sequence is too long for the twin.", remedy="Repeat it less often.")
        time = period * (1 + np.arange(n, dtype=np.float64))  # the set-points of a sample are those at its end
        place, speed, acceleration = sample_profile(profile, time)
        after = time >= profile.duration
        speed[after] = acceleration[after] = 0.0
        shape = self.gains.shaping()
        place, speed, acceleration = (
            lfilter((shape.b0, shape.b1, shape.b2), (1.0, shape.a1, shape.a2), row)
            for row in (place, speed, acceleration)
        )
        out = np.zeros((7, n))
        run_twin(self._figures(), self._sections(), place, speed, acceleration, out)
        rows = profile.segments
        index = np.clip(np.searchsorted(rows[:, 1], time, side="right"), 0, len(rows) - 1)
        moving = np.any(rows[index, 3:] != 0.0, axis=1) & ~after
        return TwinRecord(
            period, out[0], place, out[1], out[2], out[3] - out[3, 0], out[4], moving.astype(float), out[5], out[6]
        )

    def _figures(self) -> Figures:
        g, load = self.gains, self.load
        period, springy = g.rates.velocity, self.load.stiffness is not None
        return Figures(
            tick=g.rates.current,
            ticks=g.rates.ticks,
            position_gain=g.position_gain,
            velocity_feedforward=self.velocity_feedforward,
            acceleration_torque=self.acceleration_torque,
            friction_torque=self.friction_torque,
            friction_blend=FRICTION_BLENDS * self.velocity_limit,
            velocity_limit=self.velocity_limit,
            velocity_gain=g.velocity_gain,
            velocity_integral=g.velocity_gain / g.velocity_reset,
            speed_pole=lowpass_pole(g.feedback_filter_hz, period=period),
            torque_pole=lowpass_pole(g.torque_filter_hz, period=period),
            current_gain=g.current_gain,
            current_integral=g.current_gain / g.current_reset,
            current_limit=self.current_limit,
            voltage_limit=self.voltage_limit,
            torque_constant=self.torque_constant,
            pole_pairs=self.pole_pairs,
            resistance=self.winding.resistance,
            inductance=self.winding.inductance,
            emf=self.winding.emf / self.torque_constant,
            inertia_motor=load.inertia_motor if springy else load.inertia,
            inertia_load=load.inertia_load if springy else 0.0,
            stiffness=load.stiffness or 1.0,
            damping=load.damping,
            viscous_motor=load.viscous if springy else load.viscous + load.viscous_load,
            viscous_load=load.viscous_load,
            coulomb=self.coulomb,
            sticks=max(self.breakaway - self.coulomb, 0.0),
            stribeck_speed=self.stribeck_speed,
            constant=self.constant,
            half_play=0.5 * self.play,
            resolution=self.resolution,
            late=round(g.sensor.latency / g.rates.current),
            tracking=g.sensor.tracking,
            tracking_lead=2 * TRACKING_DAMPING * g.sensor.tracking,
            on_load=int(self.gains.on_load),
            load_resolution=self.load_resolution,
            counted=int(self.counted),
        )

    def _sections(self) -> FloatArray:
        period = self.gains.rates.velocity
        used = [self.gains.notch(), *(s.biquad(period=period) for s in self.gains.sections)]
        return np.array([[b.b0, b.b1, b.b2, b.a1, b.a2] for b in used])
