"""The cascade, composed once of blocks; frequency responses, steps and eigenvalues follow from the same matrices.

    error -> [PI] -> [torque low-pass] -> [notch] -> [sections 2 to 4] -> torque
    torque -> [current loop, motor, load, device] -> raw speed, position
    raw speed -> [speed filter] -> speed, which the velocity loop feeds back and the back-EMF's feedforward knows

A measured plant takes the place of the block between torque and raw speed: then only frequency responses are left.
The simulated drive is held against these blocks by test.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import Literal, Self

import numpy as np
from numpy.typing import NDArray

from cadrel.core.control.axis_blocks import current_regulator, locked_winding, sampled_axis
from cadrel.core.control.blocks import Block, connect, static
from cadrel.core.control.filters import Biquad, Section, low_pass, notch, pi_regulator, second_order
from cadrel.core.control.load import ComplexArray, TwoMass, Winding
from cadrel.core.control.sampling import TRACKING_DAMPING, Rates, Sensor
from cadrel.core.parameters import SECTIONS

FloatArray = NDArray[np.float64]
LoopName = Literal["current", "velocity", "position"]
LOOPS: tuple[LoopName, ...] = ("current", "velocity", "position")
SECTION_KEYS = {
    "zero_hz": "zero", "zero_damping": "zero_damping", "pole_hz": "pole", "pole_damping": "pole_damping",
}  # fmt: skip
RUNAWAY = 1e6  # of the step: a loop that gets there is unstable


@dataclass(frozen=True, slots=True, kw_only=True)
class Gains:
    """Everything in the drive that shapes its loops: gains and filters, its rates, and how the angle arrives. SI."""

    current_gain: float
    current_reset: float
    velocity_gain: float
    velocity_reset: float
    feedback_filter_hz: float
    torque_filter_hz: float
    notch_hz: float = 0.0
    notch_depth_db: float = 0.0
    notch_width: float = 0.3
    sections: tuple[Section, ...] = ()  # those that are on
    position_gain: float = 10.0
    shaping_hz: float = 0.0  # notch that planned moves pass; no part of the loop
    shaping_depth_db: float = 0.0
    shaping_width: float = 1.0
    on_load: bool = False  # the position loop compares with a device on the load; velocity is the motor's
    rates: Rates = field(default_factory=Rates)
    sensor: Sensor = field(default_factory=Sensor)

    @classmethod
    def from_drive(cls, values: Mapping[str, float], rates: Rates | None = None) -> Self:
        """Return the gains of a full set of drive parameters, at the rates that the drive told."""
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
            sections=tuple(
                Section(**{k: values[f"velocity.section{n}_{key}"] for k, key in SECTION_KEYS.items()})
                for n in SECTIONS
                if values[f"velocity.section{n}_pole"] > 0.0
            ),
            position_gain=values["position.gain"],
            shaping_hz=values["position.shaping_frequency"],
            shaping_depth_db=values["position.shaping_depth"],
            shaping_width=values["position.shaping_width"],
            on_load=values["feedback.position_device"] != 0.0 and values["feedback.second_counts"] != 0.0,
            rates=rates or Rates(),
            sensor=Sensor.from_drive(values),
        )

    def to_drive(self) -> dict[str, float]:
        """Return the drive parameters of these gains, by key."""
        off = (Section(),) * (len(SECTIONS) - len(self.sections))
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
            **{
                f"velocity.section{n}_{key}": getattr(section, k)
                for n, section in zip(SECTIONS, (*self.sections, *off), strict=True)
                for k, key in SECTION_KEYS.items()
            },
            "position.gain": self.position_gain,
            "position.shaping_frequency": self.shaping_hz,
            "position.shaping_depth": self.shaping_depth_db,
            "position.shaping_width": self.shaping_width,
        }

    def with_(self, **changes: float | tuple[Section, ...]) -> Self:
        """Return these gains with some changed."""
        return replace(self, **changes)  # type: ignore[arg-type]

    def with_sensor(self, sensor: Sensor) -> Self:
        """Return these gains with the angle arriving in another way."""
        return replace(self, sensor=sensor)

    def notch(self) -> Biquad:
        """The notch's coefficients."""
        return notch(self.notch_hz, width=self.notch_width, depth_db=self.notch_depth_db, period=self.rates.velocity)

    def shaping(self) -> Biquad:
        """Coefficients of the notch that planned moves pass."""
        return notch(
            self.shaping_hz, width=self.shaping_width, depth_db=self.shaping_depth_db, period=self.rates.velocity
        )


# --- the blocks of the drive ----------------------------------------------------------------------------------------


def _in_series(gains: Gains) -> tuple[list[Block], list[Biquad]]:
    """The velocity regulator's parts, one behind the other: PI and torque low-pass, then notch and sections."""
    period = gains.rates.velocity
    first = [
        pi_regulator(gains.velocity_gain, gains.velocity_reset, period=period, entry="error", output="pi"),
        low_pass(gains.torque_filter_hz, period=period, entry="pi", output="section 0"),
    ]
    return first, [gains.notch(), *(section.biquad(period=period) for section in gains.sections)]


@lru_cache(maxsize=512)
def velocity_regulator(gains: Gains) -> Block:
    """Return speed error -> torque: PI, torque low-pass, notch, second-order sections."""
    period = gains.rates.velocity
    first, sections = _in_series(gains)
    behind = [
        second_order(section, period=period, entry=f"section {n}", output=f"section {n + 1}")
        for n, section in enumerate(sections)
    ]
    last = static({"torque": {f"section {len(sections)}": 1.0}}, period=period)
    return connect([*first, *behind, last], inputs=("error",), outputs=("torque",))


def speed_filter(gains: Gains) -> Block:
    """Return raw speed -> speed."""
    return low_pass(gains.feedback_filter_hz, period=gains.rates.velocity, entry="raw speed", output="speed")


def _axis(load: TwoMass, winding: Winding, gains: Gains, *, absolute: bool) -> Block:
    return sampled_axis(
        load, winding, gains.sensor, gains.rates, gains.current_gain, gains.current_reset, absolute=absolute,
        on_load=absolute and gains.on_load,
    )  # fmt: skip


def _speed_known(gains: Gains) -> Block:
    return static({"known_speed": {"speed": 1.0}}, period=gains.rates.velocity)


def plant_block(load: TwoMass, winding: Winding, gains: Gains) -> Block:
    """Return torque -> raw speed, velocity loop open; the back-EMF's feedforward runs through the speed filter."""
    parts = [_axis(load, winding, gains, absolute=False), speed_filter(gains), _speed_known(gains)]
    return connect(parts, inputs=("torque",), outputs=("raw speed",))


@lru_cache(maxsize=256)
def loop_block(loop: LoopName, load: TwoMass, winding: Winding, gains: Gains, *, closed: bool) -> Block:
    """Return a loop: "command" -> "shown" (what a step shows), or, cut before its regulator, "error" -> "fed back".

    Position control sits on the closed velocity loop. The current loop is that of a rotor that does not turn.
    """
    period = gains.rates.current if loop == "current" else gains.rates.velocity
    if loop == "current":
        parts = [
            current_regulator(gains.current_gain, gains.current_reset, 0.0, tick=period),
            locked_winding(winding, tick=period),
        ]
        # The regulator takes command and measured value apart: for the open loop its measured input is cut.
        if closed:
            tied = static({"torque": {"command": 1.0}, "known_speed": {}, "shown": {"current": 1.0}}, period=period)
            return connect([*parts, tied], inputs=("command",), outputs=("shown",))
        split = Block(
            parts[0].a, parts[0].b, parts[0].c, parts[0].d, ("error", "nothing", "known_speed"), parts[0].outputs,
            parts[0].states, period,
        )  # fmt: skip
        tied = static({"nothing": {}, "known_speed": {}, "fed back": {"current": 1.0}}, period=period)
        return connect([split, parts[1], tied], inputs=("error",), outputs=("fed back",))
    absolute = loop == "position"
    parts = [
        _axis(load, winding, gains, absolute=absolute),
        speed_filter(gains),
        _speed_known(gains),
        velocity_regulator(gains),
    ]
    kv = gains.position_gain
    if loop == "velocity" and closed:
        sums = {"error": {"command": 1.0, "speed": -1.0}, "shown": {"raw speed": 1.0}}
    elif loop == "velocity":
        parts[3] = _renamed(parts[3], error="cut")
        sums = {"cut": {"error": 1.0}, "fed back": {"speed": 1.0}}
    elif closed:
        sums = {"error": {"command": kv, "position": -kv, "speed": -1.0}, "shown": {"position": 1.0}}
    else:
        parts[3] = _renamed(parts[3], error="speed error")
        sums = {"speed error": {"error": kv, "speed": -1.0}, "fed back": {"position": 1.0}}
    entry, output = ("command", "shown") if closed else ("error", "fed back")
    return connect([*parts, static(sums, period=period)], inputs=(entry,), outputs=(output,))


def _renamed(block: Block, **names: str) -> Block:
    return replace(block, inputs=tuple(names.get(name, name) for name in block.inputs))


# --- what follows from them -----------------------------------------------------------------------------------------


def spectral_radius(loop: LoopName, load: TwoMass, winding: Winding, gains: Gains) -> float:
    """Return the largest modulus of the closed loop's eigenvalues; below 1 it is stable."""
    return loop_block(loop, load, winding, gains, closed=True).spectral_radius()


def unstable_pairs(load: TwoMass, winding: Winding, gains: Gains) -> int:
    """Return how many pairs of the velocity plant's own poles lie outside the unit circle, its loop open."""
    poles = np.linalg.eigvals(plant_block(load, winding, gains).a)
    return int(np.count_nonzero((np.abs(poles) > 1.0) & (poles.imag > 0.0)))


def step_response(
    loop: LoopName, load: TwoMass, winding: Winding, gains: Gains, *, duration: float
) -> tuple[FloatArray, FloatArray]:
    """Return time and unit-step response of a loop. [s], [1]

    Current at the tick, the others at the velocity sample. No noise, no limits, no friction beyond viscous.
    """
    block = loop_block(loop, load, winding, gains, closed=True)
    n = round(duration / block.period)
    out = block.step(n, output="shown", entry="command")
    # An unstable loop runs away beyond all numbers: hold what no screen shows anyway.
    out = np.clip(np.nan_to_num(out, nan=RUNAWAY, posinf=RUNAWAY, neginf=-RUNAWAY), -RUNAWAY, RUNAWAY)
    return block.period * np.arange(n, dtype=np.float64), out


def current_open(winding: Winding, gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the open current loop: PI, one tick of delay, hold, R-L, all exact at the tick. Shape of `frequency`."""
    block = loop_block("current", RIGID, winding, gains, closed=False)
    return block.response(frequency, output="fed back", entry="error")


def velocity_plant(
    load: TwoMass, winding: Winding, gains: Gains, frequency: FloatArray, *, edge_age: float = 0.0
) -> ComplexArray:
    """Return torque command (before its hold) to measured, unfiltered speed at the velocity sample.

    `edge_age` is how old the last encoder edge is on average when speed is sampled, half a count's time at the speed
    in question. It is a mean over edges, not a state of anything, so it is a factor beside the block. [s]
    """
    plant = plant_block(load, winding, gains).response(frequency, output="raw speed", entry="torque")
    return plant if edge_age == 0.0 else plant * np.exp(-2j * np.pi * frequency * edge_age)


def velocity_controller(gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return speed error to torque command: the parts of `velocity_regulator` multiplied, which is quicker."""
    first, sections = _in_series(gains)
    found = math.prod(part.response(frequency, output=part.outputs[0], entry=part.inputs[0]) for part in first)
    delayed = np.exp(-2j * np.pi * frequency * gains.rates.velocity)
    return np.asarray(found * math.prod(section.response(delayed) for section in sections), dtype=np.complex128)


def feedback_filter(gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the low-pass on the measured speed."""
    return speed_filter(gains).response(frequency, output="speed", entry="raw speed")


def told_speed(gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the mean speed since the last sample to what the device tells of it, unfiltered. [Hz] -> [1]

    A word arrives late. A tracking converter (`tracking_converter`) that is e behind follows by w += T w_t² e and
    T (w + 2 D w_t e), a tick; what it tells is the mean of w over the sample.
    """
    w = 2j * np.pi * frequency
    if gains.sensor.tracking == 0.0:
        return np.asarray(np.exp(-w * gains.sensor.latency), dtype=np.complex128)
    turned = gains.rates.current * gains.sensor.tracking
    late = np.exp(-w * gains.rates.current)
    step = 1 - late
    return np.asarray(turned**2 / (step**2 + late * (turned**2 + 2 * TRACKING_DAMPING * turned * step)))


def position_of_speed(gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return measured speed to measured position.

    A difference of positions is undone by a sum. A tracking converter's position runs ahead of the sum of its speeds
    by its own error, 1 + 2 D (1 - z_i)/(T_i w_t); the speed told is the mean of a sample's ticks, whose sum over
    samples is that over ticks.
    """
    summed = gains.rates.velocity / (1 - np.exp(-2j * np.pi * frequency * gains.rates.velocity))
    if gains.sensor.tracking == 0.0:
        return summed
    tick = gains.rates.current
    step = 1 - np.exp(-2j * np.pi * frequency * tick)
    return summed * (1 + 2 * TRACKING_DAMPING * step / (tick * gains.sensor.tracking))


def position_over_speed(load: TwoMass, winding: Winding, gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the motor's measured speed to the position that is fed back, the load's where it has the device. [s]

    The first needs no model. The second is the shaft's, with the blocks' own sampling: both follow from the same
    voltage, so that their ratio is the same whatever made it.
    """
    if not gains.on_load:
        return position_of_speed(gains, frequency)
    axis = _axis(load, winding, gains, absolute=True)
    place, speed = (axis.response(frequency, output=name, entry="torque") for name in ("position", "raw speed"))
    return place / speed


def closed(loop: ComplexArray) -> ComplexArray:
    """Return L / (1 + L)."""
    return loop / (1 + loop)


def sensitivity(loop: ComplexArray) -> ComplexArray:
    """Return 1 / (1 + L)."""
    return 1 / (1 + loop)


def velocity_open(plant: ComplexArray, gains: Gains, frequency: FloatArray) -> ComplexArray:
    """Return the open velocity loop for a plant from `velocity_plant` or from a measurement."""
    return velocity_controller(gains, frequency) * plant * feedback_filter(gains, frequency)


def position_open(
    plant: ComplexArray, gains: Gains, frequency: FloatArray, over_speed: ComplexArray | None = None
) -> ComplexArray:
    """Return the open position loop around the closed velocity loop.

    `over_speed` is the position fed back over the motor's measured speed, measured or from `position_over_speed`; it
    may be left out where that is the motor's own position. Raises `ValueError` where it is not. [s]
    """
    if over_speed is None:
        if gains.on_load:
            raise ValueError("a position loop on the load needs what the load makes of the motor's speed")
        over_speed = position_of_speed(gains, frequency)
    forward = velocity_controller(gains, frequency) * plant
    return gains.position_gain * forward / (1 + forward * feedback_filter(gains, frequency)) * over_speed


@dataclass(frozen=True, slots=True, eq=False)
class LoopResponses:
    """Open and closed loop and sensitivity of one loop on a grid."""

    frequency: FloatArray
    open: ComplexArray
    closed: ComplexArray
    sensitivity: ComplexArray


def loop_responses(
    load: TwoMass, winding: Winding, gains: Gains, frequency: FloatArray, loops: Sequence[LoopName] = LOOPS
) -> dict[LoopName, LoopResponses]:
    """Return current, velocity and position loop of a model on a grid, or those of them that are asked for.

    Velocity and position loop share plant, regulator and filter: what both need is computed once.
    """
    result: dict[LoopName, LoopResponses] = {}
    if "current" in loops:
        result["current"] = _closed_around(frequency, current_open(winding, gains, frequency))
    if "velocity" not in loops and "position" not in loops:
        return result
    forward = velocity_controller(gains, frequency) * velocity_plant(load, winding, gains, frequency)
    loop = forward * feedback_filter(gains, frequency)
    if "velocity" in loops:
        # Command to measured value: the filter in the velocity feedback is outside the forward path.
        s = sensitivity(loop)
        result["velocity"] = LoopResponses(frequency, loop, forward * s, s)
    if "position" in loops:
        place = position_over_speed(load, winding, gains, frequency)
        result["position"] = _closed_around(frequency, gains.position_gain * forward / (1 + loop) * place)
    return result


def _closed_around(frequency: FloatArray, loop: ComplexArray) -> LoopResponses:
    s = sensitivity(loop)
    return LoopResponses(frequency, loop, loop * s, s)


RIGID = TwoMass(inertia_motor=1.0)  # for the current loop, which knows no load
