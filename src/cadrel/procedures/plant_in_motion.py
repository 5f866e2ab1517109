"""The velocity plant measured in motion: a multisine on the torque while the axis runs, both ways."""

import math
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from cadrel.core.control import Gains, Rates, TwoMass, Winding, feedback_filter, velocity_open, velocity_plant
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import PlantFit, fit_two_mass
from cadrel.core.parameters import field_of
from cadrel.core.response import (
    Both,
    FrequencyResponse,
    average_clearer,
    estimate_both,
    log_lines,
    random_multisine,
)
from cadrel.core.response.estimate import IntArray
from cadrel.link import Recording
from cadrel.procedures.errors import AnswerInNoise
from cadrel.procedures.passes import fastest_pass, lead_in, one_after_the_other, one_pass, to_and_fro
from cadrel.procedures.session import FloatArray, Session

PERIOD = 2048  # [samples] of the multisine: 0.512 s
LINES = log_lines(2, 500, 90)  # 4 Hz to 1 kHz
NEAR = 40  # lines at the most around one resonance
PASSES = (1.0, -1.0) * 4  # directions; each pass has phases of its own
FEWEST_PASSES = 2  # one each way: where lines are sure after so many, no more are run
MOST_PASSES = 40  # where the noise of the device asks for more, each as long as the others
HOPELESS = 2.0  # times the most passes: what asks for more is not tried at all
PERIODS = 2  # of a pass
EDGES_TO_A_PERIOD = 8.0
WIGGLE = 0.13  # rms of the speed the multisine makes, as a share of the bias: motor and load keep their direction
UNSEEN_SWING = 0.3  # rms over the bias, that the motor alone may make before it was seen what the axis answers
STRONGEST = 3.0  # times the others, of a line that is hardly answered
MOST_VOLTAGE = 0.12  # of the bus, rms: the peaks stay below what speed and friction leave of it
MOST_TORQUE = 0.3  # of the continuous torque, rms: the load's peaks stay below the limit
BIAS_SHARE = 0.4  # of the consented speed: the multisine's peaks come on top
PRECISE = 0.06  # standard deviation over value of a line that may prove or propose something: half a decibel
ENOUGH = 0.6  # share of the lines that must be so
SURE = 0.8  # share of the lines that must be so for a measurement to end early
SENSITIVITY = 0.03  # standard deviation of a loop's sensitivity, of which peaks of 1.4 to 2 are asked: a fiftieth of it
FEWEST = 10  # lines below which nothing is computed
# Share within which the load run has the total inertia: more than twice what 19 in 20 are off by (docs/evidence). Lines
# of a coarse device answer by a tenth too little, all of them, and would make the axis heavier by as much.
INERTIA_KNOWN = 0.04
# Times the travel, that a coarse device wants at the least: twice as fast, more lines are read, and none is surer.
FAR_FASTER = 5.0
LOUDER, THINNED = 1.8, 3  # torque, and every how-manieth line is kept, where the device's noise covers the answer
PHASES = 20  # seed of the drawn phases: the same experiment each time


def _winding(session: Session) -> Winding:
    return Winding.from_drive(session.values)


def edge_age(session: Session, speed: float) -> float:
    """Return how old the last edge is on average when speed is sampled; only a counted speed has edges. [s]"""
    if not session.axis.feedback.kind.has_edges:
        return 0.0
    return 0.5 * 2 * math.pi / session.values["feedback.counts"] / max(abs(speed), 1e-9)


def bias_speed(session: Session) -> float:
    """Return the speed of a measuring pass: its periods and their lead-in fit into the travel. [rad/s]"""
    return speed_of_pass(session, lead_in(session, PERIOD) + PERIODS * PERIOD)


def speed_of_pass(session: Session, samples: int) -> float:
    """Return the speed of a pass that is injected into for so many samples: they fit into the travel. [rad/s]"""
    return min(fastest_pass(session, samples * session.rates.velocity), BIAS_SHARE * session.consent.speed)


def injected(session: Session) -> dict[str, Any]:
    """Return how a measurement of `measure_plant` is told: where it was injected, at what speed [rad/s], in samples."""
    return {"point": "torque", "bias": bias_speed(session), "repeat": PERIOD, "pass": PERIODS * PERIOD}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Excitation:
    """What is injected: torque, on which lines, and how densely they may stand around what resonates."""

    rms: float  # [N·m]
    lines: IntArray = field(default_factory=lambda: LINES)
    every: int = 1  # how-manieth line is used where they are dense


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MeasuredPlant:
    """Torque command -> unfiltered speed, as passes both ways told it."""

    response: FrequencyResponse
    record: Recording  # all of them, one after the other
    excitation: Excitation  # as it was in the end
    answered: float  # speed, rms over the lines, that a unit of it made [rad/s per N·m]


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


def measure_plant(
    session: Session,
    gains: Gains,
    share: float,
    excitation: Excitation,
    *,
    answered: float | None = None,
    seen: PlantFit | None = None,
    dense: bool = False,
) -> MeasuredPlant:
    """Return torque command -> unfiltered speed, from passes in both directions, and all that was recorded.

    Two measurements are comparable at the same excitation only: dead time and friction weigh the less the larger the
    signal. What the axis answers was `answered` or `seen` before; where neither is known, and the motor alone might
    answer far more than planned, one faint pass tells first. Lines at which the plant hardly answers are made stronger:
    by what was `seen` of it before, or after half of the passes by what these saw. `dense` puts lines around what
    resonates.
    Where fewer passes tell enough, one each way at the least, as a fine device without friction to speak of lets them,
    it ends with these: what a model is fitted to may scatter by `PRECISE`, what proves a loop by half of that, or by
    what leaves its sensitivity known (`knows_sensitivity`).
    """
    lines = lines_around(seen, session.rates, excitation) if dense else excitation.lines
    bias = bias_speed(session)
    rng = np.random.default_rng(PHASES)
    home = float(session.drive.status()["position"])
    clear = 0.5 * PRECISE if dense else PRECISE
    drowns = seen is None and excitation.every == 1
    is_planned = seen is not None
    parts: list[Both] = []
    records: list[Recording] = []

    def whole() -> FrequencyResponse:
        return unfiltered_mean(session, gains, parts, bias)

    def tells_enough(*, may_drown: bool) -> bool:
        if not parts:
            return False
        mean = whole()
        if dense and len(parts) % 2 == 0 and knows_sensitivity(mean, gains):
            return True
        return is_over(mean, len(parts), sure_to=clear, may_drown=may_drown)

    def run(wanted: int, *, may_drown: bool) -> None:
        nonlocal excitation
        shape = None if seen is None else line_shape(seen, gains, lines)
        with to_and_fro(session, "velocity", home, speed=bias):
            if not (parts or is_planned):
                excitation = _carefully(session, gains, excitation, home, share, answered)
            rms = min(excitation.rms, most_by_voltage(session, _frequency(lines, gains), shape))
            while len(parts) < wanted and not tells_enough(may_drown=may_drown):
                k, direction = len(parts), PASSES[len(parts) % len(PASSES)]
                signal = random_multisine(lines, n_samples=PERIOD, rms=rms, rng=rng, shape=shape)
                session.enter(
                    f"frequency response, pass {k + 1} of {max(wanted, len(PASSES))}", share + 0.3 * k / wanted
                )
                record = pass_in_motion(session, signal, home, direction * bias)
                records.append(record)
                parts.append(
                    estimate_both(
                        record["excitation"], record["torque_cmd"], record["velocity"], lines=lines, period=PERIOD,
                        rate_hz=1 / session.rates.velocity,
                    )
                )  # fmt: skip

    def told() -> MeasuredPlant:
        record = one_after_the_other(records)
        return MeasuredPlant(
            response=whole(), record=record, excitation=excitation, answered=_answered(record, gains, lines)
        )

    if seen is None:
        run(len(PASSES) // 2, may_drown=drowns)
        if tells_enough(may_drown=drowns):
            return told()
        with suppress(UnusableInput):  # too little was seen for a model: the lines stay alike
            seen = fit_plant(session, gains, whole())
    run(len(PASSES), may_drown=False)
    if excitation.every > 1 and len(parts) == len(PASSES):
        wanted = passes_for(whole(), len(parts))
        if wanted > len(parts):
            session.note(f"The device's noise asks for {wanted} passes in place of {len(parts)}.")
            run(wanted, may_drown=False)
    return told()


def first_measured(session: Session, gains: Gains) -> MeasuredPlant:
    """Return the plant as it is measured first, nothing but the load run being known; louder where noise covers it."""
    first = measure_plant(session, gains, 0.15, plan_excitation(session, gains))
    if not is_drowned(first.response):
        return first
    session.note("The device's noise covered the answer: measured again with fewer, stronger lines.")
    return measure_plant(session, gains, 0.3, plan_excitation(session, gains, loud=True), answered=first.answered)


def unfiltered_mean(session: Session, gains: Gains, parts: Sequence[Both], bias: float) -> FrequencyResponse:
    """Return the mean of several passes up to where the device can be read, the speed filter taken out."""
    mean = average_clearer(parts, periods=PERIODS).below(readable_hz(session, bias))
    filtered = feedback_filter(gains, mean.frequency)
    return replace(mean, value=mean.value / filtered, std=mean.std / np.abs(filtered))


def pass_in_motion(
    session: Session, signal: FloatArray, home: float, speed: float, *, lead: int | None = None, finer: int = 1
) -> Recording:
    """Run through the middle of the travel at a speed, torque injected meanwhile, and record `PERIODS` of it.

    Within `to_and_fro`; the speed has the sign of its direction. [rad/s]; `home` is the middle. [rad]
    """
    channels = ["torque_cmd", "velocity", "i_q", *(["load_position"] if session.on_load else [])]
    return one_pass(
        session, channels, "torque", signal, home=home, speed=speed, repeats=PERIODS, lead=lead, finer=finer
    )


def passes_for(measured: FrequencyResponse, done: int) -> int:
    """Return how many passes make enough lines precise, noise falling with their root; those done if none would do."""
    noise = _scatter(measured, ENOUGH)
    needed = 2 * math.ceil(0.5 * done * (noise / PRECISE) ** 2)
    return min(needed, MOST_PASSES) if done < needed <= HOPELESS * MOST_PASSES else done


def is_over(measured: FrequencyResponse, done: int, *, sure_to: float, may_drown: bool) -> bool:
    """Whether more passes would tell nothing more, as many having run one way as the other.

    Enough lines are `sure_to` a share of their value; or, where a measurement `may_drown`, noise would cover too many
    of them after all passes as well: it falls with their root.
    """
    if done < FEWEST_PASSES or done % 2:
        return False
    if _scatter(measured, SURE) <= sure_to:
        return True
    return may_drown and done < len(PASSES) and _scatter(measured, ENOUGH) > PRECISE * math.sqrt(len(PASSES) / done)


def knows_sensitivity(measured: FrequencyResponse, gains: Gains) -> bool:
    """Whether enough lines are precise, and nineteen in twenty of them tell the loop's sensitivity to `SENSITIVITY`.

    What a line scatters by matters as far as it moves 1 / (1 + L): that is by the line's own share, times both closed
    responses. Where the loop has much gain or hardly any, one of them is small.
    """
    if _scatter(measured, ENOUGH) > PRECISE:
        return False
    loop = velocity_open(measured.value, gains, measured.frequency)
    error = measured.std / np.abs(measured.value) * np.abs(loop / (1 + loop) ** 2)
    return float(np.quantile(error, 0.95)) <= SENSITIVITY


def _scatter(measured: FrequencyResponse, share: float) -> float:
    """Return the standard deviation over the value that a share of the lines keeps."""
    return float(np.quantile(measured.std / np.abs(measured.value), share)) if len(measured.frequency) else math.inf


def fit_plant(session: Session, gains: Gains, measured: FrequencyResponse, *, near: PlantFit | None = None) -> PlantFit:
    """Return the model of a plant measured at the bias, from what the load run found on, or from one found before.

    Raises
    ------
    UnusableInput
        Too few lines can be trusted.
    """
    winding, age = _winding(session), edge_age(session, bias_speed(session))
    return session.computed(
        lambda: fit_two_mass(
            measured,
            winding,
            gains,
            inertia=session.values["load.inertia"],
            viscous=session.plant.total.viscous_total if session.plant.total else 0.0,
            edge_age=age,
            near=near,
            known=_inertia_known(session),
            motor_inertia=session.axis.motor.inertia,
        )
    )


def _inertia_known(session: Session) -> float:
    """Share within which the load run has the total inertia: what is usual, or twice what it says of itself."""
    total = session.plant.total
    return INERTIA_KNOWN if total is None else max(INERTIA_KNOWN, 2 * total.inertia_std / total.inertia)


def answer(load: TwoMass, winding: Winding, gains: Gains, lines: IntArray) -> FloatArray:
    """Speed that a unit of injected torque makes in the closed loop, on every line. [rad/s per N·m]"""
    f = _frequency(lines, gains)
    plant = velocity_plant(load, winding, gains, f)
    return np.abs(plant / (1 + velocity_open(plant, gains, f)))


def line_shape(seen: PlantFit, gains: Gains, lines: IntArray = LINES) -> FloatArray:
    """Return how strong each line is made: the weaker the closed loop answers it, up to `STRONGEST` times."""
    answered = answer(seen.load, seen.winding, gains, lines)
    return np.clip(float(np.median(answered)) / answered, 1.0, STRONGEST)


def readable_hz(session: Session, bias: float) -> float:
    """Up to where a counted speed answers linearly: with few edges to a period of the line it comes in jumps. [Hz]"""
    if not session.axis.feedback.kind.counts_lines:
        return math.inf
    return abs(bias) * session.values["feedback.counts"] / (2 * math.pi) / EDGES_TO_A_PERIOD


def plan_excitation(session: Session, gains: Gains, *, loud: bool = False, seen: PlantFit | None = None) -> Excitation:
    """Return an excitation whose answer in the closed loop stays well below the bias speed.

    It rests on the total inertia, and on the model `seen` of the axis where there is one. A `loud` one has fewer lines,
    each the stronger for it, and more torque: for a device whose noise covers the rest.
    """
    rigid = TwoMass(inertia_motor=session.values["load.inertia"])
    loads = [rigid] if seen is None else [rigid, seen.load]
    unit = max(math.sqrt(float(np.mean(answer(load, _winding(session), gains, LINES) ** 2))) for load in loads)
    rms = WIGGLE * bias_speed(session) / unit
    most = most_by_voltage(session, _frequency(LINES, gains))
    if not loud:
        return Excitation(rms=min(rms, _most(session), most))
    return Excitation(rms=min(LOUDER * rms, 2 * _most(session), most), lines=LINES[::THINNED], every=THINNED)


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


def _carefully(
    session: Session, gains: Gains, excitation: Excitation, home: float, share: float, answered: float | None
) -> Excitation:
    """Return an excitation lessened to what the axis answers, where the motor alone might answer far more.

    A plan rests on the total inertia. Beyond a low anti-resonance the motor swings alone, as many times as much as the
    load weighs: where that could carry it beyond the bias, and what it `answered` is not known, one faint pass tells.
    Within `to_and_fro`.
    """
    alone = TwoMass(inertia_motor=session.axis.motor.inertia)
    lines, bias = excitation.lines, bias_speed(session)
    unit = math.sqrt(float(np.mean(answer(alone, _winding(session), gains, lines) ** 2)))
    if excitation.rms * unit <= UNSEEN_SWING * bias:
        return excitation
    if answered is None:
        session.enter("how much the axis answers", share)
        rms = UNSEEN_SWING * bias / unit
        signal = random_multisine(lines, n_samples=PERIOD, rms=rms, rng=np.random.default_rng(PHASES))
        answered = _answered(pass_in_motion(session, signal, home, bias), gains, lines)
    return replace(excitation, rms=min(excitation.rms, WIGGLE * bias / answered))


def _answered(record: Recording, gains: Gains, lines: IntArray) -> float:
    """Return the speed that a unit of injected torque made on the lines, rms over all passes. [rad/s per N·m]"""
    speed, torque = (record[k].reshape(-1, PERIODS, PERIOD).mean(1) for k in ("velocity", "excitation"))
    passed = np.abs(feedback_filter(gains, _frequency(lines, gains)))
    made = np.abs(np.fft.rfft(speed, axis=1)[:, lines]) / passed
    return float(np.sqrt(np.sum(made**2) / np.sum(np.abs(np.fft.rfft(torque, axis=1)[:, lines]) ** 2)))


def _frequency(lines: IntArray, gains: Gains) -> FloatArray:
    return np.asarray(lines / (PERIOD * gains.rates.velocity), dtype=np.float64)


def _most(session: Session) -> float:
    return MOST_TORQUE * session.axis.motor.torque_constant * session.current_continuous


def is_drowned(measured: FrequencyResponse) -> bool:
    """Whether the device's noise covers the answer on too many lines."""
    return len(measured.precise(PRECISE).frequency) < ENOUGH * len(measured.frequency)


def require_lines(session: Session, measured: FrequencyResponse, excitation: Excitation, *, share: float) -> None:
    """Raise `AnswerInNoise` where too few lines are known to a share of their value; it says what would help."""
    known = len(measured.precise(share).frequency)
    if known >= FEWEST:
        return
    noise = float(np.median(measured.std / np.abs(measured.value)))
    raise AnswerInNoise(
        few=known, lines=len(measured.frequency), noise=100 * noise, remedy=_remedy(session, excitation, noise / share)
    )


def _remedy(session: Session, excitation: Excitation, factor: float) -> str:
    """What makes the answer stronger by a factor: speed or travel agreed to, as long as the torque allows more."""
    gains = Gains.from_drive(session.values, session.rates)
    by_speed = bias_speed(session) >= 0.99 * BIAS_SHARE * session.consent.speed
    field = field_of("procedure.velocity" if by_speed else "procedure.travel")
    if excitation.rms >= 0.99 * min(2 * _most(session), most_by_voltage(session, _frequency(excitation.lines, gains))):
        finer = "improve the device's signal (cable, shield, amplitude), or fit a finer device."
        enough = "The torque of the excitation is as large as motor and bus allow"
        if by_speed:
            return f"{enough}: {finer}"
        # A device's steps and noise weigh less the faster it passes, and passes within little travel are slow.
        times = max(factor, FAR_FASTER)
        return f"{enough}. Raise {field} to at least {times:.1f} times, so that it passes faster; or {finer}"
    return f"Raise {field} to at least {max(factor, 1.2):.1f} times, or improve the device's signal."
