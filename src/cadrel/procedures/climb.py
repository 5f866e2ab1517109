"""The experts' way: the real move as it is, then quicker gains step by step until the axis squeals, and two steps back.

Every try is a run of its own, the same move each time, to be laid over the others. It proves nothing: no margin is
measured on the way.
"""

from dataclasses import dataclass
from typing import Any

from cadrel.core.axis import AxisModel
from cadrel.core.control import Gains
from cadrel.core.motion import Profile
from cadrel.core.parameters import REGISTRY
from cadrel.core.tuning import FRICTION_SHARE, load_of, quicker
from cadrel.procedures.acceptance import PROCEDURE as ACCEPTANCE
from cadrel.procedures.acceptance import moved
from cadrel.procedures.declaration import Procedure, Values, declare
from cadrel.procedures.errors import AxisStopped, NotAllowed
from cadrel.procedures.judging import at_rest_after_a_kick, kick_size
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.real_move import plan_stroke
from cadrel.procedures.session import Session

RAISE, MOST_STEPS, BACK = 1.25, 12, 2  # times the gains in a step; steps up at the most; steps back from a squeal
SQUEALS = 3.0  # times what the device's noise, grown with the gain, explains of the ripple at rest
FAINT = 0.01  # of the continuous current: a ripple below is heard by nobody
KNOB = ("velocity.gain", "velocity.reset_time", "position.gain")
FORWARD = {
    "position.velocity_feedforward": 1.0, "position.acceleration_feedforward": 1.0,
    "position.friction_feedforward": FRICTION_SHARE,
}  # fmt: skip
SECONDS = 45.0  # of drive time, about


@dataclass(frozen=True, slots=True, kw_only=True)
class Try:
    """One try: how quick, and what the same move gave."""

    factor: float  # of the gains in hand
    ripple: float  # of the continuous current, rms, at rest
    settling: float | None  # [s] worst of the moves; None: not within the dwell
    following_error: float  # [rad] worst
    run: RunRecord


def run_climb(session: Session) -> Outcome:
    """Run the move on the gains in hand, with feedforward, then on quicker and quicker ones until it squeals.

    The gains of the last quiet try but one stay in the drive and are proposed; those from before are put back where the
    run is ended.

    Raises
    ------
    NotAllowed
        No load has been identified: neither feedforward nor gains in hand mean anything.
    """
    before = session.refresh()
    if session.plant.total is None:
        raise NotAllowed(why="The load is not identified.", remedy="Run the load step first.")
    kept = {key: before[key] for key in (*KNOB, *FORWARD)}
    hand = Gains.from_drive(before, session.rates)
    profile = plan_stroke(session)
    try:
        tries = [_try(session, profile, hand, 1.0, "Move, gains in hand")]
        tries[0].run.metrics["baseline"] = True  # where this climb begins, among those of the axis
        session.write(FORWARD)
        tries.append(_try(session, profile, hand, 1.0, "Move, feedforward on"))
        top, squeals, why = _up(session, profile, hand, tries)
        back = RAISE ** max(top - BACK if squeals else top, 0)
        tries.append(_try(session, profile, hand, back, f"Move, in the end: gains × {back:.3g}"))
    except BaseException:
        session.write(kept)
        raise
    session.note(f"{why} In the end the gains are {back:.3g} times those in hand.")
    session.note("Nothing is proven by this: no margin was measured. Measure and tune, or the acceptance, judge.")
    session.enter("done", 1.0)
    return _outcome(session, tries, squeals_at=RAISE**top if squeals else None)


def _up(session: Session, profile: Profile, hand: Gains, tries: list[Try]) -> tuple[int, bool, str]:
    """Raise the gains until the axis squeals.

    Returns the last step, whether the axis squealed at it, and what was seen.
    """
    quiet = tries[-1].ripple
    for step in range(1, MOST_STEPS + 1):
        factor = RAISE**step
        own = quicker(hand, factor)
        if not _within_bounds(own):
            return step - 1, False, f"Beyond gains × {RAISE ** (step - 1):.3g} the drive takes no more."
        session.enter(f"gains × {factor:.3g}", 0.1 + 0.8 * step / (MOST_STEPS + 2))
        try:
            swings = session.swings
            ripple = _ripple(session, own)
            if session.swings > swings:
                return step, True, f"At gains × {factor:.3g} the loop swung ever wider, and the drive halved its gains."
            if ripple > max(SQUEALS * factor * quiet, FAINT) or ripple > session.axis.robustness.ripple:
                return (
                    step,
                    True,
                    f"At gains × {factor:.3g} the current ripples by {100 * ripple:.2g} % at rest: it squeals.",
                )
            tries.append(_moved(session, profile, factor, ripple, f"Move, gains × {factor:.3g}"))
        except AxisStopped as stopped:
            if not stopped.ran_away:
                raise
            session.stand_again()
            return step, True, f"At gains × {factor:.3g} the axis ran away, and the drive stopped it."
    return MOST_STEPS, False, f"Up to gains × {RAISE**MOST_STEPS:.3g} it did not squeal."


def _within_bounds(gains: Gains) -> bool:
    values = gains.to_drive()
    return all(REGISTRY[key].minimum <= values[key] <= REGISTRY[key].maximum for key in KNOB)


def _try(session: Session, profile: Profile, hand: Gains, factor: float, title: str) -> Try:
    session.enter(title.lower(), 0.05 if factor == 1.0 else 0.93)
    return _moved(session, profile, factor, _ripple(session, quicker(hand, factor)), title)


def _ripple(session: Session, gains: Gains) -> float:
    """Put gains into the drive and return what trembles at rest after a small kick, of the continuous current."""
    values = gains.to_drive()
    session.write({key: values[key] for key in KNOB})
    load, _ = load_of(session.plant, session.values)
    torque, _ = at_rest_after_a_kick(
        session, "position", kick_size(session, gains.position_gain), load_swings_hz=load.antiresonance_hz
    )
    return torque / (session.axis.motor.torque_constant * session.current_continuous)


def _moved(session: Session, profile: Profile, factor: float, ripple: float, title: str) -> Try:
    record, moves = moved(session, profile, 1)
    session.standstill()
    settled = [m.settling_time for m in moves]
    worst = None if any(s is None for s in settled) else max(s for s in settled if s is not None)
    error = max(m.following_error_peak for m in moves)
    metrics: dict[str, Any] = {
        "factor": factor, "ripple": ripple, "settling_time": worst, "following_error": error,
        "overshoot": max(m.overshoot for m in moves), "current_peak": max(m.current_peak for m in moves),
        "current_rms": max(m.current_rms for m in moves),
    }  # fmt: skip
    run = RunRecord(
        kind="climb", title=title, period=record.period, channels=record.channels,
        excitation={"distance": session.axis.goal.distance, "repeats": 1}, metrics=metrics,
        in_force={key: session.values[key] for key in (*KNOB, *FORWARD)},
    )  # fmt: skip
    return Try(factor=factor, ripple=ripple, settling=worst, following_error=error, run=run)


def _outcome(session: Session, tries: list[Try], *, squeals_at: float | None) -> Outcome:
    first, last = tries[0], tries[-1]
    at = len(tries) - 1
    findings = [
        Finding(kind="climb_factor", label="Gains, times those in hand", value=last.factor, unit="", run=at),
        Finding(kind="climb_error_before", label="Following error, gains in hand", value=first.following_error,
                unit="rad", run=0),
        Finding(kind="climb_error", label="Following error, in the end", value=last.following_error, unit="rad",
                run=at),
    ]  # fmt: skip
    if squeals_at is not None:
        findings.append(
            Finding(kind="climb_squeal", label="It squeals at gains times", value=squeals_at, unit="", run=at)
        )
    for told, one, run in (("gains in hand", first, 0), ("in the end", last, at)):
        if one.settling is not None:
            kind = "climb_settling_before" if run == 0 else "climb_settling"
            findings.append(Finding(kind=kind, label=f"Settling, {told}", value=one.settling, unit="s", run=run))
    settled = "does not settle" if last.settling is None else f"settles in {1e3 * last.settling:.0f} ms"
    return Outcome(
        findings=findings,
        changes={key: session.values[key] for key in (*KNOB, *FORWARD)},
        runs=[t.run for t in tries],
        margins={} if squeals_at is None else {"position": {"limited_by": "its squeal, two steps above"}},
        summary=f"gains × {last.factor:.3g}, {settled}",
    )


def _plan(axis: AxisModel, values: Values) -> Plan:
    move = ACCEPTANCE.plan(axis, values)
    per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
    return Plan(
        title="Climb", travel=move.travel, speed=move.speed, current=move.current, seconds=SECONDS,
        text=f"The real move, {axis.goal.distance * per:.4g} {unit} out and back at up to {move.speed * per:.4g} "
        f"{unit}/s, on the gains in hand and then again and again on gains a quarter higher, until the current ripples "
        f"at rest; then two steps back and once more. It will squeal for a moment. About {SECONDS:.0f} s; proves "
        "nothing.",
    )  # fmt: skip


PROCEDURE = declare(Procedure(
    key="climb", step="position", does="Climb until it squeals", run=run_climb, plan=_plan, fine_feedback=True,
    finds=(
        "climb_factor", "climb_squeal", "climb_error_before", "climb_error", "climb_settling_before", "climb_settling",
    ),
))  # fmt: skip
