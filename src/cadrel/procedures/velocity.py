"""The velocity plant measured, the proposal on it, and what it gives: before and after."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import (
    Gains,
    TwoMass,
    Winding,
    feedback_filter,
    read_margins,
    step_response,
    velocity_open,
    velocity_plant,
)
from cadrel.core.identification import PlantFit, SpringyLoad
from cadrel.core.identification.two_mass import ROUGH
from cadrel.core.response import FrequencyResponse, curve_of, folded, measure_step
from cadrel.core.tuning import TuningRefused, noise_behind, tune_velocity
from cadrel.core.verdict import Criterion, decide, judge_loop
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, declare, plan_within_travel
from cadrel.procedures.judging import (
    AT_REST,
    NOISE_SECONDS,
    asked_of,
    at_rest_after_a_kick,
    go_back_unless_proven,
    loop_summary,
    ripple_criterion,
)
from cadrel.procedures.outcome import Finding, Outcome, RunRecord
from cadrel.procedures.plant_in_motion import (
    APPROACH,
    PERIOD,
    PRECISE,
    Excitation,
    bias_speed,
    edge_age,
    fit_plant,
    is_drowned,
    measure_plant,
    plan_excitation,
    require_lines,
)
from cadrel.procedures.session import Session

TIMING = 0.25  # of a current tick: what the model of the sampled loop may be off by, which no misfit shows
STEP_SECONDS = 0.12
MOST_ROOM = (math.radians(12), 4.0, 0.2)  # [rad], [dB], share of the peak: what a second try asks for beyond
KICK = 0.05  # of the speed agreed to
FIRMLY = 2.0  # a limit cycle does not fall with the gain as noise does: more is taken back than noise would ask
MOST_AT_ONCE = 6.0  # times the budget: a loop that hunts gets so much less gain in the next proposal
MORE_TRIES = 2  # proposals after one that missed what was asked
WORTH_SAYING = 0.01  # share by which a resonance moves
SWAYS_HZ = 100.0  # below, an axis at rest moves by itself


@dataclass(frozen=True, slots=True, eq=False)
class _Tuned:
    """A proposal in force, what was measured around it, and what the next one must know."""

    outcome: Outcome
    measured: FrequencyResponse
    fit: PlantFit
    moved: float  # share by which the resonance moves with amplitude
    noise: float  # [rad/s] of the raw speed, that would make the ripple seen at rest


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
    excitation = plan_excitation(session, before)
    measured, first_record = measure_plant(session, before, 0.15, excitation)
    if is_drowned(measured):
        session.note("The device's noise covered the answer: measured again with fewer, stronger lines.")
        excitation = plan_excitation(session, before, loud=True)
        measured, first_record = measure_plant(session, before, 0.3, excitation)
    require_lines(session, measured, excitation, share=ROUGH)
    fit = fit_plant(session, before, measured)
    try:
        asked = session.axis.robustness
        tuned = _tuned(session, before, measured, fit, excitation, old_step, noise, asked, 0.0)
        outcome = tuned.outcome
        for _ in range(MORE_TRIES):
            if outcome.verdict is None or outcome.verdict.is_proven:
                break
            session.note(f"A proposal missed: {outcome.verdict.reason}. Tuned anew on what was measured around it.")
            asked = _with_room(session.axis.robustness.where_it_moves(tuned.moved), outcome.verdict.criteria)
            noise = max(noise, tuned.noise)
            try:
                tuned = _tuned(
                    session, before, tuned.measured, tuned.fit, excitation, old_step, noise, asked, tuned.moved
                )
            except TuningRefused:
                break  # the proposal that missed is told with what it missed
            outcome = tuned.outcome
        outcome.runs.append(_plant_run(session, first_record, before))
    except BaseException:
        session.write(_velocity_values(before))
        raise
    go_back_unless_proven(session, outcome, _velocity_values(before))
    return outcome


def _tuned(
    session: Session,
    before: Gains,
    measured: FrequencyResponse,
    fit: PlantFit,
    excitation: Excitation,
    old_step: dict[str, Any],
    noise: float,
    asked: Robustness,
    moved: float,
) -> _Tuned:
    """Propose gains on a plant and its model, write them, step, measure around them and judge.

    `moved` is the share by which the resonance was seen to move before.
    """
    session.enter("computing the proposal", 0.45)
    tuning = tune_velocity(
        fit.load,
        fit.winding,
        before,
        asked,
        measured=measured.precise(PRECISE),
        working=Winding.from_drive(session.values),
        noise=noise,
        noise_torque=session.axis.robustness.ripple * session.axis.motor.torque_constant * session.current_continuous,
    )
    session.write(_velocity_values(tuning.gains))
    new_step = _step(session, 0.5)
    session.enter("ripple at rest", 0.55)
    ripple, _ = at_rest_after_a_kick(session, "velocity", KICK * session.consent.speed)
    # The tighter loop answers less: as strong an answer takes more torque.
    stronger = plan_excitation(session, tuning.gains, loud=excitation.every > 1)
    excitation = max(excitation, stronger, key=lambda e: e.rms)
    again, record = measure_plant(session, tuning.gains, 0.6, excitation, seen=fit, dense=True)
    require_lines(session, again, excitation, share=PRECISE)
    second = fit_plant(session, tuning.gains, again, near=fit)
    moved = max(moved, _moved(fit, second, highest=float(again.frequency[-1])))
    if moved > WORTH_SAYING:
        session.note(
            f"The resonance moves with amplitude by {100 * moved:.1f} %, as play makes it: the margins are held over "
            f"{100 * session.axis.robustness.where_it_moves(moved).resonance_drift:.0f} % to either side."
        )
    outcome = _outcome(
        session,
        before,
        tuning.gains,
        tuning.limited_by,
        (fit, second),
        again,
        record,
        old_step,
        new_step,
        moved,
        ripple,
    )
    outcome.margins["velocity"]["noise"] = noise
    budget = session.axis.robustness.ripple * session.axis.motor.torque_constant * session.current_continuous
    noise_seen = FIRMLY * noise_behind(min(ripple, MOST_AT_ONCE * budget), tuning.gains)
    return _Tuned(outcome, again, second, moved, noise_seen)


def _moved(first: PlantFit, second: PlantFit, *, highest: float) -> float:
    """Share by which the resonance may lie elsewhere at another amplitude: by what it moved, or how unsure it is.

    A shaft with play is softer the smaller it swings, and fits no linear model: the second shows as doubt.
    """
    before, after = first.load.resonance_hz, second.load.resonance_hz
    if before is None or after is None or max(before, after) >= highest:
        return 0.0
    doubt = after if second.resonance_std is None else second.resonance_std  # not stated: anywhere
    return max(abs(after / before - 1), doubt / after)


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


def _outcome(
    session: Session,
    before: Gains,
    gains: Gains,
    limited_by: str,
    fits: tuple[PlantFit, PlantFit],
    again: FrequencyResponse,
    record: Recording,
    old_step: dict[str, Any],
    new_step: dict[str, Any],
    moved: float,
    ripple: float,
) -> Outcome:
    trusted = again.precise(PRECISE)
    first, second = fits  # of the measurement that was tuned on, and of the one around the tuned loop
    load, winding = second.load, second.winding
    f = trusted.frequency
    grid = np.geomspace(f[0], f[-1], 400)
    bias, _ = bias_speed(session)
    model = velocity_plant(load, winding, gains, grid, edge_age=edge_age(session, bias))
    loop_measured, loop_model = velocity_open(trusted.value, gains, f), velocity_open(model, gains, grid)
    closed_measured = loop_measured / (1 + loop_measured) / feedback_filter(gains, f)
    closed_model = loop_model / (1 + loop_model) / feedback_filter(gains, grid)
    measured = read_margins(loop_measured, f, closed_loop=closed_measured)
    predicted = read_margins(loop_model, grid, closed_loop=closed_model)
    time, unit = step_response("velocity", load, winding, gains, duration=STEP_SECONDS)
    base, size = new_step["bias"], new_step["size"]
    runs = [
        _step_run("Velocity step, before", old_step, {}, in_force=_velocity_values(before)),
        _step_run(
            "Velocity step, after",
            new_step,
            {"time": time.tolist(), "predicted_step": (base - size + 2 * size * unit).tolist()},
        ),
        RunRecord(
            kind="velocity_response",
            title="Velocity loop, frequency response",
            period=record.period,
            channels=record.channels,
            excitation={
                "point": "torque",
                "bias": bias,
                "repeat": PERIOD,
            },
            metrics=measured.as_dict(),
            curves={
                "loop": "velocity",
                "plant_measured": curve_of(f, trusted.value, trusted.coherence),
                "plant_std": (trusted.std / np.abs(trusted.value)).tolist(),
                "plant_model": curve_of(grid, model),
                "measured_open": curve_of(f, loop_measured, trusted.coherence),
                "predicted_open": curve_of(grid, loop_model),
                "measured": curve_of(f, closed_measured, trusted.coherence),
                "predicted": curve_of(grid, closed_model),
                "predicted_margins": predicted.as_dict(),
            },
        ),
    ]
    session.enter("done", 1.0)
    working = Winding.from_drive(session.values)  # past the dead time, which damps small currents only
    models = [("model, small currents", load, winding), ("model, working current", load, working)]
    asked = asked_of(session.axis.robustness.where_it_moves(moved))
    rows = judge_loop("velocity", measured, models, gains, asked, edge_age=edge_age(session, bias))
    rows.append(ripple_criterion(session, ripple))
    verdict = decide("velocity_loop", rows, run=2)
    findings = []
    if measured.bandwidth_hz is not None:
        findings.append(
            Finding(
                kind="velocity_loop", label="Velocity-loop bandwidth", value=measured.bandwidth_hz, unit="Hz", run=2
            )
        )
    if measured.phase_margin is not None:
        margin = math.degrees(measured.phase_margin)
        findings.append(
            Finding(kind="velocity_margin", label="Velocity-loop phase margin", value=margin, unit="°", run=2)
        )
    peak = measured.sensitivity_peak
    findings.append(Finding(kind="velocity_peak", label="Velocity-loop sensitivity peak", value=peak, unit="", run=2))
    findings += _resonances(first, second, highest=float(f[-1]), tick=session.rates.current)
    return Outcome(
        findings=findings,
        changes=_velocity_values(gains),
        runs=runs,
        margins={
            "velocity": {
                "measured": measured.as_dict(),
                "predicted": predicted.as_dict(),
                "limited_by": limited_by,
                "gain_before": before.velocity_gain,
                "gain_after": gains.velocity_gain,
            }
        },
        summary=loop_summary(measured),
        verdict=verdict,
        plant=SpringyLoad(load=load, small_signal_resistance=winding.resistance, measured=trusted, moved=moved),
        plant_run=2,
    )


def _plant_run(session: Session, record: Recording, gains: Gains) -> RunRecord:
    """The measurement that the proposal was computed on, as it was recorded."""
    return RunRecord(
        kind="plant_response",
        title="Velocity plant, before",
        period=record.period,
        channels=record.channels,
        excitation={"point": "torque", "bias": bias_speed(session)[0], "repeat": PERIOD},
        in_force=_velocity_values(gains),
    )


def _resonances(first: PlantFit, second: PlantFit, *, highest: float, tick: float) -> list[Finding]:
    """What both measurements say of the resonances, none above the highest line: there only a flank was seen.

    The doubt is what the second fit's misfit says, half of what the two measurements, made on other gains and other
    lines, differ by, and what the model's timing may be off by: phase turns by omega dt, and around a resonance of
    damping zeta the phase turns by one radian over zeta times its frequency, so that it is placed wrong by
    zeta omega dt of itself.
    """
    found = []
    for kind, label, std in (
        ("resonance", "Resonance", second.resonance_std),
        ("antiresonance", "Anti-resonance", second.antiresonance_std),
    ):
        value, before = getattr(second.load, f"{kind}_hz"), getattr(first.load, f"{kind}_hz")
        if value is None or std is None or not second.load.resonance_hz or second.load.resonance_hz >= highest:
            continue
        apart = 0.0 if before is None else 0.5 * abs(value - before)
        late = _damping(second.load, kind) * 2 * math.pi * value**2 * TIMING * tick
        doubt = math.hypot(std, apart, late)
        found.append(Finding(kind=kind, label=label, value=value, unit="Hz", std=doubt, run=2))
    return found


def _damping(load: TwoMass, kind: str) -> float:
    """Damping ratio of a resonance, or of the anti-resonance, where the load swings on the held motor."""
    assert load.stiffness is not None
    swings = load.inertia_load if kind == "antiresonance" else load.inertia_motor * load.inertia_load / load.inertia
    return (load.damping + (load.viscous_load if kind == "antiresonance" else 0.0)) / (
        2 * math.sqrt(load.stiffness * swings)
    )


def _velocity_values(gains: Gains) -> dict[str, float]:
    return {k: v for k, v in gains.to_drive().items() if k.startswith("velocity.")}


def _step_run(
    title: str, step: dict[str, Any], curves: dict[str, Any], *, in_force: dict[str, float] | None = None
) -> RunRecord:
    record: Recording = step["record"]
    return RunRecord(
        kind="velocity_step",
        title=title,
        period=record.period,
        channels=record.channels,
        excitation={"point": "velocity", "bias": step["bias"], "size": 2 * step["size"], "repeat": step["repeat"]},
        metrics=step["metrics"].as_dict(),
        curves=curves,
        in_force=in_force or {},
    )


PROCEDURE = declare(Procedure(
    key="velocity", step="velocity", does="Measure and tune", order=4, run=run_velocity_loop,
    plan=plan_within_travel("Velocity loop", 35), fine_feedback=True,
))  # fmt: skip
