"""A position loop on the load: what the load makes of the motor's motion, told by the device on it."""

import math
from dataclasses import dataclass

import numpy as np

from cadrel.core.control import Gains, feedback_filter, position_of_speed
from cadrel.core.control.load import ComplexArray
from cadrel.core.response import (
    FrequencyResponse,
    average_responses,
    curve_of,
    estimate_response,
    without_ramp,
)
from cadrel.link import Recording
from cadrel.procedures.outcome import Finding, RunRecord
from cadrel.procedures.plant_in_motion import (
    PERIOD,
    PRECISE,
    bias_speed,
    carefully,
    measure_plant,
    plan_excitation,
    require_lines,
)
from cadrel.procedures.session import FloatArray, Session

KNOWN = 0.15  # standard deviation over value of a line on which the load's answer counts
AT_AN_END = 0.25  # of a dwell, its last: there the axis rests
ACTIVE = 0.5  # of a state that is 0 or 1
TOLD_FROM = 2.0  # counts of the device on the load, from which a difference of positions is one


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LoadAnswer:
    """The axis as its position loop on the load meets it, on the lines that both devices tell."""

    plant: FrequencyResponse  # torque command to the motor's raw speed
    over_speed: ComplexArray  # position of the load over that speed [s]; shape of the plant's lines
    run: RunRecord


def measure_on_load(session: Session, gains: Gains, share: float) -> LoadAnswer:
    """Shake the axis in motion under its velocity loop, and read the answers of motor and load.

    Raises
    ------
    AnswerInNoise
        Too few lines can be told from the noise of both devices.
    """
    excitation = carefully(session, gains, plan_excitation(session, gains), share)
    measured, record = measure_plant(session, gains, share, excitation)
    require_lines(session, measured, excitation, share=PRECISE)
    answered = _over_speed(session, gains, measured, record)
    known = (answered.std < KNOWN * np.abs(answered.value)) & (measured.std < PRECISE * np.abs(measured.value))
    told = FrequencyResponse(*(row[known] for row in _rows(measured)))
    require_lines(session, told, excitation, share=PRECISE)
    ratio = answered.value[known] / position_of_speed(gains, told.frequency)
    run = RunRecord(
        kind="load_answer",
        title="The load's motion over the motor's",
        period=record.period,
        channels=record.channels,
        excitation={"point": "torque", "bias": bias_speed(session)[0], "repeat": PERIOD},
        metrics={"lines": int(known.sum())},
        curves={"loop": "position", "measured_plant": curve_of(told.frequency, ratio, answered.coherence[known]),
                "plant_db": "dB (load over motor)"},
    )  # fmt: skip
    return LoadAnswer(plant=told, over_speed=answered.value[known], run=run)


def _rows(response: FrequencyResponse) -> tuple[np.ndarray, ...]:
    return response.frequency, response.value, response.coherence, response.std


def _over_speed(session: Session, gains: Gains, measured: FrequencyResponse, record: Recording) -> FrequencyResponse:
    """Motor's raw speed to the position of the load, on the plant's lines; the excitation is the instrument of both."""
    length = (bias_speed(session)[1] + 1) * PERIOD
    lines = np.rint(measured.frequency * PERIOD * record.period).astype(int)
    parts = []
    for begin in range(0, len(record["excitation"]), length):
        one = slice(begin, begin + length)
        place = without_ramp(record["load_position"][one].astype(np.float64), PERIOD)
        parts.append(
            estimate_response(
                record["excitation"][one], record["velocity"][one], place, lines=lines, period=PERIOD,
                rate_hz=1 / record.period,
            )
        )  # fmt: skip
    mean = average_responses(parts)
    filtered = feedback_filter(gains, mean.frequency)
    return FrequencyResponse(mean.frequency, mean.value * filtered, mean.coherence, mean.std * np.abs(filtered))


def apart(record: Recording) -> FloatArray:
    """By how much the motor is ahead of the load, from where both were when the record begins. [rad] at the motor"""
    away = record["position"].astype(np.float64) - record["load_position"]
    return np.asarray(away - away[0])


def lost_motion(session: Session, record: Recording) -> list[Finding]:
    """By how much motor and load part between both ends of strokes out and back: play, and what friction twists.

    Empty where the device on the load does not resolve it.
    """
    active, away, command = record["profile_active"] > ACTIVE, apart(record), record["position_ref"]
    begins = np.nonzero(np.diff(active.astype(int)) == 1)[0] + 1
    ends = np.nonzero(np.diff(active.astype(int)) == -1)[0] + 1
    rests: dict[float, list[float]] = {1.0: [], -1.0: []}
    for begin, end, stop in zip(begins, ends, [*begins[1:], len(active)], strict=False):
        rest = slice(end + round((1 - AT_AN_END) * (stop - end)), stop)
        rests[float(np.sign(command[stop - 1] - command[begin]) or 1.0)].append(float(away[rest].mean()))
    if not rests[1.0] or not rests[-1.0]:
        return []
    value = float(np.mean(rests[1.0]) - np.mean(rests[-1.0]))
    if abs(value) < TOLD_FROM * session.place_count:
        return []
    spread = math.hypot(*(float(np.std(r)) / math.sqrt(max(len(r) - 1, 1)) for r in rests.values()))
    return [
        Finding(
            kind="lost_motion", label="Lost motion between motor and load, at the motor", value=abs(value), unit="rad",
            std=math.hypot(spread, session.place_count / math.sqrt(6.0)), run=0,
        )
    ]  # fmt: skip
