"""Velocity plant measured at a bias speed, the proposal on it, and what it gives: before and after."""

import math
from dataclasses import asdict, replace
from typing import Any

import numpy as np

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
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import fit_two_mass
from cadrel.core.response import (
    FrequencyResponse,
    average_responses,
    estimate_response,
    log_lines,
    measure_step,
    random_multisine,
)
from cadrel.core.tuning import tune_velocity
from cadrel.link import Recording
from cadrel.procedures.electrical import curve_of
from cadrel.procedures.outcome import Finding, Outcome, RunRecord
from cadrel.procedures.session import GENTLE, TV, Session

PERIOD = 2048  # [samples] of the multisine: 0.512 s
LINES = log_lines(2, 500, 90)  # 4 Hz to 1 kHz
PASSES = (1.0, -1.0) * 4  # directions; each pass has phases of its own
MOST_PERIODS = 3
EDGES_TO_A_PERIOD = 8.0
WIGGLE = 0.13  # rms of the speed the multisine makes, as a share of the bias: motor and load keep their direction
PHASES = 20  # seed of the drawn phases: the same experiment each time
STEP_SECONDS = 0.12


def run_velocity_loop(session: Session) -> Outcome:
    """Measure the plant, fit the model, propose and write gains, measure again.

    Raises
    ------
    TuningRefused
        Nothing honours the margins asked for; the drive keeps its gains.
    """
    before = Gains.from_drive(session.refresh())
    old_step = _step(session, 0.05)
    rms = excitation_rms(session, before)
    measured, bias, _ = measure_plant(session, before, 0.15, rms=rms)
    winding = _winding(session)
    age = edge_age(session, bias)
    fit = fit_two_mass(
        measured,
        winding,
        before,
        inertia=session.values["load.inertia"],
        viscous=float(session.model.get("viscous", 0.0)),
        edge_age=age,
    )
    load, winding = fit.load, fit.winding
    session.enter("computing the proposal", 0.45)
    tuning = tune_velocity(load, winding, before, session.axis.robustness, measured=measured.trusted(0.9))
    session.write({k: v for k, v in tuning.gains.to_drive().items() if k.startswith("velocity.")})
    try:
        new_step = _step(session, 0.5)
        again, bias, record = measure_plant(session, tuning.gains, 0.6, rms=rms)
    except BaseException:
        session.write({k: v for k, v in before.to_drive().items() if k.startswith("velocity.")})
        raise
    return _outcome(
        session, before, tuning.gains, tuning.limited_by, load, winding, again, bias, record, old_step, new_step
    )


def _winding(session: Session) -> Winding:
    return Winding(resistance=session.values["motor.resistance"], inductance=session.values["motor.inductance"])


def edge_age(session: Session, speed: float) -> float:
    """Return how old the last encoder edge is on average when speed is sampled. [s]"""
    return 0.5 * 2 * math.pi / session.values["feedback.counts"] / max(abs(speed), 1e-9)


def bias_speed(session: Session) -> tuple[float, int]:
    """Return the bias of a measuring pass and how many whole periods fit into the travel. [rad/s]"""
    room = 1.5 * session.consent.travel  # a pass starts near one end of the consented travel
    fastest = 0.4 * session.consent.speed
    for periods in range(MOST_PERIODS, 1, -1):
        speed = room / ((periods + 1) * PERIOD * TV + 0.35)
        if speed >= min(20.0, fastest):
            return min(speed, fastest), periods
    return min(room / (3 * PERIOD * TV + 0.35), fastest), 2


def measure_plant(
    session: Session, gains: Gains, share: float, *, rms: float
) -> tuple[FrequencyResponse, float, Recording]:
    """Return torque command -> unfiltered speed, from passes in both directions, and the bias used.

    `rms` is that of the injected torque. Two measurements are comparable at the same one only: dead time and friction
    weigh the less the larger the signal. [N·m]
    """
    bias, periods = bias_speed(session)
    rng = np.random.default_rng(PHASES)
    home = float(session.drive.status()["position"])
    parts = []
    for k, direction in enumerate(PASSES):
        signal = random_multisine(LINES, n_samples=PERIOD, rms=rms, rng=rng)
        session.enter(f"frequency response, pass {k + 1} of {len(PASSES)}", share + 0.3 * k / len(PASSES))
        with session.enabled_around("velocity", home):
            session.go_to(home - direction * 0.75 * session.consent.travel, speed=2 * bias)
            session.run_at(direction * bias)
            session.hold(0.15)
            record = session.excite_and_record(
                ["torque_cmd", "velocity", "i_q"], "torque", signal, divider=4, repeats=periods + 1
            )
            session.drive.run_at(0.0, acceleration=bias / GENTLE)
            session.until(lambda s: not s["moving"], at_most=3.0, what="standstill")
        parts.append(
            estimate_response(
                record["excitation"],
                record["torque_cmd"],
                record["velocity"],
                lines=LINES,
                period=PERIOD,
                rate_hz=1 / TV,
            )
        )
    with session.enabled_around("velocity", home):
        session.go_to(home, speed=2 * bias)
    session.standstill()
    whole = average_responses(parts).below(_readable_hz(session, bias))
    unfiltered = whole.value / feedback_filter(gains, whole.frequency)
    return replace(whole, value=unfiltered, std=whole.std), bias, record


def _readable_hz(session: Session, bias: float) -> float:
    """Up to where a counted speed answers linearly: with few edges to a period of the line it comes in jumps. [Hz]"""
    if session.axis.feedback.kind != "incremental":
        return math.inf
    return abs(bias) * session.values["feedback.counts"] / (2 * math.pi) / EDGES_TO_A_PERIOD


def excitation_rms(session: Session, gains: Gains) -> float:
    """Return the rms of a torque whose answer in the closed loop stays well below the bias speed. [N·m]"""
    rigid = TwoMass(inertia_motor=session.values["load.inertia"])
    f = LINES / (PERIOD * TV)
    plant = velocity_plant(rigid, _winding(session), gains, f)
    answer = np.abs(plant / (1 + velocity_open(plant, gains, f)))
    unit = math.sqrt(float(np.mean(answer**2)))
    torque = WIGGLE * bias_speed(session)[0] / unit
    most = 0.3 * session.axis.motor.torque_constant * session.current_continuous
    return min(torque, most)


def _step(session: Session, share: float) -> dict[str, Any]:
    """Step the speed from a bias, four times, folded."""
    session.enter("velocity step", share)
    bias, _ = bias_speed(session)
    length = round(STEP_SECONDS / TV)
    repeats = int(np.clip(session.consent.travel / (bias * 2 * STEP_SECONDS * 1.3), 2, 6))
    size = 0.3 * bias
    wave = np.concatenate([np.full(length, size), np.full(length, -size)])
    home = float(session.drive.status()["position"])
    with session.enabled_around("velocity", home):
        session.go_to(home - 0.7 * session.consent.travel, speed=2 * bias)
        session.run_at(bias)
        session.hold(0.15)
        record = session.excite_and_record(
            ["velocity", "velocity_ref", "i_q"], "velocity", wave, divider=4, repeats=repeats
        )
        session.go_to(home, speed=2 * bias)
    session.standstill()
    folded = {k: v.reshape(repeats, -1)[1:].mean(0) for k, v in record.channels.items()}
    time = TV * np.arange(length, dtype=np.float64)
    metrics = measure_step(time, folded["velocity"][:length], start=bias - size, target=bias + size, band=0.05)
    return {"record": Recording(TV, folded), "metrics": metrics, "bias": bias, "size": size}


def _outcome(
    session: Session,
    before: Gains,
    gains: Gains,
    limited_by: str,
    load: TwoMass,
    winding: Winding,
    again: FrequencyResponse,
    bias: float,
    record: Recording,
    old_step: dict[str, Any],
    new_step: dict[str, Any],
) -> Outcome:
    trusted = again.trusted(0.9)
    if len(trusted.frequency) < 10:
        raise UnusableInput(what="Too few lines can be trusted.", remedy="Allow more travel, or more speed.")
    f = trusted.frequency
    grid = np.geomspace(f[0], f[-1], 400)
    model = velocity_plant(load, winding, gains, grid, edge_age=edge_age(session, bias))
    loop_measured, loop_model = velocity_open(trusted.value, gains, f), velocity_open(model, gains, grid)
    closed_measured = loop_measured / (1 + loop_measured) / feedback_filter(gains, f)
    closed_model = loop_model / (1 + loop_model) / feedback_filter(gains, grid)
    measured = read_margins(loop_measured, f, closed_loop=closed_measured)
    predicted = read_margins(loop_model, grid, closed_loop=closed_model)
    time, unit = step_response("velocity", load, winding, gains, duration=STEP_SECONDS)
    base, size = new_step["bias"], new_step["size"]
    runs = [
        _step_run("Velocity step, before", old_step, {}),
        _step_run(
            "Velocity step, after",
            new_step,
            {"time": time.tolist(), "predicted_step": (base - size + 2 * size * unit).tolist()},
        ),
        RunRecord(
            kind="velocity_response",
            title="Velocity loop, frequency response",
            period=record.period,
            channels={k: v[-PERIOD:] for k, v in record.channels.items()},
            excitation={"point": "torque", "bias": bias},
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
    bandwidth = measured.bandwidth_hz or 0.0
    margin = math.degrees(measured.phase_margin or 0.0)
    findings = [
        Finding(
            kind="velocity_loop", label="Velocity-loop bandwidth", value=bandwidth, unit="Hz", state="proven", run=2
        ),
        Finding(kind="velocity_margin", label="Velocity-loop phase margin", value=margin, unit="°", run=2),
    ]
    if load.resonance_hz and load.antiresonance_hz and load.resonance_hz < f[-1]:  # above, only its flank was seen
        findings += [
            Finding(kind="resonance", label="Resonance", value=load.resonance_hz, unit="Hz", run=2),
            Finding(kind="antiresonance", label="Anti-resonance", value=load.antiresonance_hz, unit="Hz", run=2),
        ]
    return Outcome(
        findings=findings,
        changes={k: v for k, v in gains.to_drive().items() if k.startswith("velocity.")},
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
        summary=f"{bandwidth:.0f} Hz, {margin:.0f}°",
        model={**asdict(load), "small_signal_resistance": winding.resistance},
    )


def _step_run(title: str, step: dict[str, Any], curves: dict[str, Any]) -> RunRecord:
    record: Recording = step["record"]
    return RunRecord(
        kind="velocity_step",
        title=title,
        period=record.period,
        channels=record.channels,
        excitation={"bias": step["bias"], "size": 2 * step["size"]},
        metrics=step["metrics"].as_dict(),
        curves=curves,
    )
