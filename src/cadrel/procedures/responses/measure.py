"""One amplitude of a response: passes with phases of their own, and what they make together."""

import math
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass
from typing import Any

import numpy as np

from cadrel.core.control import (
    Gains,
    TwoMass,
    Winding,
    feedback_filter,
    load_over_motor,
    velocity_open,
    velocity_plant,
)
from cadrel.core.response import (
    FrequencyResponse,
    average_clearer,
    estimate_both,
    random_multisine,
    swept_sine,
    without_ramp,
)
from cadrel.core.response.estimate import IntArray
from cadrel.core.tuning import load_of
from cadrel.link import Recording
from cadrel.procedures.passes import LEAD_IN, fastest_pass, lead_in, one_after_the_other, one_pass, to_and_fro
from cadrel.procedures.plant.excitation import most_by_voltage, readable_hz
from cadrel.procedures.responses.effort import LOUDEST, line_strengths, passes_needed, times_needed, with_neighbours
from cadrel.procedures.responses.request import Request
from cadrel.procedures.session import FloatArray, Session

PASSES, LONG_PASSES = 6, 4  # of the usual period, and of one of several seconds
LOOKED, LOUD_PASSES = 2, 4  # one each way, by which it is seen how loud it has to be; and as loud as that
KEPT_BELOW = 1.2  # times as loud: what was looked at is among the passes
LONG = 8192  # [samples]
PERIODS = 2  # of a pass
BIAS_SHARE = 0.4  # of the speed agreed to, in motion: the excitation's peaks come on top
CLOSELY = 5 / 6  # of the fastest pass, at which one resonance is looked at
SWING_SHARE = 0.25  # of it, rms, that an excitation may make at standstill
SWING_IN_MOTION = 0.2  # rms over the bias: the direction stays
CREST, FILLED = 2.5, 0.8  # of an excitation; share of the limit that it fills, with what load and friction take
HEARD = 0.5  # coherence of a line that the swing is counted of
TRAVEL_SHARE = 0.1  # of the travel agreed to, rms, that it may make
PASS_REACH = 0.85  # of the travel agreed to, that a pass may come to from where it stood
PHASES = 31  # seed of the drawn phases: the same experiment each time
MODES = {"current": "current", "velocity": "velocity", "position": "position"}
POINTS = {"current": "current_d", "velocity": "torque", "position": "velocity"}
CHANNELS = {
    "current": ("i_d_ref", "i_d", "v_d"), "velocity": ("torque_cmd", "velocity"),
    "position": ("velocity_ref", "position"),
}  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Measured:
    """A loop as measured with one amplitude."""

    amplitude: float  # rms of the excitation, in the unit of its point
    plant: FrequencyResponse
    opened: FrequencyResponse
    closed: FrequencyResponse
    record: Recording
    passes: int


def amplitude_of(session: Session, request: Request, factor: float, shape: FloatArray | None = None) -> float:
    """Return the rms of the excitation, less where it would make the axis faster or go farther than agreed to.

    `shape` is how strong its lines are to each other, absent they are alike.
    """
    if request.loop == "current":
        return request.share * factor * session.current_continuous
    lines = request.lines(session.rates)
    swing, way = _answers(session, request, lines, np.ones(len(lines)) if shape is None else shape)
    limit = SWING_IN_MOTION * bias_of(session, request) if request.moving else SWING_SHARE * session.consent.speed
    unit = session.consent.speed if request.loop == "position" else (
        session.axis.motor.torque_constant * session.current_continuous
    )  # fmt: skip
    wanted = request.share * factor * unit
    most = min(limit / max(swing, 1e-12), TRAVEL_SHARE * session.consent.travel / max(way, 1e-12))
    allows = "speed and travel agreed to allow"
    if request.loop == "velocity":
        frequency = lines * request.rate_hz(session.rates) / request.period(session.rates)
        by_voltage = most_by_voltage(session, frequency, shape)
        most, allows = (by_voltage, "the bus allows") if by_voltage < most else (most, allows)
    if wanted > most and shape is None:
        session.note(f"The amplitude was lessened to {100 * most / unit:.2g} %: {allows} no more.")
    return min(wanted, most)


def _answers(session: Session, request: Request, lines: IntArray, shape: FloatArray) -> tuple[float, float]:
    """Speed [rad/s] and way [rad], rms, that an excitation of rms 1 makes in the loop in force."""
    gains = Gains.from_drive(session.values, session.rates)
    frequency = lines * request.rate_hz(session.rates) / request.period(session.rates)
    load, _ = load_of(session.plant, session.values)
    rigid = TwoMass(inertia_motor=session.values["load.inertia"])
    speeds = []
    for model in (load, rigid):
        plant = velocity_plant(model, Winding.from_drive(session.values), gains, frequency)
        loop = velocity_open(plant, gains, frequency)
        motor = np.abs(plant / (1 + loop)) if request.loop == "velocity" else np.abs(loop / (1 + loop))
        speeds.append(motor * np.maximum(1.0, np.abs(load_over_motor(model, frequency))))
    speed = np.maximum(*speeds)
    way = speed / (2 * math.pi * frequency)
    power = shape**2 / np.mean(shape**2)
    return float(np.sqrt(np.mean(power * speed**2))), float(np.sqrt(np.mean(power * way**2)))


def bias_of(session: Session, request: Request) -> float:
    """Return the speed of a pass in motion: its periods fit into the travel agreed to. [rad/s]"""
    # A resonance looked at closely is passed so slowly that friction falls with speed, and undamps it: on the axis of
    # the tests by half where all of the travel is used, by less than the scatter a quarter slower. It is no cure.
    samples = _lead(session, request) + PERIODS * request.period(session.rates)
    fastest = fastest_pass(session, samples * session.rates.velocity)
    return min(BIAS_SHARE * session.consent.speed, CLOSELY * fastest if request.around else fastest)


def _lead(session: Session, request: Request) -> int:
    """Return how many samples of the excitation come before the first period that counts.

    A position loop is slow to come to rest on it, and of a sweep what is out at first are lines of one end. At rest,
    and closely around one resonance, the time costs no speed.
    """
    period = request.period(session.rates)
    short = request.moving and request.loop == "velocity" and request.signal == "multisine" and not request.around
    return lead_in(session, period) if short else period


def measure(session: Session, request: Request, factor: float, share: tuple[float, float]) -> Measured:
    """Measure a loop with one amplitude; `share` is where its progress begins and ends.

    Where it may, it is as loud as friction and noise ask for, told by a first pass each way. The lines that scatter are
    made stronger, by these or by half of the passes. After all of them there are as many more as make the lines that
    are claimed right to `PRECISE`, up to `MOST_PASSES`.
    """
    period, lines = request.period(session.rates), request.lines(session.rates)
    rng = np.random.default_rng(PHASES)
    louder = _may_be_louder(request)
    usual = LOUD_PASSES if louder else LONG_PASSES if period > LONG else PASSES
    home = float(session.drive.status()["position"])
    amplitude, shape = amplitude_of(session, request, factor), None
    records: list[Recording] = []

    def whole() -> Measured:
        return _together(session, request, records, lines, amplitude)

    def run(wanted: int) -> None:
        rms = amplitude if shape is None else min(amplitude, amplitude_of(session, request, factor * LOUDEST, shape))
        most = max(wanted, usual)
        while len(records) < wanted:
            k = len(records)
            done = share[0] + (share[1] - share[0]) * k / most
            session.enter(f"response of the {request.loop} loop, pass {k + 1} of {most}", done)
            signal = _signal(request, lines, period, rms, rng, shape, backwards=k % 2 == 1)
            records.append(_one_pass(session, request, signal, home, direction=1.0 if k % 2 == 0 else -1.0))

    with _powered(session, request, home):
        if request.signal == "multisine":
            run(LOOKED if louder else usual // 2)
            seen = with_neighbours(whole().plant) if louder else whole().plant
            shape = line_strengths(seen, lines, step=request.rate_hz(session.rates) / period)
            if louder:
                asked = times_needed(seen, LOOKED, usual)
                times = min(
                    asked, _most_times(session, request, records, lines, amplitude),
                    amplitude_of(session, request, factor * asked, shape) / amplitude,
                )  # fmt: skip
                if times > KEPT_BELOW:
                    session.note(f"Friction and noise ask for {asked:.2g} times the amplitude; it was {times:.2g}.")
                    amplitude *= times
                    records.clear()
        run(usual)
        if not request.around:  # a mode is fitted to many lines together
            wanted = passes_needed(whole().plant, usual)
            if wanted > usual:
                session.note(f"Friction and noise ask for {wanted} passes in place of {usual}.")
                run(wanted)
    return whole()


def _may_be_louder(request: Request) -> bool:
    """Whether the amplitude is that of the measurement, not of the question: several are to be compared."""
    in_motion = request.loop == "velocity" and request.moving and request.signal == "multisine"
    return request.louder and in_motion and request.amplitudes == 1 and not request.around


def _most_times(
    session: Session, request: Request, records: Sequence[Recording], lines: IntArray, amplitude: float
) -> float:
    """Return how many times as loud it may be: by the swing that was seen, and by the torque that the limit leaves."""
    v = session.values
    answered = _mean_of(session, request, records, lines, "excitation", "velocity")
    # A filter hides what is beyond it; of a line that says nothing the answer is smaller than what covers it.
    size = np.abs(answered.value / feedback_filter(Gains.from_drive(v, session.rates), answered.frequency))
    sure = answered.coherence > HEARD
    swing = amplitude * math.sqrt(float(np.sum(size[sure] ** 2)) / len(lines))
    total = session.plant.total
    taken = v["load.friction"] if total is None else total.coulomb + abs(total.constant)
    motor = session.axis.motor
    room = FILLED * motor.torque_constant * min(v["limit.current"], motor.current_peak) - taken
    return max(1.0, min(SWING_IN_MOTION * bias_of(session, request) / max(swing, 1e-12), room / (CREST * amplitude)))


def _channels(session: Session, request: Request) -> tuple[str, ...]:
    """What is recorded, the answer last; of a position loop the position that it compares."""
    return tuple(session.place if name == "position" else name for name in CHANNELS[request.loop])


def _signal(
    request: Request, lines: IntArray, period: int, rms: float, rng: np.random.Generator,
    shape: FloatArray | None, *, backwards: bool,
) -> FloatArray:  # fmt: skip
    if request.signal == "multisine":
        return random_multisine(lines, n_samples=period, rms=rms, rng=rng, shape=shape)
    swept = swept_sine(int(lines[0]), int(lines[-1]), n_samples=period, rms=rms)
    # Down in every second pass: what a plant distorts falls elsewhere then, and shows as scatter.
    return swept[::-1].copy() if backwards else swept


def _powered(session: Session, request: Request, home: float) -> AbstractContextManager[Any]:
    """Power for several passes in motion; at rest each has its own."""
    if not request.moving:
        return nullcontext()
    return to_and_fro(session, MODES[request.loop], home, speed=bias_of(session, request))


def _one_pass(session: Session, request: Request, signal: FloatArray, home: float, *, direction: float) -> Recording:
    """Inject the periods of one pass and record them: at rest, or running one way through the middle of the travel."""
    channels, point, lead = _channels(session, request), POINTS[request.loop], _lead(session, request)
    if request.moving:
        speed = direction * bias_of(session, request)
        return one_pass(session, channels, point, signal, home=home, speed=speed, repeats=PERIODS, lead=lead)
    divider = 1 if request.loop == "current" else session.rates.ticks
    with session.enabled_around(MODES[request.loop], home):
        session.hold(LEAD_IN)
        record = session.excite_and_record(channels, point, signal, divider=divider, repeats=PERIODS, lead=lead)
    session.standstill()
    return record


def _together(
    session: Session, request: Request, records: Sequence[Recording], lines: IntArray, amplitude: float
) -> Measured:
    """Plant, open and closed loop from all passes; the excitation is the instrument of all of them."""

    def mean_of(entry: str, output: str) -> FrequencyResponse:
        return _mean_of(session, request, records, lines, entry, output)

    record = one_after_the_other(records)
    if request.loop == "current":
        plant, closed = mean_of("v_d", "i_d"), mean_of("i_d_ref", "i_d")
        opened = _through(closed, closed.value / (1 - closed.value), 1 / (1 - closed.value) ** 2, len(records))
    else:
        entry, output = _channels(session, request)
        plant = mean_of(entry, output)
        # What the regulator adds to the excitation is the loop's answer to it: S = entry / excitation, L = 1/S - 1.
        seen = mean_of("excitation", entry)
        opened = _through(seen, 1 / seen.value - 1, 1 / seen.value**2, len(records))
        closed = _through(seen, 1 - seen.value, np.ones_like(seen.value), len(records))
        if request.loop == "velocity":
            filtered = feedback_filter(Gains.from_drive(session.values, session.rates), plant.frequency)
            plant = FrequencyResponse(
                plant.frequency, plant.value / filtered, plant.coherence, plant.std / np.abs(filtered)
            )
    if request.moving:  # beyond, a counted speed comes in jumps
        most = readable_hz(session, bias_of(session, request))
        plant, opened, closed = plant.below(most), opened.below(most), closed.below(most)
    return Measured(amplitude=amplitude, plant=plant, opened=opened, closed=closed, record=record, passes=len(records))


def _mean_of(
    session: Session, request: Request, records: Sequence[Recording], lines: IntArray, entry: str, output: str
) -> FrequencyResponse:
    """One signal to another, the mean over passes, each with the excitation as its instrument."""
    period, rate = request.period(session.rates), request.rate_hz(session.rates)
    return average_clearer(
        [
            estimate_both(
                r["excitation"], r[entry], without_ramp(r[output], period), lines=lines, period=period, rate_hz=rate
            )
            for r in records
        ],
        periods=PERIODS,
    )


def _through(seen: FrequencyResponse, value: np.ndarray, slope: np.ndarray, passes: int) -> FrequencyResponse:
    """A response computed from another, whose std goes with the slope of the computation.

    Where it is small beside the other, as a closed loop is far above its bandwidth, that one's coherence says nothing
    about it: it has what its own size is to the scatter of one pass.
    """
    std = seen.std * np.abs(slope)
    own = 1 / (1 + passes * (std / np.maximum(np.abs(value), 1e-300)) ** 2)
    return FrequencyResponse(seen.frequency, value, np.minimum(seen.coherence, own), std)
