"""The real move, out and back, many times; judged against the axis's goal."""

from dataclasses import replace
from typing import Any

import numpy as np
from scipy.ndimage import uniform_filter1d

from cadrel.core.axis import AxisModel
from cadrel.core.control import Gains
from cadrel.core.identification import Unrest
from cadrel.core.motion import Profile, stroke_sequence
from cadrel.core.parameters import field_of
from cadrel.core.response import MoveMetrics, measure_moves
from cadrel.core.twin import Twin
from cadrel.core.verdict import at_most, decide
from cadrel.link import Recording
from cadrel.procedures.chance import (
    BY_CHANCE,
    MOST_REPEATS,
    is_slow,
    may_be_woken,
    more_often,
    repeats_judged,
    settled_by_chance,
)
from cadrel.procedures.declaration import Argument, Procedure, Values, declare
from cadrel.procedures.foreseen import Foreseen, foresee, laid_over, largest_of, parted
from cadrel.procedures.judging import LOOKED_AT, RIPPLE, SWUNG, ripple_criterion, trembling
from cadrel.procedures.on_load import apart, play_in_motion
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.real_move import plan_stroke
from cadrel.procedures.session import FloatArray, Session
from cadrel.procedures.velocity.seen import ONCE_LATE, unrest_with

CHANNELS = (
    "position",
    "position_ref",
    "following_error",
    "velocity",
    "velocity_ref",
    "i_q",
    "i_q_ref",
    "profile_active",
    "v_bus",
    "voltage_limited",
    "current_limited",
)
FEWEST_AT_REST = 20  # samples before the move from which a flicker is read
NOISY_SHARE = 0.4  # of the window: what a device's noise may take of it before it is averaged
AVERAGED, LONGEST_AVERAGE = 0.025, 5e-3  # of the settling time asked for, that a position is averaged over; at most [s]
FLICKER_SHARE = 0.8  # of the window: more at rest, and it can hardly stay within
PACE = "time constant of the position loop"
MOST_SAMPLES = 30_000  # per channel: long sequences are recorded at a lower rate


def run_acceptance(session: Session) -> Outcome:
    """Run the strokes, record them, judge them."""
    gains = Gains.from_drive(session.refresh(), session.rates)  # the drive may halve them
    goal, swings = session.axis.goal, session.swings
    profile = plan_stroke(session)
    repeats = int(session.arguments.get("repeats", repeats_judged(session)))
    session.enter("repeating the move", 0.05)
    record, moves = moved(session, profile, repeats)
    passes = judge(
        session, moves, record.channels, swings=session.swings - swings, ripple=ripple_at_rest(session, record, moves)
    )["accepted"]  # what misses is judged by that, and not once more
    why = _by_chance(session, moves) if passes and "repeats" not in session.arguments else None
    if why is not None and repeats < more_often(goal.repeats):
        repeats = more_often(goal.repeats)
        session.enter("repeating it more often, for it may have passed by chance", 0.4)
        session.note(why)
        record, moves = moved(session, profile, repeats)
    session.enter("running the move on the twin", 0.9)
    foreseen = _foreseen(session, profile, repeats)
    if samples := averaged_over(session, record):
        session.note(
            "The device's noise takes much of the window by itself: what has settled is read off the position averaged "
            f"over {1e3 * samples * record.period:.2g} ms."
        )
    ripple = ripple_at_rest(session, record, moves)
    result = judge(session, moves, record.channels, swings=session.swings - swings, ripple=ripple)
    if foreseen is not None:
        result["twin"] = foreseen.as_dict()
    run = RunRecord(
        kind="acceptance",
        title=f"Move × {repeats}",
        period=record.period,
        channels=record.channels
        | (laid_over(foreseen, record) if foreseen is not None else {})
        | ({"apart": apart(record).astype(np.float32)} if session.on_load else {}),
        excitation={"distance": goal.distance, "repeats": repeats},
        metrics=result,
    )
    session.enter("done", 1.0)
    worst = result["settling_time"]
    remarks = [] if result["accepted"] else _why_not(session, record)
    late = None if remarks else slow_for_it(session, worst)
    if late is not None:
        result["criteria"].append(late)
        remarks.append(LATE.format(allowed=field_of("goal.settling_time")))
    unrest = None
    woken = session.swings > swings
    if woken:
        remarks.append(SWINGS.format(field=field_of("velocity.gain")))
    if ripple is not None and not ripple_criterion(session, ripple).passed:
        remarks.append(TREMBLES.format(field=field_of("velocity.gain"), allowed=field_of("tuning.ripple")))
        woken = True
    if woken:
        unrest = unrest_with(session, gains)
    if late is not None:
        unrest = replace(unrest or session.plant.unrest or Unrest(), late=True)
    if foreseen is not None:
        error = result["following_error"]
        remarks += parted(foreseen, settling=worst, following_error=error, window=goal.window)
    for remark in remarks:
        session.note(remark)
    label = "passes" if result["accepted"] else "fails"
    text = f"{label}, settles in {1e3 * worst:.0f} ms" if worst is not None else "fails, does not settle"
    return Outcome(
        findings=[
            Finding(kind="acceptance", label="Worst settling time", value=worst, unit="s", run=0)
            if worst is not None
            else Finding(
                kind="acceptance", label="Worst following error", value=result["following_error"], unit="rad", run=0
            ),
            *(play_in_motion(session, record) if session.on_load else []),
        ],
        verdict=decide(
            "acceptance",
            [
                at_most(c["what"].lower(), c["limit"], c["value"], unit=c["unit"], tolerance=c.get("tolerance", 0.0))
                for c in result["criteria"]
            ],
            run=0,
            remarks=remarks,
        ),
        runs=[run],
        plant=unrest,
        accepted=result["accepted"],
        acceptance=result,
        summary=text,
    )


def _by_chance(session: Session, moves: list[MoveMetrics]) -> str | None:
    """Say why moves that passed tell little of the next ones; None where they tell enough."""
    if settled_by_chance(session, moves):
        return "What the move leaves comes in late: it is run more often."
    if may_be_woken(session):
        return "After some of such moves the twin trembles, and the axis may: the move is run more often."
    return None


def _foreseen(session: Session, profile: Profile, repeats: int) -> Foreseen | None:
    """The sequence on the twin; None where the load was never identified: the move itself does not need that.

    No more of the strokes than it keeps: one is like the other there.
    """
    if session.plant.total is None:
        session.note("There is no twin: the load is not identified.")
        return None
    twin = Twin.of_identified(session.axis, session.values, session.plant, session.rates)
    fit = int(twin.longest / (2 * (profile.duration + session.axis.goal.dwell)))
    if fit < repeats:
        session.note(f"The twin makes {fit or 'none'} of the {repeats} moves out and back: more is too long for it.")
    return foresee(twin, profile, session.axis.goal, repeats=min(repeats, fit)) if fit else None


def moved(session: Session, profile: Profile, repeats: int) -> tuple[Recording, list[MoveMetrics]]:
    """Run a stroke out and back so many times, and return the record with what is read from each move."""
    goal = session.axis.goal
    sequence = stroke_sequence(profile, dwell=goal.dwell, repeats=repeats)
    seconds = sequence.duration + 0.2
    divider = session.rates.ticks * max(1, int(np.ceil(seconds / session.rates.velocity / MOST_SAMPLES)))
    with session.enabled("position"):
        session.hold(0.3)
        session.arm(
            [*CHANNELS, *(["load_position", "acceleration_ref"] if session.on_load else [])],
            seconds=seconds,
            divider=divider,
            pre=round(0.05 / (divider * session.rates.current)),
            signal="profile_active",
            level=0.5,
        )
        session.hold(0.08)
        session.drive.run_path(sequence.segments)
        record = session.recorded(at_most=seconds + 3)
    moves = measure_moves(
        record.time,
        record["position_ref"],
        place_of(session, record),
        record["profile_active"],
        record["i_q"],
        window=goal.window,
    )
    return record, moves


def place_of(session: Session, record: Recording) -> FloatArray:
    """Return where the axis was, averaged where its device is too noisy to tell by single samples. [rad]"""
    position, samples = record[session.place].astype(np.float64), averaged_over(session, record)
    return uniform_filter1d(position, samples, mode="nearest") if samples else position


def averaged_over(session: Session, record: Recording) -> int:
    """Return how many samples of a position are averaged; 0: each tells for itself.

    What leaves the window must be the axis and not its device: where the noise that it shows before the first move
    takes up much of the window, the position is averaged over a share of the settling time asked for, as much before as
    after each sample, by which no settling is read off by more than half of that.
    """
    goal = session.axis.goal
    rest, dwelling = _before_the_move(session, record)
    samples = round(min(AVERAGED * goal.settling_time, LONGEST_AVERAGE) / record.period)
    if len(rest) < FEWEST_AT_REST or samples < 2 or _largest(rest, dwelling) <= NOISY_SHARE * goal.window:
        return 0
    return samples


def _before_the_move(session: Session, record: Recording) -> tuple[FloatArray, int]:
    """The position beside its command before the first move, [rad], and how many samples all dwells have."""
    before = record["profile_active"] < 0.5
    first = int(np.argmax(~before)) if (~before).any() else len(before)
    rest = (record["position_ref"] - record[session.place])[:first].astype(np.float64)
    return rest, int(np.count_nonzero(before)) - first


def _largest(rest: FloatArray, dwelling: int) -> float:
    """How far a position at rest flickers over all dwells. [rad]

    Few samples are seen before the first move, and every one of all dwells has to lie within the window: of noise the
    largest of so many is further out by the root of twice their logarithm (extreme values of a normal distribution).
    """
    away = rest - np.median(rest)
    return max(float(np.abs(away).max()), float(away.std()) * largest_of(dwelling))


TREMBLES = (
    "After one of the moves the current trembles at rest: friction lets go late, or the loop hunts between two steps "
    "of its device. Measure and tune the velocity loop again, which bears this from now on, or take {field} down by a "
    "fifth; then run the move again. Or allow more by {allowed}."
)
LATE = (
    "The load that swings behind its shaft keeps the position loop slow, and what the move leaves comes in late. "
    "Measure and tune the velocity loop again, which leaves room for a quicker position loop from now on; then the "
    "position loop, and run the move again. Or allow more by {allowed}."
)
SWINGS = (
    "In one of the moves the loop swung ever wider, and the drive halved its gains. Measure and tune the velocity loop "
    "again, which bears this from now on, or take {field} down by a third; then run the move again."
)
BETWEEN = (
    "The position loop compares the device on the load: what lies between it and the motor is inside the loop. Play "
    "and friction let it creep or hunt, and a load that rings low keeps its gain low. Take out the play, or choose the "
    "device on the motor as {field}; then that is what is judged."
)


def _why_not(session: Session, record: Recording) -> list[str]:
    """Say what no tuning mends: a position that flickers at rest by more than the window allows."""
    rest, dwelling = _before_the_move(session, record)
    between = [BETWEEN.format(field=field_of("feedback.position_from"))] if session.on_load else []
    if len(rest) < FEWEST_AT_REST:
        return between
    goal = session.axis.goal
    if samples := averaged_over(session, record):  # by what is left of it the move was judged
        rest = uniform_filter1d(rest, samples, mode="nearest")[samples // 2 : -(samples // 2)]
    flicker = _largest(rest, dwelling)
    if flicker <= FLICKER_SHARE * goal.window:
        return between
    per, unit = session.axis.mechanism.unit_per_rad, session.axis.mechanism.unit
    return [
        f"At rest, before the move, the position flickers: over all dwells by up to ±{flicker * per:.3g} {unit}; the "
        f"window is ±{goal.window * per:.3g} {unit}. That leaves a tuning little of it: quieten the device (cable, "
        f"shield, amplitude), fit a finer one, or widen {field_of('goal.window')}."
    ]


def slow_for_it(session: Session, settling: float | None) -> dict[str, Any] | None:
    """The criterion that a position loop misses which is too slow for a move that settled late; None where none is.

    A load that swings behind a stiffly held motor keeps it slow. What a move leaves is brought in by friction's leave
    then, one time soon and the next time late. Nothing is given up for that where disturbances matter most.
    """
    goal = session.axis.goal
    if (settling is not None and settling <= goal.settling_time) or not is_slow(session):
        return None
    return {
        "what": PACE.capitalize(), "value": 1 / session.values["position.gain"],
        "limit": goal.settling_time / ONCE_LATE, "unit": "s", "passed": False,
    }  # fmt: skip


def ripple_at_rest(session: Session, record: Recording, moves: list[MoveMetrics]) -> float | None:
    """Return the ripple of torque at the end of the worst dwell [N·m], rms; None where dwells are too short to tell."""
    ends = [*(m.start for m in moves[1:]), float(record.time[-1])]
    found = []
    for move, until in zip(moves, ends, strict=True):
        rests = slice(*np.searchsorted(record.time, [until - LOOKED_AT * (until - move.end), until]))
        current = record["i_q_ref"][rests].astype(np.float64)
        if len(current) >= FEWEST_AT_REST:
            found.append(trembling(current))
    return session.axis.motor.torque_constant * max(found) if found else None


def judge(
    session: Session,
    moves: list[MoveMetrics],
    channels: dict[str, np.ndarray],
    *,
    swings: int = 0,
    ripple: float | None = None,
) -> dict[str, Any]:
    """Return worst values over all moves, and each criterion with its verdict.

    `ripple` of torque at rest, rms, where it was read. [N·m] `swings`: how often the drive had to halve its gains
    meanwhile; what it reached then, it reached on other gains.
    """
    goal = session.axis.goal
    settled = [m.settling_time for m in moves]
    worst = None if any(s is None for s in settled) else max(s for s in settled if s is not None)
    error = max(m.following_error_peak for m in moves)
    time = max(m.move_time for m in moves)
    criteria: list[dict[str, Any]] = [
        {"what": "Move time", "value": time, "limit": goal.move_time, "unit": "s", "passed": time <= goal.move_time},
        {
            "what": "Settling time",
            "value": worst,
            "limit": goal.settling_time,
            "unit": "s",
            "passed": worst is not None and worst <= goal.settling_time,
        },
        {
            "what": "Following error",
            "value": error,
            "limit": goal.following_error,
            "unit": "rad",
            "passed": error <= goal.following_error,
        },
    ]
    if session.axis.robustness.matters == "overshoot":
        beyond = max(m.overshoot for m in moves)
        criteria.append(
            {"what": "Overshoot", "value": beyond, "limit": goal.window, "unit": "rad", "passed": beyond <= goal.window}
        )
    if ripple is not None:
        row = ripple_criterion(session, ripple)
        criteria.append(
            {
                "what": RIPPLE.capitalize(), "value": row.found, "limit": row.asked, "unit": row.unit,
                "passed": row.passed, "tolerance": row.tolerance,
            }
        )  # fmt: skip
    if swings:
        criteria.append({"what": SWUNG.capitalize(), "value": swings, "limit": 0, "unit": "times", "passed": False})
    return {
        "accepted": all(c["passed"] for c in criteria),
        "criteria": criteria,
        "settling_time": worst,
        "following_error": error,
        "move_time": time,
        "moves": [m.as_dict() for m in moves],
        "current_peak": max(m.current_peak for m in moves),
        "current_rms": float(np.mean([m.current_rms for m in moves])),
        "overshoot": max(m.overshoot for m in moves),
        "bus_peak": float(channels["v_bus"].max()),
        "voltage_limited": float(np.mean(channels["voltage_limited"])),
        "current_limited": float(np.mean(channels["current_limited"])),
    }


def _plan(axis: AxisModel, values: Values) -> Plan:
    per, unit, goal = axis.mechanism.unit_per_rad, axis.mechanism.unit, axis.goal
    speed, current = 1.1 * values["limit.velocity"], min(values["limit.current"], axis.motor.current_peak)
    seconds = 2 * goal.repeats * (goal.move_time + goal.dwell)
    return Plan(
        title="The real move",
        travel=1.05 * goal.distance + goal.following_error * 4,
        speed=speed,
        current=current,
        seconds=seconds,
        text=f"It moves {goal.distance * per:.4g} {unit} to one side and back, {goal.repeats} times unless you say "
        f"otherwise, and {BY_CHANCE} times as often where that tells too little, at up to {speed * per:.4g} {unit}/s "
        f"and {current / np.sqrt(2):.3g} A rms, about {seconds:.0f} s.",
    )


PROCEDURE = declare(Procedure(
    key="acceptance", step="acceptance", does="Run the move", order=6, run=run_acceptance, plan=_plan,
    fine_feedback=True,
    arguments=(
        Argument(
            key="repeats", label="How often", unit="", low=1, high=MOST_REPEATS, whole=True,
            preset=lambda axis: float(axis.goal.repeats),
        ),
    ),
    back_to={RIPPLE: "velocity", SWUNG: "velocity", PACE: "velocity"},
))  # fmt: skip
