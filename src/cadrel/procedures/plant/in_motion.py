"""The velocity plant measured in motion: a multisine on the torque while the axis runs, both ways."""

import math
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from cadrel.core.control import Gains, TwoMass, Winding, feedback_filter
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import PlantFit
from cadrel.core.response import (
    Both,
    FrequencyResponse,
    average_clearer,
    estimate_both,
    random_multisine,
)
from cadrel.core.response.estimate import IntArray
from cadrel.link import Recording
from cadrel.procedures.passes import one_after_the_other, one_pass, to_and_fro
from cadrel.procedures.plant.excitation import (
    BEYOND,
    PASSES,
    PERIOD,
    PERIODS,
    PHASES,
    UNSEEN_SWING,
    WIGGLE,
    Excitation,
    answer,
    bias_speed,
    frequency_of,
    line_shape,
    lines_around,
    most_by_torque,
    most_by_voltage,
    plan_excitation,
    readable_hz,
)
from cadrel.procedures.plant.model import fit_plant
from cadrel.procedures.plant.scatter import (
    ENOUGH,
    FEWEST_PASSES,
    PRECISE,
    is_drowned,
    is_over,
    knows_sensitivity,
    passes_for,
)
from cadrel.procedures.session import FloatArray, Session

HIGHEST = 0.85  # times where the lines beyond begin: above, a first measurement tells how clear they would be


def injected(session: Session) -> dict[str, Any]:
    """Return how a measurement of `measure_plant` is told: where it was injected, at what speed [rad/s], in samples."""
    return {"point": "torque", "bias": bias_speed(session), "repeat": PERIOD, "pass": PERIODS * PERIOD}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MeasuredPlant:
    """Torque command -> unfiltered speed, as passes both ways told it."""

    response: FrequencyResponse
    record: Recording  # all of them, one after the other
    excitation: Excitation  # as it was in the end
    answered: float  # speed, rms over the lines, that a unit of it made [rad/s per N·m]


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
    home = float(session.drive.status()["position"])
    passes = _Passes(session, gains, share, excitation, lines, dense, home, seen, answered)
    if seen is None:
        may_drown = excitation.every == 1
        passes.run(len(PASSES) // 2, may_drown=may_drown)
        if passes.tell_enough(may_drown=may_drown):
            return passes.told()
        with suppress(UnusableInput):  # too little was seen for a model: the lines stay alike
            passes.seen = fit_plant(session, gains, passes.mean())
    passes.run(len(PASSES), may_drown=False)
    if excitation.every > 1 and len(passes.parts) == len(PASSES):
        wanted = passes_for(passes.mean(), len(PASSES))
        if wanted > len(PASSES):
            session.note(f"The device's noise asks for {wanted} passes in place of {len(PASSES)}.")
            passes.run(wanted, may_drown=False)
    return passes.told()


@dataclass(slots=True, eq=False)
class _Passes:
    """Passes of one measurement, as many as have run, and what they tell together."""

    session: Session
    gains: Gains
    share: float  # of the procedure's progress, at which it begins
    excitation: Excitation
    lines: IntArray
    dense: bool
    home: float  # [rad] the middle of every pass
    seen: PlantFit | None  # by which the lines are shaped
    answered: float | None
    rng: np.random.Generator = field(default_factory=lambda: np.random.default_rng(PHASES))
    parts: list[Both] = field(default_factory=list)
    records: list[Recording] = field(default_factory=list)

    def mean(self) -> FrequencyResponse:
        return unfiltered_mean(self.session, self.gains, self.parts, bias_speed(self.session))

    def tell_enough(self, *, may_drown: bool) -> bool:
        if not self.parts:
            return False
        mean = self.mean()
        if self.dense and len(self.parts) % 2 == 0 and knows_sensitivity(mean, self.gains):
            return True
        clear = 0.5 * PRECISE if self.dense else PRECISE
        return is_over(mean, len(self.parts), sure_to=clear, may_drown=may_drown)

    def run(self, wanted: int, *, may_drown: bool) -> None:
        """Go on until there are so many, or enough is told."""
        session, bias, home = self.session, bias_speed(self.session), self.home
        shape = None if self.seen is None else line_shape(self.seen, self.gains, self.lines)
        with to_and_fro(session, "velocity", home, speed=bias):
            if self.seen is None and not self.parts:
                self.excitation = _carefully(session, self.gains, self.excitation, home, self.share, self.answered)
            rms = min(self.excitation.rms, most_by_voltage(session, frequency_of(self.lines, self.gains), shape))
            while len(self.parts) < wanted and not self.tell_enough(may_drown=may_drown):
                k = len(self.parts)
                signal = random_multisine(self.lines, n_samples=PERIOD, rms=rms, rng=self.rng, shape=shape)
                session.enter(
                    f"frequency response, pass {k + 1} of {max(wanted, len(PASSES))}", self.share + 0.3 * k / wanted
                )
                self._add(pass_in_motion(session, signal, home, PASSES[k % len(PASSES)] * bias))

    def _add(self, record: Recording) -> None:
        self.records.append(record)
        self.parts.append(
            estimate_both(
                record["excitation"], record["torque_cmd"], record["velocity"], lines=self.lines, period=PERIOD,
                rate_hz=1 / self.session.rates.velocity,
            )
        )  # fmt: skip

    def told(self) -> MeasuredPlant:
        record = one_after_the_other(self.records)
        return MeasuredPlant(
            response=self.mean(), record=record, excitation=self.excitation,
            answered=_answered(record, self.gains, self.lines),
        )  # fmt: skip


def first_measured(session: Session, gains: Gains) -> MeasuredPlant:
    """Return the plant as it is measured first, nothing but the load run being known; louder where noise covers it."""
    first = measure_plant(session, gains, 0.15, plan_excitation(session, gains))
    if not is_drowned(first.response):
        return first
    session.note("The device's noise covered the answer: measured again with fewer, stronger lines.")
    return measure_plant(session, gains, 0.3, plan_excitation(session, gains, loud=True), answered=first.answered)


def measured_beyond(session: Session, gains: Gains, share: float, first: FrequencyResponse) -> MeasuredPlant | None:
    """Return the plant beyond the lines of its `first` measurement, to near half of its rate, from a pass each way.

    A second shaft may ring there, and a loop that was made on one shaft alone would not know. None where the device
    cannot be read so high: it counts, or its noise covers the highest lines of the first measurement already.
    """
    frequency, bias = frequency_of(BEYOND, gains), bias_speed(session)
    highest = first.frequency > HIGHEST * frequency[0]
    clear = first.std[highest] <= PRECISE * np.abs(first.value[highest])
    if readable_hz(session, bias) < frequency[-1] or np.count_nonzero(clear) < ENOUGH * max(len(clear), 1):
        return None
    excitation = Excitation(rms=min(most_by_torque(session), most_by_voltage(session, frequency)), lines=BEYOND)
    home = float(session.drive.status()["position"])
    motor = TwoMass(inertia_motor=session.axis.motor.inertia)  # so high it swings alone
    answered = math.sqrt(float(np.mean(answer(motor, Winding.from_drive(session.values), gains, BEYOND) ** 2)))
    passes = _Passes(session, gains, share, excitation, BEYOND, False, home, None, answered)
    passes.run(FEWEST_PASSES, may_drown=False)
    return passes.told()


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
    unit = math.sqrt(float(np.mean(answer(alone, Winding.from_drive(session.values), gains, lines) ** 2)))
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
    passed = np.abs(feedback_filter(gains, frequency_of(lines, gains)))
    made = np.abs(np.fft.rfft(speed, axis=1)[:, lines]) / passed
    return float(np.sqrt(np.sum(made**2) / np.sum(np.abs(np.fft.rfft(torque, axis=1)[:, lines]) ** 2)))
