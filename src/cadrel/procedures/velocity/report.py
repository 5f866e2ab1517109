"""What a tuned velocity loop is reported as: margins and curves measured against predicted, findings, verdict."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from cadrel.core.control import (
    Gains,
    Margins,
    TwoMass,
    Winding,
    feedback_filter,
    read_margins,
    step_response,
    velocity_open,
    velocity_plant,
)
from cadrel.core.identification import PlantFit, SpringyLoad
from cadrel.core.response import FrequencyResponse, curve_of
from cadrel.core.verdict import decide, judge_loop
from cadrel.link import Recording
from cadrel.procedures.judging import (
    asked_of,
    loop_summary,
    resonance_criterion,
    ripple_criterion,
    swing_criterion,
)
from cadrel.procedures.outcome import Finding, Outcome, RunRecord
from cadrel.procedures.plant.excitation import bias_speed, edge_age
from cadrel.procedures.plant.in_motion import injected
from cadrel.procedures.plant.noise import most_change
from cadrel.procedures.plant.scatter import PRECISE
from cadrel.procedures.play import Closed, damping_of, play_findings, rise_of
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.seen import doubt_beyond, with_beyond

TIMING = 0.25  # of a current tick: what the model of the sampled loop may be off by, which no misfit shows
STEP_SECONDS = 0.12


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Tried:
    """Gains in force, and what was measured with them."""

    gains: Gains
    limited_by: str
    fits: tuple[PlantFit, PlantFit]  # of the measurement that was tuned on, and of the one around the tuned loop
    measured: FrequencyResponse  # around the tuned loop, and before where that answers too little
    own: FrequencyResponse  # of it what was measured around the tuned loop
    record: Recording
    steps: tuple[dict[str, Any], dict[str, Any]]  # before, after
    closed: Closed | None  # the resonance swung strongly
    moved: float  # share by which the resonance moves with amplitude, beside its play
    ripple: float  # [N·m] rms at rest
    noise: float  # [rad/s] of the raw speed, that they had to bear
    device: float  # [rad/s] of it the device's own
    moving: float  # [rad/s] of the raw speed while the axis moves
    plant: SpringyLoad  # as it is known by it
    softer: float = 0.0  # share by which the resonance was seen higher before, that play explains
    swings: int = 0  # how often the drive halved them because the loop swung ever wider
    beyond: FrequencyResponse | None = None  # higher lines, where the device can be read so high


def outcome_of(session: Session, before: Gains, tried: Tried) -> Outcome:
    """Return runs, findings and verdict of gains that were tried."""
    trusted, highest = with_beyond(tried.measured, tried.beyond), float(tried.measured.precise(PRECISE).frequency[-1])
    gains, record = tried.gains, tried.record
    first, second = tried.fits
    old_step, new_step = tried.steps
    load, winding = second.load, second.winding
    rise, damping = rise_of(tried.closed, second), damping_of(tried.closed, second)
    f = trusted.frequency
    grid = np.geomspace(f[0], f[-1], 400)
    bias = bias_speed(session)
    model = velocity_plant(load, winding, gains, grid, edge_age=edge_age(session, bias))
    loop_measured, loop_model = velocity_open(trusted.value, gains, f), velocity_open(model, gains, grid)
    closed_measured = loop_measured / (1 + loop_measured) / feedback_filter(gains, f)
    closed_model = loop_model / (1 + loop_model) / feedback_filter(gains, grid)
    measured = read_margins(loop_measured, f, closed_loop=closed_measured)
    predicted = read_margins(loop_model, grid, closed_loop=closed_model)
    time, unit = step_response("velocity", load, winding, gains, duration=STEP_SECONDS)
    base, size = new_step["bias"], new_step["size"]
    runs = [
        _step_run("Velocity step, before", old_step, {}, in_force=velocity_values(before)),
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
            excitation=injected(session),
            metrics=measured.as_dict(),
            curves={
                "loop": "velocity",
                "plant_measured": curve_of(f, trusted.value, trusted.coherence),
                "plant_std": (trusted.std / np.abs(trusted.value)).tolist(),
                "measured_before": f[~np.isin(f, tried.own.precise(PRECISE).frequency)].tolist(),
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
    asked = asked_of(
        session.asked_of_any.where_it_moves(
            max(tried.moved, doubt_beyond(second)), rise=rise, damping=damping, softer=tried.softer,
            seen_hz=second.seen_hz,
        )
    )  # fmt: skip
    rows = judge_loop("velocity", measured, models, gains, asked, edge_age=edge_age(session, bias))
    rows.append(ripple_criterion(session, tried.ripple))
    rows += swing_criterion(tried.swings)
    rows += resonance_criterion(session, tried.moved)
    verdict = decide("velocity_loop", rows, run=2)
    findings = [_claimed(measured, gains)]
    if measured.phase_margin is not None:
        margin = math.degrees(measured.phase_margin)
        findings.append(
            Finding(kind="velocity_margin", label="Velocity-loop phase margin", value=margin, unit="°", run=2)
        )
    peak = measured.sensitivity_peak
    findings.append(Finding(kind="velocity_peak", label="Velocity-loop sensitivity peak", value=peak, unit="", run=2))
    findings += _resonances(first, second, highest=highest, tick=session.rates.current)
    if tried.closed is not None:
        runs.append(tried.closed.run)
        findings += play_findings(tried.closed, load, run=len(runs) - 1)
    return Outcome(
        findings=findings,
        changes=velocity_values(gains),
        runs=runs,
        margins={
            "velocity": {
                "measured": measured.as_dict(),
                "predicted": predicted.as_dict(),
                "limited_by": tried.limited_by,
                "gain_before": before.velocity_gain,
                "gain_after": gains.velocity_gain,
                "noise": tried.noise,
                "device_noise": tried.device,
                "moving_noise": tried.moving,
                "most_change": most_change(session),
            }
        },
        summary=loop_summary(measured),
        verdict=verdict,
        plant=tried.plant,
        plant_run=2,
    )


def plant_run(session: Session, record: Recording, gains: Gains, *, title: str = "Velocity plant, before") -> RunRecord:
    """A measurement of the plant as it was recorded, such as a proposal is computed on."""
    return RunRecord(
        kind="plant_response",
        title=title,
        period=record.period,
        channels=record.channels,
        excitation=injected(session),
        in_force=velocity_values(gains),
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


def _claimed(measured: Margins, gains: Gains) -> Finding:
    """What the verdict is about: how quick the loop is, by the first of these that it has."""
    by = (("bandwidth", measured.bandwidth_hz, "Hz"), ("crossover", measured.crossover_hz, "Hz"))
    what, value, unit = next((row for row in by if row[1] is not None), ("gain", gains.velocity_gain, "N·m·s/rad"))
    assert value is not None
    return Finding(kind="velocity_loop", label=f"Velocity-loop {what}", value=value, unit=unit, run=2)


def _damping(load: TwoMass, kind: str) -> float:
    """Damping ratio of a resonance, or of the anti-resonance, where the load swings on the held motor."""
    assert load.stiffness is not None
    swings = load.inertia_load if kind == "antiresonance" else load.inertia_motor * load.inertia_load / load.inertia
    return (load.damping + (load.viscous_load if kind == "antiresonance" else 0.0)) / (
        2 * math.sqrt(load.stiffness * swings)
    )


def velocity_values(gains: Gains) -> dict[str, float]:
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
