"""The velocity plant measured, the proposal on it, and what it gives: before and after."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, Winding, feedback_filter
from cadrel.core.identification import PlantFit, Play
from cadrel.core.identification.two_mass import ROUGH
from cadrel.core.response import FrequencyResponse, folded, measure_step
from cadrel.core.tuning import LEAST_DAMPING, TuningRefused, noise_behind, tune_position, tune_velocity
from cadrel.core.verdict import Criterion
from cadrel.procedures.declaration import Procedure, declare, plan_within_travel
from cadrel.procedures.errors import AxisStopped
from cadrel.procedures.judging import (
    AT_REST,
    NOISE_SECONDS,
    at_rest_after_a_kick,
    at_rest_after_a_stroke,
    go_back_unless_proven,
    kick_size,
)
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.plant_in_motion import (
    APPROACH,
    PRECISE,
    Excitation,
    bias_speed,
    carefully,
    fit_plant,
    is_drowned,
    measure_plant,
    plan_excitation,
    require_lines,
)
from cadrel.procedures.play import Closed, damping_of, rise_of, swung_closed
from cadrel.procedures.session import Session
from cadrel.procedures.velocity_report import STEP_SECONDS, Tried, outcome_of, plant_run, velocity_values

MOST_ROOM = (math.radians(12), 4.0, 0.2)  # [rad], [dB], share of the peak: what a second try asks for beyond
KICK = 0.05  # of the speed agreed to
FIRMLY = 2.0  # a limit cycle does not fall with the gain as noise does: more is taken back than noise would ask
UNEXPLAINED, HEARD = 2.5, 1.0  # times the ripple that noise explains, and of the budget: beyond both it hunts
CALM = 0.3  # damping of a section's poles at the least, for an axis that hunts
WITHIN = 0.92  # of the ripple asked for, that a proposal may use: a look of a quarter second scatters by as much
JUST = 1.1  # how much more noise is owed for, where it is mere noise
MOST_AT_ONCE = 6.0  # times the budget: a loop that hunts gets so much less gain in the next proposal
MORE_TRIES = 3  # proposals after one that missed what was asked
WORTH_SAYING = 0.01  # share by which a resonance moves
SWAYS_HZ = 100.0  # below, an axis at rest moves by itself


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Seen:
    """What a proposal rests on."""

    measured: FrequencyResponse
    fit: PlantFit
    closed: Closed | None  # the resonance swung strongly
    moved: float  # share by which the resonance moves with amplitude, beside its play
    noise: float  # [rad/s] of the raw speed that a proposal must bear: the device's, or what hunting is owed for
    device: float  # [rad/s] of it the device's own, as it stood under the loop from before
    hunts: bool = False  # it trembles at rest by more than the noise explains

    @property
    def play(self) -> Play | None:
        """The gap between motor and load, where one is seen."""
        return self.closed.play if self.closed is not None and self.closed.play.is_seen else None

    def asked(self, asked: Robustness) -> Robustness:
        """Return what must be honoured on this plant."""
        rise, damping = rise_of(self.closed, self.fit), damping_of(self.closed, self.fit)
        return asked.where_it_moves(self.moved, rise=rise, damping=damping)


def run_velocity_loop(session: Session) -> Outcome:
    """Measure the plant, fit the model, propose and write gains, measure again.

    Raises
    ------
    TuningRefused
        Nothing honours the margins asked for; the drive keeps its gains.
    """
    before = Gains.from_drive(session.refresh(), session.rates)
    old_step = _step(session, 0.05)
    noise = _noise_at_rest(session, before)
    excitation = carefully(session, before, plan_excitation(session, before), 0.14)
    measured, first_record = measure_plant(session, before, 0.15, excitation)
    if is_drowned(measured):
        session.note("The device's noise covered the answer: measured again with fewer, stronger lines.")
        excitation = carefully(session, before, plan_excitation(session, before, loud=True), 0.29)
        measured, first_record = measure_plant(session, before, 0.3, excitation)
    require_lines(session, measured, excitation, share=ROUGH)
    fit = fit_plant(session, before, measured)
    seen = _Seen(
        measured=measured, fit=fit, closed=swung_closed(session, before, fit, 0.38), moved=0.0, noise=noise,
        device=noise,
    )  # fmt: skip
    try:
        asked = seen.asked(session.axis.robustness)
        try:
            outcome, seen = _tuned(session, before, seen, excitation, old_step, asked)
        except AxisStopped as stopped:
            if not stopped.ran_away:
                raise
            session.note(f"A proposal ran away: {stopped.text} Tuned anew with more room.")
            session.stand_again()
            asked = _after_running_away(asked)
            seen = replace(seen, hunts=True, noise=FIRMLY * seen.noise)
            outcome, seen = _tuned(session, before, seen, excitation, old_step, asked)
        for _ in range(MORE_TRIES):
            assert outcome.verdict is not None
            if outcome.verdict.is_proven and not seen.hunts:
                break
            why = "the axis hunts at rest" if outcome.verdict.is_proven else outcome.verdict.reason
            session.note(f"A proposal missed: {why}. Tuned anew on what was measured around it.")
            asked = _with_room(seen.asked(session.axis.robustness), outcome.verdict.criteria)
            try:
                outcome, seen = _tuned(session, before, seen, excitation, old_step, asked)
            except TuningRefused:
                break  # the proposal that missed is told with what it missed
        outcome.runs.append(plant_run(session, first_record, before))
        if seen.closed is not None:
            outcome.runs.append(seen.closed.run)
    except BaseException:
        session.write({**velocity_values(before), "position.gain": before.position_gain})
        raise
    if session.swings:  # the drive halved the position gain too, which is none of this run's to change
        session.write({"position.gain": before.position_gain})
    go_back_unless_proven(session, outcome, velocity_values(before))
    return outcome


def _tuned(
    session: Session, before: Gains, seen: _Seen, excitation: Excitation, old_step: dict[str, Any], asked: Robustness
) -> tuple[Outcome, _Seen]:
    """Propose gains on a plant and its model, write them, step, measure around them and judge.

    Returns the outcome, and what the next proposal may rest on.
    """
    session.enter("computing the proposal", 0.45)
    budget = session.axis.robustness.ripple * session.axis.motor.torque_constant * session.current_continuous
    fit = seen.fit
    tuning = tune_velocity(
        fit.load,
        fit.winding,
        before,
        asked,
        measured=seen.measured.precise(PRECISE),
        working=Winding.from_drive(session.values),
        noise=seen.noise,
        noise_torque=WITHIN * budget,
        least_damping=CALM if seen.hunts else LEAST_DAMPING,
    )
    session.write(velocity_values(tuning.gains))
    before_it = session.swings
    new_step = _step(session, 0.5)
    session.enter("ripple at rest", 0.55)
    ripple, _ = at_rest_after_a_kick(session, "velocity", KICK * session.consent.speed)
    around = _ripple_around(session, seen, tuning.gains, asked)
    ripple = ripple if around is None else max(ripple, around)
    # The tighter loop answers less: as strong an answer takes more torque.
    stronger = plan_excitation(session, tuning.gains, loud=excitation.every > 1, seen=fit)
    excitation = max(excitation, stronger, key=lambda e: e.rms)
    again, record = measure_plant(session, tuning.gains, 0.6, excitation, seen=fit, dense=True)
    require_lines(session, again, excitation, share=PRECISE)
    second = fit_plant(session, tuning.gains, again, near=fit)
    moved = max(seen.moved, _moved(fit, second, seen.closed, highest=float(again.frequency[-1])))
    # What trembles by more than was asked, and by more than its noise explains, hunts.
    explained = seen.device / noise_behind(1.0, tuning.gains)
    swings = session.swings - before_it
    hunts = swings > 0 or ripple > max(UNEXPLAINED * explained, HEARD * budget)
    firmly = FIRMLY if hunts else JUST
    # Of a loop that had to be halved the ripple was read at half the gains: it owes the whole budget at least.
    owed = max(ripple, budget) if swings else ripple
    noise = firmly * noise_behind(min(owed, MOST_AT_ONCE * budget), tuning.gains)
    after = _Seen(
        measured=again,
        fit=second,
        closed=seen.closed,
        moved=moved,
        noise=max(seen.noise, noise),
        device=seen.device,
        hunts=hunts,
    )
    tried = Tried(
        gains=tuning.gains, limited_by=tuning.limited_by, fits=(fit, second), measured=again, record=record,
        steps=(old_step, new_step), closed=seen.closed, moved=moved, ripple=ripple, noise=seen.noise,
        swings=swings,
    )  # fmt: skip
    if moved > WORTH_SAYING or (seen.play is not None):
        session.note(_said(session, after))
    return outcome_of(session, before, tried), after


def _ripple_around(session: Session, seen: _Seen, gains: Gains, asked: Robustness) -> float | None:
    """Return the ripple of torque at rest with a position loop around the proposal; None where none can be. [N·m]

    A velocity loop may stand still by itself and hunt between the steps of its device once a position is held: the
    position loop could mend that only by holding nothing.
    """
    working = Winding.from_drive(session.values)
    try:
        around, _ = tune_position(
            seen.fit.load,
            seen.fit.winding,
            gains,
            asked,
            measured=seen.measured.precise(PRECISE),
            working=working,
            settling=session.axis.goal.settling_time,
        )
    except TuningRefused:
        return None  # the position loop's own run says so
    kept = session.values["position.gain"]
    session.write({"position.gain": around.position_gain})
    try:
        kicked, _ = at_rest_after_a_kick(session, "position", kick_size(session, around.position_gain))
        ripple = max(kicked, at_rest_after_a_stroke(session)[0])
    finally:
        session.write({"position.gain": kept})
    return ripple


def _said(session: Session, seen: _Seen) -> str:
    """Over what the margins are held, and why it is more than was asked for."""
    asked = seen.asked(session.axis.robustness)
    low, high = asked.resonance_drift, (1 + asked.resonance_rise) * (1 + asked.resonance_drift) - 1
    why = f"The resonance moves with amplitude by {100 * seen.moved:.1f} %"
    if seen.play is not None:
        why = f"Between motor and load there is a play of about {math.degrees(seen.play.width.value):.2g}° at the motor"
    return f"{why}: the margins are held from {100 * low:.0f} % below the resonance to {100 * high:.0f} % above."


def _moved(first: PlantFit, second: PlantFit, closed: Closed | None, *, highest: float) -> float:
    """Share by which the resonance may lie elsewhere at another amplitude: by what it moved, or how unsure it is.

    A shaft with play is softer the smaller it swings, and fits no linear model: the second shows as doubt. Where the
    play is known, what lies between the softest seen and the closed one is explained by it.
    """
    before, after = first.load.resonance_hz, second.load.resonance_hz
    if before is None or after is None or max(before, after) >= highest:
        return 0.0
    if closed is not None and closed.play.is_seen:
        top = (1 + rise_of(closed, first)) * before
        return max(after / max(top, before) - 1, min(top, before) / after - 1, 0.0)
    doubt = after if second.resonance_std is None else second.resonance_std  # not stated: anywhere
    return max(abs(after / before - 1), doubt / after)


def _after_running_away(asked: Robustness) -> Robustness:
    """Ask for as much more as a second try may: how much was missing nobody saw."""
    phase, gain, peak = MOST_ROOM
    return replace(
        asked, phase_margin=asked.phase_margin + phase, gain_margin_db=asked.gain_margin_db + gain,
        sensitivity_peak=(1 - peak) * asked.sensitivity_peak,
    )  # fmt: skip


def _with_room(asked: Robustness, criteria: Sequence[Criterion]) -> Robustness:
    """Ask for as much more as the first proposal missed what was asked by: what one measurement hides, so may two."""
    of = {row.what: row for row in criteria if row.found is not None and row.sense in ("at least", "at most")}

    def missed(what: str) -> float:
        row = of.get(what)
        if row is None or row.found is None:
            return 0.0
        return max(row.asked - row.found if row.sense == "at least" else row.found - row.asked, 0.0)

    return replace(
        asked,
        phase_margin=asked.phase_margin + min(math.radians(missed("phase margin")), MOST_ROOM[0]),
        gain_margin_db=asked.gain_margin_db + min(missed("gain margin"), MOST_ROOM[1]),
        sensitivity_peak=asked.sensitivity_peak
        - min(missed("sensitivity peak"), MOST_ROOM[2] * asked.sensitivity_peak),
    )


def _noise_at_rest(session: Session, gains: Gains) -> float:
    """Return what the raw speed trembles by on the axis standing under the loop in force, rms. [rad/s]

    The drive records the filtered speed. What the filter took from white noise of positions is given back, what the
    axis itself sways below `SWAYS_HZ` is none of the device's. A device whose steps are not timed shows them in motion
    only: a twelfth of a count's square for each of the two positions that a speed is the difference of.
    """
    session.enter("noise at rest", 0.12)
    with session.enabled("velocity"):
        session.hold(AT_REST)
        session.arm(["velocity"], seconds=NOISE_SECONDS)
        record = session.recorded(at_most=2.0)
    session.standstill()
    spectrum = np.abs(np.fft.rfft(record["velocity"] - record["velocity"].mean())) ** 2
    f = np.fft.rfftfreq(len(record["velocity"]), record.period)
    used = f > SWAYS_HZ
    lines = f[used].astype(np.float64)
    white = np.sin(np.pi * lines * record.period) ** 2
    passed = white * np.abs(feedback_filter(gains, lines)) ** 2
    total = 2 * float(spectrum[used].sum()) / len(record["velocity"]) ** 2
    steps = 0.0
    if not session.axis.feedback.kind.has_edges:
        steps = session.axis.feedback.count_angle * math.sqrt(2 / 12) / session.rates.velocity
    return math.hypot(steps, math.sqrt(total * float(white.sum()) / float(passed.sum())))


def _step(session: Session, share: float) -> dict[str, Any]:
    """Step the speed from a bias, four times, folded."""
    session.enter("velocity step", share)
    bias, _ = bias_speed(session)
    length = round(STEP_SECONDS / session.rates.velocity)
    repeats = int(np.clip(session.consent.travel / (bias * 2 * STEP_SECONDS * 1.3), 2, 6))
    size = 0.3 * bias
    wave = np.concatenate([np.full(length, size), np.full(length, -size)])
    home = float(session.drive.status()["position"])
    with session.enabled_around("velocity", home):
        session.go_to(home - 0.7 * session.consent.travel, speed=APPROACH * bias)
        session.run_at(bias)
        session.hold(0.15)
        record = session.excite_and_record(
            ["velocity", "velocity_ref", "i_q"], "velocity", wave, divider=session.rates.ticks, repeats=repeats
        )
        session.go_to(home, speed=APPROACH * bias)
    session.standstill()
    mean = folded(record.channels, 2 * length)
    time = session.rates.velocity * np.arange(length, dtype=np.float64)
    metrics = measure_step(time, mean["velocity"][:length], start=bias - size, target=bias + size, band=0.05)
    return {"record": record, "metrics": metrics, "bias": bias, "size": size, "repeat": 2 * length}


PROCEDURE = declare(Procedure(
    key="velocity", step="velocity", does="Measure and tune", order=4, run=run_velocity_loop,
    plan=plan_within_travel("Velocity loop", 60), fine_feedback=True,
))  # fmt: skip
