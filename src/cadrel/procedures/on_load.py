"""A position loop on the load: what the load makes of the motor's motion, told by the device on it."""

import math
from dataclasses import dataclass

import numpy as np

from cadrel.core.control import Gains, TwoMass, feedback_filter, load_over_motor, position_of_speed
from cadrel.core.control.load import ComplexArray
from cadrel.core.response import (
    FrequencyResponse,
    average_clearer,
    curve_of,
    estimate_both,
    without_ramp,
)
from cadrel.link import Recording
from cadrel.procedures.outcome import Finding, RunRecord
from cadrel.procedures.plant.excitation import PERIOD, PERIODS, plan_excitation
from cadrel.procedures.plant.in_motion import injected, measure_plant
from cadrel.procedures.plant.scatter import PRECISE, require_lines
from cadrel.procedures.session import FloatArray, Session

KNOWN = 0.15  # standard deviation over value of a line on which the load's answer counts
PUSHES = 0.6  # of the largest acceleration, from which the load surely lies against one side of its gap
FEWEST = 40  # samples of either sign
STIFFNESS_KNOWN = 0.05  # share to which an identified shaft is as stiff as it was found
GRID = 300  # points of the model's curve
TOLD_FROM = 2.0  # standard deviations, from which a gap is one


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class LoadAnswer:
    """The axis as its position loop on the load meets it, on the lines that both devices tell."""

    plant: FrequencyResponse  # torque command to the motor's raw speed
    over_speed: ComplexArray  # position of the load over that speed [s]; shape of the plant's lines
    run: RunRecord


def measure_on_load(session: Session, gains: Gains, model: TwoMass, share: float) -> LoadAnswer:
    """Shake the axis in motion under its velocity loop, and read the answers of motor and load.

    The `model` of the load is only laid beside what is measured.

    Raises
    ------
    AnswerInNoise
        Too few lines can be told from the noise of both devices.
    """
    plant = measure_plant(session, gains, share, plan_excitation(session, gains))
    measured, record = plant.response, plant.record
    require_lines(session, measured, plant.excitation, share=PRECISE)
    answered = _over_speed(session, gains, measured, record)
    known = (answered.std < KNOWN * np.abs(answered.value)) & (measured.std < PRECISE * np.abs(measured.value))
    told = FrequencyResponse(*(row[known] for row in _rows(measured)))
    require_lines(session, told, plant.excitation, share=PRECISE)
    ratio = answered.value[known] / position_of_speed(gains, told.frequency)
    grid = np.geomspace(told.frequency[0], told.frequency[-1], GRID)
    run = RunRecord(
        kind="load_answer",
        title="The load's motion over the motor's",
        period=record.period,
        channels=record.channels,
        excitation=injected(session),
        metrics={"lines": int(known.sum())},
        curves={
            "loop": "position", "plant_measured": curve_of(told.frequency, ratio, answered.coherence[known]),
            "plant_model": curve_of(grid, load_over_motor(model, grid)), "plant_db": "dB (load over motor)",
            "plant_title": "The load's motion over the motor's",
        },
    )  # fmt: skip
    return LoadAnswer(plant=told, over_speed=answered.value[known], run=run)


def _rows(response: FrequencyResponse) -> tuple[np.ndarray, ...]:
    return response.frequency, response.value, response.coherence, response.std


def _over_speed(session: Session, gains: Gains, measured: FrequencyResponse, record: Recording) -> FrequencyResponse:
    """Motor's raw speed to the position of the load, on the plant's lines; the excitation is the instrument of both."""
    length = injected(session)["pass"]
    lines = np.rint(measured.frequency * PERIOD * record.period).astype(int)
    parts = []
    for begin in range(0, len(record["excitation"]), length):
        one = slice(begin, begin + length)
        place = without_ramp(record["load_position"][one].astype(np.float64), PERIOD)
        parts.append(
            estimate_both(
                record["excitation"][one], record["velocity"][one], place, lines=lines, period=PERIOD,
                rate_hz=1 / record.period,
            )
        )  # fmt: skip
    mean = average_clearer(parts, periods=PERIODS)
    filtered = feedback_filter(gains, mean.frequency)
    return FrequencyResponse(mean.frequency, mean.value * filtered, mean.coherence, mean.std * np.abs(filtered))


def apart(record: Recording) -> FloatArray:
    """By how much the motor is ahead of the load, from where both were when the record begins. [rad] at the motor"""
    away = record["position"].astype(np.float64) - record["load_position"]
    return np.asarray(away - away[0])


def play_in_motion(session: Session, record: Recording) -> list[Finding]:
    """The gap between motor and load as a real move shows it, by the torque that its shaft carries meanwhile.

    Whichever way the load is pushed, its shaft lies against that side of the gap and is twisted by the torque: what is
    the same on both sides is the twist, what jumps with the sign is the gap. The torque is that of the planned
    acceleration, of the load's share of the inertia as identified, and of half the friction. Empty where the load was
    not identified, or the gap is within what the device on the load resolves.

    Notes
    -----
    Not read at rest: there a motor may stand anywhere between both sides, the load being where it should.
    """
    springy, total = session.plant.springy, session.plant.total
    if springy is None or total is None or springy.load.stiffness is None:
        return []
    stiffness = springy.load.stiffness * (1 + springy.rise) ** 2  # with the gap closed
    rate, speed = record["acceleration_ref"].astype(np.float64), record["velocity"].astype(np.float64)
    carried = springy.load.inertia_load * rate + 0.5 * total.coulomb * np.sign(speed) + total.constant
    pushes = np.abs(rate) > PUSHES * np.abs(rate).max()
    pushes &= np.sign(carried) == np.sign(rate)
    if np.count_nonzero(pushes & (rate > 0)) < FEWEST or np.count_nonzero(pushes & (rate < 0)) < FEWEST:
        return []
    columns = np.stack([np.sign(rate), np.ones(len(rate))], axis=1)[pushes]
    away = (apart(record) - carried / stiffness)[pushes]
    found, *_ = np.linalg.lstsq(columns, away, rcond=None)
    left = away - columns @ found
    # Samples next to each other tell the same: as many are counted as there are times the load is pushed.
    times = max(int(np.count_nonzero(np.diff(pushes.astype(int)) == 1)) - columns.shape[1], 1)
    value, std = 2 * float(found[0]), 2 * float(left.std()) / math.sqrt(times)
    twist = STIFFNESS_KNOWN * float(np.mean(np.abs(carried[pushes]))) / stiffness
    std = math.hypot(std, 2 * twist, session.place_count / math.sqrt(6.0))
    if value < TOLD_FROM * std:
        return []
    return [
        Finding(kind="play_in_motion", label="Play between motor and load in this move, at the motor",
                value=math.degrees(value), unit="°", std=math.degrees(std), run=0)
    ]  # fmt: skip
