"""What is injected to measure the plant in motion: torque, on which lines, how much of it, at what speed."""

import math
from dataclasses import dataclass, field

import numpy as np

from cadrel.core.control import Gains, Rates, TwoMass, Winding, velocity_open, velocity_plant
from cadrel.core.identification import PlantFit
from cadrel.core.response import (
    log_lines,
)
from cadrel.core.response.estimate import IntArray
from cadrel.procedures.passes import fastest_pass, lead_in
from cadrel.procedures.session import FloatArray, Session

PERIOD = 2048  # [samples] of the multisine: 0.512 s
LINES = log_lines(2, 500, 90)  # 4 Hz to 1 kHz
BEYOND = np.arange(512, 950, 6)  # lines: 1.0 to 1.86 kHz, no farther apart than a steel shaft's resonance is wide there
NEAR = 40  # lines at the most around one resonance
PASSES = (1.0, -1.0) * 4  # directions; each pass has phases of its own
PERIODS = 2  # of a pass
EDGES_TO_A_PERIOD = 8.0
WIGGLE = 0.13  # rms of the speed the multisine makes, as a share of the bias: motor and load keep their direction
UNSEEN_SWING = 0.3  # rms over the bias, that the motor alone may make before it was seen what the axis answers
STRONGEST = 3.0  # times the others, of a line that is hardly answered
MOST_VOLTAGE = 0.12  # of the bus, rms: the peaks stay below what speed and friction leave of it
MOST_TORQUE = 0.3  # of the continuous torque, rms: the load's peaks stay below the limit
BIAS_SHARE = 0.4  # of the consented speed: the multisine's peaks come on top
LOUDER, THINNED = 1.8, 3  # torque, and every how-manieth line is kept, where the device's noise covers the answer
PHASES = 20  # seed of the drawn phases: the same experiment each time


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Excitation:
    """What is injected: torque, on which lines, and how densely they may stand around what resonates."""

    rms: float  # [N·m]
    lines: IntArray = field(default_factory=lambda: LINES)
    every: int = 1  # how-manieth line is used where they are dense


def plan_excitation(session: Session, gains: Gains, *, loud: bool = False, seen: PlantFit | None = None) -> Excitation:
    """Return an excitation whose answer in the closed loop stays well below the bias speed.

    It rests on the total inertia, and on the model `seen` of the axis where there is one. A `loud` one has fewer lines,
    each the stronger for it, and more torque: for a device whose noise covers the rest.
    """
    rigid = TwoMass(inertia_motor=session.values["load.inertia"])
    loads = [rigid] if seen is None else [rigid, seen.load]
    unit = max(
        math.sqrt(float(np.mean(answer(load, Winding.from_drive(session.values), gains, LINES) ** 2))) for load in loads
    )
    rms = WIGGLE * bias_speed(session) / unit
    most = most_by_voltage(session, frequency_of(LINES, gains))
    if not loud:
        return Excitation(rms=min(rms, most_by_torque(session), most))
    return Excitation(rms=min(LOUDER * rms, 2 * most_by_torque(session), most), lines=LINES[::THINNED], every=THINNED)


def most_by_voltage(session: Session, frequency: FloatArray, shape: FloatArray | None = None) -> float:
    """Return the torque, rms, that lines may have together before their voltage nears what the bus has. [N·m]

    A winding of much inductance asks for more than there is on the highest lines: the current would not follow, and
    what was injected would not be what is answered.
    """
    v = session.values
    impedance = np.hypot(v["motor.resistance"], 2 * math.pi * frequency * v["motor.inductance"])
    power = np.ones(len(frequency)) if shape is None else shape**2 / np.mean(shape**2)
    volts = math.sqrt(float(np.mean(power * impedance**2)))  # of 1 A rms
    return session.axis.motor.torque_constant * MOST_VOLTAGE * session.axis.bus_voltage / volts


def most_by_torque(session: Session) -> float:
    """Return the torque, rms, that leaves the load's peaks below the limit. [N·m]"""
    return MOST_TORQUE * session.axis.motor.torque_constant * session.current_continuous


def lines_around(seen: PlantFit | None, rates: Rates, excitation: Excitation) -> IntArray:
    """Return the lines of a measurement: spread evenly, and every one there is around a resonance seen before."""
    lines = [excitation.lines]
    if seen is not None:
        step = 1 / (PERIOD * rates.velocity)
        for centre in (seen.load.resonance_hz, seen.load.antiresonance_hz):
            if centre is not None and LINES[0] * step < centre < LINES[-1] * step:
                lines.append(
                    np.arange(math.floor(0.94 * centre / step), math.ceil(1.06 * centre / step) + 1)[:NEAR][
                        :: excitation.every
                    ]
                )
    found = np.unique(np.concatenate(lines))
    return found[(found >= LINES[0]) & (found <= LINES[-1])]


def line_shape(seen: PlantFit, gains: Gains, lines: IntArray = LINES) -> FloatArray:
    """Return how strong each line is made: the weaker the closed loop answers it, up to `STRONGEST` times."""
    answered = answer(seen.load, seen.winding, gains, lines)
    return np.clip(float(np.median(answered)) / answered, 1.0, STRONGEST)


def answer(load: TwoMass, winding: Winding, gains: Gains, lines: IntArray) -> FloatArray:
    """Speed that a unit of injected torque makes in the closed loop, on every line. [rad/s per N·m]"""
    f = frequency_of(lines, gains)
    plant = velocity_plant(load, winding, gains, f)
    return np.abs(plant / (1 + velocity_open(plant, gains, f)))


def frequency_of(lines: IntArray, gains: Gains) -> FloatArray:
    """Return where lines of the multisine lie. [Hz]"""
    return np.asarray(lines / (PERIOD * gains.rates.velocity), dtype=np.float64)


def bias_speed(session: Session) -> float:
    """Return the speed of a measuring pass: its periods and their lead-in fit into the travel. [rad/s]"""
    return speed_of_pass(session, lead_in(session, PERIOD) + PERIODS * PERIOD)


def speed_of_pass(session: Session, samples: int) -> float:
    """Return the speed of a pass that is injected into for so many samples: they fit into the travel. [rad/s]"""
    return min(fastest_pass(session, samples * session.rates.velocity), BIAS_SHARE * session.consent.speed)


def edge_age(session: Session, speed: float) -> float:
    """Return how old the last edge is on average when speed is sampled; only a counted speed has edges. [s]"""
    if not session.axis.feedback.kind.has_edges:
        return 0.0
    return 0.5 * 2 * math.pi / session.values["feedback.counts"] / max(abs(speed), 1e-9)


def readable_hz(session: Session, bias: float) -> float:
    """Up to where a counted speed answers linearly: with few edges to a period of the line it comes in jumps. [Hz]"""
    if not session.axis.feedback.kind.counts_lines:
        return math.inf
    return abs(bias) * session.values["feedback.counts"] / (2 * math.pi) / EDGES_TO_A_PERIOD
