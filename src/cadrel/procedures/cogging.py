"""Cogging over a turn of the motor, mapped at constant speed both ways."""

import math

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.identification import cogging_map
from cadrel.core.identification.cogging import CoggingMap, IntArray, together
from cadrel.core.parameters import field_of
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, Values, declare
from cadrel.procedures.errors import NotAllowed, SticksAndSlips
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.session import GENTLE, Session

CHANNELS = ("position", "velocity", "i_q")
SPEED = 2 * math.pi * 0.8  # [rad/s] of the motor, or what is agreed to: friction is past its minimum there
FAINT = 3e-4  # of the rated torque: cogging that nobody feels
TURNS = 3.0  # each way, where the travel has them
LEAST = 1.3  # turns that must be had, the approach to speed included
BEGINS = 0.85  # of the travel agreed to, from where it stood
APPROACH = 0.1  # of the speed agreed to, to where a way begins
SETTLES = 0.25  # [s] after the speed is reached
MOST_ORDER = 72  # per turn; twelve slots and eight poles make 24, eighteen and twenty 180, which is small
POINTS = 361  # of the curve that is kept
FASTER = np.array([2.0, 4.0, 8.0])  # times the speed, one after the other where it sticks
DOUBTED = 0.1  # of the largest order: above, it is turned at more speeds, as friction and shaft are others there
AGAIN = (1.6, 2.5)  # times the speed, each other than the one before by no whole number: what rings rings elsewhere
MOST_OF_SPEED = 0.5  # of the speed agreed to: what comes free of friction overshoots
CREPT, CREPT_OVER, MOST_CREPT = 0.3, 0.02, 0.02  # of the speed; [s]; of the time
RECORDED_EVERY = 2  # velocity samples


def run_cogging(session: Session) -> Outcome:
    """Run some turns forward and back at constant speed, and read what repeats with the turn.

    Raises
    ------
    NotAllowed
        The load is not known, or not even one turn can be run within the travel agreed to.
    SticksAndSlips
        It does not turn evenly at any of the speeds tried.
    """
    session.refresh()
    if session.plant.total is None:
        raise NotAllowed(why="The load is not identified.", remedy="Run “Identify the load” first.")
    speed, records = _evenly(session)
    maps = [_mapped(session, records)]
    for faster in AGAIN:
        if together(maps).doubt <= DOUBTED or not _is_agreed_to(session, faster * speed):
            break
        more = _turned(session, faster * speed)
        if _share_crept(more, faster * speed) > MOST_CREPT:
            break
        records += more
        maps.append(_mapped(session, more))
    session.enter("done", 1.0)
    kt, found = session.torque_constant, together(maps)
    if len(maps) > 1:
        session.note(f"One speed left the cogging in doubt: turned at {len(maps)} speeds, up to {AGAIN[len(maps) - 2]} "
                     "times as fast.")  # fmt: skip
    angle = np.linspace(0, 2 * math.pi, POINTS)
    curve = found.over(angle)
    hidden, seen = ~found.seen & ~np.isin(found.orders, found.named), ""
    unseen = found.orders[hidden]
    if len(unseen):
        seen = f" in {_ranges(found.orders[~hidden])} times a turn"
        session.note(
            "Not seen, because the load hardly lets the motor move there, or ripple of its torque may be as large: "
            f"{_ranges(unseen)} times a turn."
        )
    rated = kt * session.current_continuous
    drawn = {"angle_deg": np.degrees(angle).round(3).tolist(), "torque": curve.round(9).tolist()}
    kept = drawn if len(found.named) else {}  # a line at nought is no picture
    runs = [
        RunRecord(
            kind="cogging", title="Cogging, back" if k % 2 else "Cogging, forward", period=r.period,
            channels=r.channels, excitation={"point": "velocity"},
            metrics={"peak_to_peak": float(np.ptp(curve)), "unseen": unseen.tolist()},
            curves=kept if k == 0 else {},
        )
        for k, r in enumerate(records)
    ]  # fmt: skip
    named = found.named
    if not found.is_settled:
        most = found.at_most
        if len(named):
            session.note(f"{_ranges(np.sort(named))} times a turn stands out, but another order may be the larger one.")
        return Outcome(
            runs=runs,
            findings=[Finding(kind="cogging", label=f"Cogging{seen}, at most", value=most, unit="N·m", run=0)],
            summary=f"no cogging above {100 * most / rated:.2g} % of rated{seen}",
        )  # fmt: skip
    top = int(np.nonzero(found.orders == named[0])[0][0])
    value, std = float(found.amplitude[top]), float(found.std[top])
    return Outcome(
        findings=[
            Finding(kind="cogging", label=f"Cogging, {named[0]} times a turn", value=value, unit="N·m", std=std, run=0),
            Finding(kind="cogging_order", label="Its order", value=float(named[0]), unit="", run=0),
            Finding(kind="cogging_span", label="Cogging, peak to peak", value=float(np.ptp(curve)), unit="N·m", run=0),
        ],
        runs=runs,
        summary=f"{named[0]} times a turn {100 * value / rated:.2g} % of rated, {len(named)} orders stand out",
    )  # fmt: skip


def _mapped(session: Session, records: list[Recording]) -> CoggingMap:
    """The cogging that turns at one speed, forward and back, show."""
    kt = session.torque_constant
    return cogging_map(
        [(r["position"], r["i_q"]) for r in records], torque_constant=kt,
        mechanics=session.plant.mechanics, period=records[0].period, most=MOST_ORDER,
        pole_pairs=round(session.values["motor.pole_pairs"]), least=FAINT * kt * session.current_continuous,
    )  # fmt: skip


def _ranges(orders: IntArray) -> str:
    """Whole numbers in words: "3, 25 to 30"."""
    parts = np.split(orders, np.nonzero(np.diff(orders) > 1)[0] + 1)
    return ", ".join(f"{p[0]}" if len(p) == 1 else f"{p[0]} to {p[-1]}" for p in parts)


def _evenly(session: Session) -> tuple[float, list[Recording]]:
    """Record some turns at the slowest of some speeds at which the axis neither stands nor creeps; that speed as well.

    Raises
    ------
    SticksAndSlips
        It does so at all that are agreed to.
    """
    mechanism = session.axis.mechanism
    slowest = min(SPEED, 0.25 * session.consent.speed)
    speeds = [slowest, *(v for v in FASTER * slowest if _is_agreed_to(session, float(v)))]
    crept = 1.0
    for speed in speeds:
        records = _turned(session, speed)
        crept = _share_crept(records, speed)
        if crept <= MOST_CREPT:
            if speed > slowest:
                shown = f"{slowest * mechanism.unit_per_rad:.3g} {mechanism.unit}/s"
                session.note(f"At {shown} it stuck and slipped; turned {speed / slowest:.0f} times as fast.")
            return float(speed), records
    raise SticksAndSlips(speed=speeds[-1] * mechanism.unit_per_rad, unit=mechanism.unit, share=100 * crept)


def _is_agreed_to(session: Session, speed: float) -> bool:
    """Whether the consent has room for turns at a speed, its overshoot and the way up to it."""
    return speed < MOST_OF_SPEED * session.consent.speed and _turns_at(session, speed) >= LEAST


def _turns_at(session: Session, speed: float) -> float:
    """How many turns of the motor can be run at a speed within the travel agreed to."""
    room = 2 * BEGINS * session.consent.travel - speed * (GENTLE + SETTLES)
    return min(TURNS, room / (2 * math.pi))


def _turned(session: Session, speed: float) -> list[Recording]:
    """Record some turns at constant speed, forward and back; it ends where it began.

    Raises
    ------
    NotAllowed
        The travel agreed to has no room for even one.
    """
    turns = _turns_at(session, speed)
    if turns < LEAST:
        raise NotAllowed(
            why=f"Within the travel agreed to {max(turns, 0.0):.2g} turns of the motor can be run.",
            remedy=f"Raise {field_of('procedure.travel')} to {2 * LEAST / max(turns, 0.1):.2g} times as much.",
        )
    session.require_room(session.consent.travel)
    seconds = turns * 2 * math.pi / speed
    home = float(session.drive.status()["position"])
    approach = min(2 * speed, APPROACH * session.consent.speed)  # what breaks free at speed overshoots by far
    records = []
    for k, way in enumerate((1.0, -1.0)):
        session.enter("turning forward" if way > 0 else "turning back", 0.1 + 0.4 * k)
        with session.enabled_around("velocity", home):
            session.go_to(home - way * BEGINS * session.consent.travel, speed=approach)
            session.run_at(way * speed)
            session.hold(SETTLES)
            session.arm(CHANNELS, seconds=seconds, divider=RECORDED_EVERY * session.rates.ticks)
            records.append(session.recorded(at_most=seconds + 2.0))
            session.drive.run_at(0.0, acceleration=speed / GENTLE)
            session.until(lambda s: not s["moving"], at_most=3.0, what="standstill")
        session.standstill()
    with session.enabled_around("velocity", home):
        session.go_to(home, speed=approach)
    session.standstill()
    return records


def _share_crept(records: list[Recording], speed: float) -> float:
    """Share of the time in which it stood or crept, in means over `CREPT_OVER`."""
    slow = []
    for record in records:
        n = max(round(CREPT_OVER / record.period), 2)
        means = np.abs(record["position"][n:] - record["position"][:-n]) / (n * record.period)
        slow.append(float(np.mean(means < CREPT * speed)))
    return max(slow)


def _plan(axis: AxisModel, values: Values) -> Plan:
    per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
    travel, speed = axis.goal.travel / 2, min(axis.goal.velocity, values["limit.velocity"])
    current = min(values["limit.current"], axis.motor.current_peak)
    return Plan(
        title="Cogging", travel=travel, speed=speed, current=current, seconds=20.0,
        text=f"It turns slowly, up to {TURNS:.0f} turns of the motor forward and back, within {travel * per:.4g} "
        f"{unit} to either side at up to {speed * per:.4g} {unit}/s; about 20 s, longer "
        "where it sticks, or one speed leaves a doubt, and it is turned faster.",
    )  # fmt: skip


PROCEDURE = declare(
    Procedure(
        key="cogging", step="load", does="Map the cogging", run=run_cogging, plan=_plan, fine_feedback=True,
        finds=("cogging", "cogging_order", "cogging_span"),
    )
)  # fmt: skip
