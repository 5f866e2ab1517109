"""Position gain and feedforward around the tuned velocity loop; a step before and after."""

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from cadrel.core.control import (
    Gains,
    TwoMass,
    Winding,
    position_open,
    position_over_speed,
    read_margins,
    step_response,
    velocity_plant,
)
from cadrel.core.control.load import ComplexArray
from cadrel.core.response import FrequencyResponse, curve_of, folded, measure_step
from cadrel.core.tuning import tune_position
from cadrel.core.verdict import decide, judge_loop
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, declare, plan_within_travel
from cadrel.procedures.errors import AxisStopped, NotAllowed
from cadrel.procedures.judging import (
    RIPPLE,
    SWUNG,
    asked_of,
    at_rest_when_moved,
    go_back_unless_proven,
    kick_size,
    most_swing,
    position_values,
    ripple_criterion,
    small_step,
    strokes_looked_at,
    swing_criterion,
)
from cadrel.procedures.on_load import measure_on_load
from cadrel.procedures.outcome import Finding, Outcome, RunRecord
from cadrel.procedures.planned import friction_share
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.seen import unrest_with

STEP_SECONDS = 0.25
REPEATS = 2


def model_of(session: Session) -> TwoMass:
    """Return the load identified by the velocity step. Raises `NotAllowed` if there is none."""
    if session.plant.springy is None:
        raise NotAllowed(why="The load is not identified.", remedy="Run the velocity step first.")
    return session.plant.springy.load


EASED = ("position.gain", "velocity.gain", "velocity.reset_time")  # what a drive lowers against a swing that grows
BELOW = (
    "No lower position gain ends that: it is the velocity loop that swings or trembles once the axis is moved. Measure "
    "and tune the velocity loop again, which bears this from now on; then the position loop."
)
LOWER, LOWERED = 0.6, 6  # times the position gain, and how many are tried, while the axis hunts at rest


def run_position_loop(session: Session) -> Outcome:
    """Propose Kv on the identified model, switch feedforward on, step before and after.

    Raises
    ------
    NotAllowed, TuningRefused
    """
    before = Gains.from_drive(session.refresh(), session.rates)
    load = model_of(session)
    working = Winding.from_drive(session.values)
    winding = session.plant.winding(working)
    met = _met(session, before, load)
    gains, limited_by = session.computed(
        lambda: tune_position(
            load,
            winding,
            before,
            session.asked,
            measured=met.plant,
            over_speed=met.over_speed,
            working=working,
            settling=session.axis.goal.settling_time,
        )
    )
    size = small_step(session, max(gains.position_gain, before.position_gain))
    old = _step(session, size, 0.1)
    changes = {**position_values(gains), "position.friction_feedforward": friction_share(session, gains)}
    if gains.shaping_hz > 0.0:
        session.note(
            f"The load swings behind its shaft: planned moves pass a notch at {gains.shaping_hz:.3g} Hz, so that they "
            "leave it unexcited. What pushes the load itself still makes it swing."
        )
    kept = {k: session.values[k] for k in changes}
    session.write(changes)
    try:
        gains, ripple, swings = _without_hunting(session, gains, load)
        if gains.position_gain != changes["position.gain"]:
            changes["position.gain"], limited_by = gains.position_gain, "hunting at rest: play, or steps of the device"
            changes["position.friction_feedforward"] = friction_share(session, gains)
            session.write({"position.friction_feedforward": changes["position.friction_feedforward"]})
        if changes["position.friction_feedforward"] == 0.0:
            session.note("Friction is not fed forward: on the twin the planned move is none the better for it.")
        if ripple is None:
            outcome = _never_stood(session, gains, changes, kept, size, old, swings)
        else:
            new = _step(session, size, 0.5)
            outcome = _outcome(
                session, gains, before, limited_by, load, winding, changes, kept, size, old, new, ripple, swings, met
            )
    except BaseException:
        session.write(kept | {k: v for k, v in before.to_drive().items() if k in EASED})
        raise
    go_back_unless_proven(session, outcome, kept)
    return outcome


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Met:
    """The velocity plant as measured, and the position fed back over its speed."""

    plant: FrequencyResponse | None
    over_speed: ComplexArray | None = None  # None: the motor's own position
    runs: list[RunRecord] = field(default_factory=list)  # from which it is known, where they are this procedure's


def _met(session: Session, gains: Gains, load: TwoMass) -> _Met:
    """What the velocity step measured; where the load has a device, motor and load measured anew together."""
    if not session.on_load:
        return _Met(plant=measured_plant(session))
    found = measure_on_load(session, gains, load, 0.02)
    session.note(
        "Position from the device on the load: motor and load were measured together, and what lies between them "
        "(play, the shaft) is inside this loop."
    )
    return _Met(plant=found.plant, over_speed=found.over_speed, runs=[found.run])


def _without_hunting(session: Session, gains: Gains, load: TwoMass) -> tuple[Gains, float | None, int]:
    """Lower the position gain until the axis comes to rest after a small step.

    Returns the gains, the ripple left [N·m] and how often the drive halved all of them. A loop that is calm by every
    margin may hunt between two steps of its device, or through its play: a limit cycle, which less gain ends. What no
    lower gain ends is none of its doing, but the velocity loop's. No ripple: it swung until the drive stopped it.
    """
    springy = session.plant.springy
    most = most_swing(session, 0.0 if springy is None else springy.flicker)

    def look(tried: Gains) -> tuple[float | None, int, bool]:
        session.enter("looking for hunting at rest", 0.45)
        before_it = session.swings
        ripple: float | None
        try:
            ripple, flicker = at_rest_when_moved(
                session, kick_size(session, gains.position_gain), load_swings_hz=load.antiresonance_hz,
                repeats=strokes_looked_at(session, has_play=springy is not None and springy.play > 0.0),
            )  # fmt: skip
        except AxisStopped as stopped:
            if session.swings == before_it:
                raise
            session.stand_again()
            session.note(stopped.text)
            ripple, flicker = None, most
        swings = session.swings - before_it
        if swings:  # the drive has halved all gains: of them only the position gain is too high
            session.write({k: v for k, v in tried.to_drive().items() if k in EASED})
        rests = ripple is not None and not swings and flicker <= most and ripple_criterion(session, ripple).passed
        return ripple, swings, rests

    first, first_swings, rests = look(gains)
    if rests:
        return gains, first, 0
    for k in range(1, LOWERED):
        lower = gains.with_(position_gain=LOWER**k * gains.position_gain)
        session.write({"position.gain": lower.position_gain})
        ripple, _, rests = look(lower)
        if rests:
            session.note(f"At rest the axis hunted: the position gain is {lower.position_gain:.4g} 1/s now.")
            return lower, ripple, 0
    session.write({"position.gain": gains.position_gain})
    return gains, first, first_swings


def _never_stood(
    session: Session, gains: Gains, changes: dict[str, float], kept: dict[str, float], size: float,
    old: dict[str, Any], swings: int,
) -> Outcome:  # fmt: skip
    """The outcome where the loops swung until the drive stopped the axis, with every position gain that was tried."""
    return Outcome(
        findings=[
            Finding(kind="position_loop", label="Position gain", value=gains.position_gain, unit="1/s", run=0),
        ],
        changes=changes,
        runs=[_run("Position step, before", old, size, {}, in_force=kept)],
        summary="swings until the drive stops it",
        verdict=decide("position_loop", swing_criterion(swings), run=0, remarks=[BELOW]),
        plant=unrest_with(session, gains),
    )


def measured_plant(session: Session) -> FrequencyResponse | None:
    """Return the velocity plant that the velocity step measured last, or None."""
    return None if session.plant.springy is None else session.plant.springy.measured


def _step(session: Session, size: float, share: float) -> dict[str, Any]:
    session.enter("position step", share)
    length = round(STEP_SECONDS / session.rates.velocity)
    wave = np.concatenate([np.full(length, size), np.full(length, -size)])
    with session.enabled("position"):
        session.hold(0.1)
        record = session.excite_and_record(
            ["position", "position_ref", "i_q", "velocity", *(["load_position"] if session.on_load else [])],
            "position",
            wave,
            divider=session.rates.ticks,
            repeats=REPEATS,
        )
    session.standstill()
    mean = folded(record.channels, len(wave))
    middle = float(mean["position_ref"].mean())
    metrics = measure_step(
        session.rates.velocity * np.arange(length, dtype=np.float64),
        mean[session.place][:length],
        start=middle - size,
        target=middle + size,
        band=0.05,
    )
    return {"record": record, "metrics": metrics, "middle": middle, "repeat": len(wave)}


def _outcome(
    session: Session,
    gains: Gains,
    before: Gains,
    limited_by: str,
    load: TwoMass,
    winding: Winding,
    changes: dict[str, float],
    kept: dict[str, float],
    size: float,
    old: dict[str, Any],
    new: dict[str, Any],
    ripple: float,
    swings: int,
    met: _Met,
) -> Outcome:
    grid = np.geomspace(1.0, 1500.0, 400)
    model = velocity_plant(load, winding, gains, grid)
    loop = position_open(model, gains, grid, position_over_speed(load, winding, gains, grid))
    predicted = read_margins(loop, grid)
    margins: dict[str, Any] = {
        "predicted": predicted.as_dict(),
        "limited_by": limited_by,
        "gain_before": before.position_gain,
        "gain_after": gains.position_gain,
    }
    curves: dict[str, Any] = {
        "loop": "position",
        "predicted_open": curve_of(grid, loop),
        "predicted": curve_of(grid, loop / (1 + loop)),
        "predicted_margins": predicted.as_dict(),
    }
    metrics: dict[str, Any] = predicted.as_dict()
    plant = met.plant
    measured = None
    if plant is not None:
        f = plant.frequency
        measured_loop = position_open(plant.value, gains, f, met.over_speed)
        measured = read_margins(measured_loop, f)
        metrics = measured.as_dict()
        margins["measured"] = metrics
        curves["measured_open"] = curve_of(f, measured_loop, plant.coherence)
        curves["measured"] = curve_of(f, measured_loop / (1 + measured_loop), plant.coherence)
    working = Winding.from_drive(session.values)  # past the dead time, which damps small currents only
    models = [("model, small currents", load, winding), ("model, working current", load, working)]
    asked = replace(asked_of(session.asked), load_peak_db=session.asked.load_peak_db)
    rows = judge_loop("position", measured, models, gains, asked)
    rows += [ripple_criterion(session, ripple), *swing_criterion(swings)]
    restless = any(row.what in (RIPPLE, SWUNG) and not row.passed for row in rows)
    verdict = decide("position_loop", rows, run=1 if plant is None else 2, remarks=[BELOW] if restless else [])
    time, unit = step_response("position", load, winding, gains, duration=STEP_SECONDS)
    ideal = {"time": time.tolist(), "predicted_step": (new["middle"] - size + 2 * size * unit).tolist()}
    runs = [_run("Position step, before", old, size, {}, in_force=kept), _run("Position step, after", new, size, ideal)]
    if plant is not None:
        runs.append(
            RunRecord(
                kind="position_response",
                title="Position loop, from the measured plant",
                period=session.rates.velocity,
                channels={},
                excitation={"point": "torque"},
                metrics=metrics,
                curves=curves,
            )
        )
    runs += met.runs
    session.enter("done", 1.0)
    return Outcome(
        findings=[
            Finding(
                kind="position_loop",
                label="Position gain",
                value=gains.position_gain,
                unit="1/s",
                run=1,
            ),
        ],
        changes=changes,
        runs=runs,
        margins={"position": margins},
        summary=f"Kv {gains.position_gain:.0f} 1/s",
        verdict=verdict,
        plant=unrest_with(session, gains) if restless else None,
    )


def _run(
    title: str, step: dict[str, Any], size: float, curves: dict[str, Any], *, in_force: dict[str, float] | None = None
) -> RunRecord:
    record: Recording = step["record"]
    return RunRecord(
        kind="position_step",
        title=title,
        period=record.period,
        channels=record.channels,
        excitation={"point": "position", "size": 2 * size, "repeat": step["repeat"]},
        metrics=step["metrics"].as_dict(),
        curves=curves,
        in_force=in_force or {},
    )


PROCEDURE = declare(Procedure(
    key="position", step="position", does="Measure and tune", order=5, run=run_position_loop,
    plan=plan_within_travel("Position loop", 14), fine_feedback=True, back_to={RIPPLE: "velocity", SWUNG: "velocity"},
))  # fmt: skip
