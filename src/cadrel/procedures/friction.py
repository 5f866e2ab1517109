"""Friction over speed: constant speeds both ways over the same stretch, and what it takes to break away."""

import math
from dataclasses import dataclass

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import (
    Estimated,
    FrictionCurve,
    RubbedLoad,
    fit_friction,
    friction_both_ways,
    viscous_of_sampling,
)
from cadrel.core.identification.friction import FEWEST
from cadrel.core.parameters import field_of
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, Values, declare
from cadrel.procedures.errors import NotAllowed, TooFewSpeeds
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.session import GENTLE, Session

CHANNELS = ("position", "velocity", "i_q")
SPEEDS = 9  # constant speeds, evenly on a logarithmic scale
SLOWEST, FASTEST = 0.005, 0.6  # of the speed agreed to
EDGES, WITHIN = 3.0, 0.02  # counts that must pass in so long [s]: slower, a counted device shows standstill
LONGEST, SHORTEST = 2.5, 0.2  # [s] of one way
SETTLES = 0.25  # [s] after a speed is reached
RUN_UP = 0.5 * GENTLE + SETTLES  # [s] times the speed: the way until a speed is kept
BEGINS = 0.85  # of the travel agreed to
CREPT, CREPT_OVER, MOST_CREPT = 0.3, 0.02, 0.05  # of the speed; [s]; of the time: it sticks and slips
# Of the speed, by which stretches of `CREPT_OVER` may scatter: more is no constant speed. Friction is then the mean of
# what it is at many, of which the slow ones last longest: up to a fifth more than at their mean, as axes were drawn.
MOST_UNEVEN = 0.15
COURSE = 3  # degree of the polynomial that a speed follows while it is recorded
SMOOTHED = 0.004  # [s] over which a torque is meant before its peak is read
MOVED = math.radians(0.5)  # of the motor: an axis that has come so far has broken away
APPROACH = 0.1  # of the speed agreed to, between what is measured
NO_SURER = 0.08  # of breakaway: places may agree by chance, and an axis that creeps before it is freed holds less
ALIKE = 0.005  # of the friction at a speed: parts of a stretch that agree by chance are no surer than that
GOES_ON = 0.4  # of the travel agreed to, that a freed axis may go
PLACES = (-0.5, -0.2, 0.2, 0.5)  # of half the travel, where it is freed from rest: friction is not alike everywhere
ROSE = 0.5  # [s] in which the slow speed is asked for: torque rises slowly beside how fast it is read
RESTS = 0.4  # [s] at rest before it is freed: friction grows while parts rest on each other
RESTING = 0.2  # of the speed: slower, an axis that is let go of hardly coasts
CURVE = 60  # points of the curve that is kept
RECORDED_EVERY = 2  # velocity samples


@dataclass(frozen=True, slots=True, kw_only=True)
class _Point:
    """What one speed gave."""

    speed: float  # [rad/s]
    friction: Estimated
    constant: Estimated
    uneven: float  # [rad/s] standard deviation of the speed, over stretches of `CREPT_OVER`


def run_friction(session: Session) -> Outcome:
    """Measure friction at some constant speeds and at rest, and fit the curve.

    Raises
    ------
    NotAllowed
        The load is not identified, or there is no room for speeds within what is agreed to.
    TooFewSpeeds
        At most of them the axis stuck and slipped.
    """
    session.refresh()
    total = session.plant.total
    if total is None:
        raise NotAllowed(why="The load is not identified.", remedy="Run “Identify the load” first.")
    session.require_room(session.consent.travel)
    home = float(session.drive.status()["position"])
    kt = 1.5 * session.values["motor.pole_pairs"] * session.values["motor.flux_linkage"]
    speeds = _speeds(session)
    points, stuck, last = [], [], None
    for k, speed in enumerate(speeds):
        session.enter(f"{speed * session.axis.mechanism.unit_per_rad:.3g} {session.axis.mechanism.unit}/s, both ways",
                      0.05 + 0.75 * k / len(speeds))  # fmt: skip
        ways = _both_ways(session, home, speed)
        last = ways[0]
        point = _read(ways, speed, kt, total.inertia)
        if point is None:
            stuck.append(speed)
        else:
            points.append(point)
    session.enter("breaking away from rest", 0.82)
    held, freed = _breakaway(session, home, points[0].speed if points else speeds[0], kt)
    assert last is not None
    if stuck:
        slow = max(stuck) * session.axis.mechanism.unit_per_rad
        session.note(
            f"At {slow:.3g} {session.axis.mechanism.unit}/s and below it runs unevenly, or sticks and slips: not in "
            "the curve."
        )
    if len(points) < FEWEST:
        raise TooFewSpeeds(seen=len(points), tried=len(speeds))
    curve = fit_friction(
        np.array([p.speed for p in points]), np.array([p.friction.value for p in points]),
        np.array([math.hypot(p.friction.std, ALIKE * p.friction.value) for p in points]), breakaway=held,
        uneven=np.array([p.uneven for p in points]),
    )  # fmt: skip
    session.enter("done", 1.0)
    return _outcome(session, points, held, curve, last, freed)


def _speeds(session: Session) -> list[float]:
    """Constant speeds within what is agreed to, and what the device can still see."""
    agreed = min(session.consent.speed, session.values["limit.velocity"])
    room = BEGINS * session.consent.travel / (RUN_UP + 0.5 * SHORTEST)
    fastest = min(FASTEST * agreed, room)
    slowest = SLOWEST * agreed
    if session.axis.feedback.kind.has_edges:
        slowest = max(slowest, EDGES * session.axis.feedback.count_angle / WITHIN)
    if not slowest < 0.2 * fastest:
        raise NotAllowed(
            why="Between the slowest speed that the device still shows and the fastest within the travel there is no "
            "room for a curve.",
            remedy=f"Raise {field_of('procedure.travel')} or {field_of('procedure.velocity')}.",
        )
    return [float(s) for s in np.geomspace(slowest, fastest, SPEEDS)]


def _both_ways(session: Session, home: float, speed: float) -> list[Recording]:
    """Record one speed forward and back over the same stretch about home; it ends at rest."""
    run_up = speed * RUN_UP
    stretch = min(speed * LONGEST, 2 * (BEGINS * session.consent.travel - run_up))
    approach = APPROACH * session.consent.speed
    records = []
    with session.enabled_around("velocity", home):
        for way in (1.0, -1.0):
            session.go_to(home - way * (0.5 * stretch + run_up), speed=approach)
            session.run_at(way * speed)
            session.hold(SETTLES)
            session.arm(CHANNELS, seconds=stretch / speed, divider=RECORDED_EVERY * session.rates.ticks)
            records.append(session.recorded(at_most=stretch / speed + 2.0))
            session.drive.run_at(0.0, acceleration=speed / GENTLE)
            _come_to_rest(session, speed)
    session.standstill()
    return records


def _come_to_rest(session: Session, speed: float) -> None:
    """Wait until the axis itself rests: let go of while it still lags behind its command, it would coast on."""
    slow = max(RESTING * speed, SLOWEST * session.consent.speed)
    session.until(
        lambda s: not s["moving"] and abs(s["velocity"]) < slow, at_most=session.longest_to_break_away(speed) + 3.0,
        what="standstill",
    )  # fmt: skip


def _read(ways: list[Recording], speed: float, kt: float, inertia: float) -> _Point | None:
    """Friction at one speed; None where the axis stuck and slipped, ran too unevenly, or never came to it."""
    halves, uneven, kept = [], [], []
    for record in ways:
        n = max(round(CREPT_OVER / record.period), 2)
        means = np.abs(record["position"][n:] - record["position"][:-n]) / (n * record.period)
        if not len(means) or np.mean(means < CREPT * speed) > MOST_CREPT or means.std() > MOST_UNEVEN * speed:
            return None
        uneven.append(float(means.std()))
        # What went into speed is no friction. A slow loop still comes to its speed meanwhile: a cubic's worth.
        course = np.polynomial.Polynomial.fit(record.time, record["velocity"], COURSE)
        halves.append((record["position"], kt * record["i_q"] - inertia * course.deriv()(record.time)))
        kept.append(abs(float(np.mean(record["velocity"]))))
    try:
        friction, constant = friction_both_ways(halves[0], halves[1])
    except UnusableInput:
        return None
    return _Point(speed=float(np.mean(kept)), friction=friction, constant=constant, uneven=max(uneven))


def _breakaway(session: Session, home: float, speed: float, kt: float) -> tuple[Estimated | None, Recording | None]:
    """Free the axis from rest, at some places and both ways; what held it, and the last recording of that.

    None where it never stayed at rest: nothing holds it.
    """
    held, record = [], None
    approach = APPROACH * session.consent.speed
    # Freed at once it goes on at that speed meanwhile: no farther than there is room from where it was freed.
    patience = min(ROSE + session.longest_to_break_away(speed), GOES_ON * session.consent.travel / speed)
    with session.enabled_around("velocity", home):
        for place in PLACES:
            pair = []
            for way in (1.0, -1.0):
                session.go_to(home + place * BEGINS * session.consent.travel - way * MOVED, speed=approach)
                session.drive.run_at(0.0, acceleration=session.values["limit.acceleration"])
                session.hold(RESTS)
                session.arm(CHANNELS, seconds=patience, divider=session.rates.ticks)
                session.drive.run_at(way * speed, acceleration=speed / ROSE)
                record = session.recorded(at_most=patience + 2.0)
                peak = _peak(record, way, kt)
                if peak is not None:
                    pair.append(peak)
                session.drive.run_at(0.0, acceleration=speed / GENTLE)
                _come_to_rest(session, speed)
            if len(pair) == 2:
                held.append(0.5 * (pair[0] - pair[1]))
        session.go_to(home, speed=approach)
    session.standstill()
    if len(held) < len(PLACES):
        return None, record
    values = np.array(held)
    mean = float(values.mean())
    return Estimated(mean, max(float(values.std(ddof=1)), NO_SURER * abs(mean))), record


def _peak(record: Recording, way: float, kt: float) -> float | None:
    """The torque that freed the axis, its sign that of the motor's torque; None where it was not freed. [N·m]

    Read up to where it last crept at less than a share of its top speed so far: from there on it accelerates, and
    current is no longer friction.
    """
    n = max(round(SMOOTHED / record.period), 2)
    gone = way * (record["position"] - record["position"][0])
    if not (gone > MOVED).any():
        return None
    until = int(np.argmax(gone > MOVED))
    if until < 2 * n:
        return None  # it never rested
    speed = (gone[n:until] - gone[: until - n]) / (n * record.period)
    slow = np.nonzero(speed < CREPT * speed.max())[0]
    torque = np.convolve(way * kt * record["i_q"], np.ones(n) / n, mode="valid")
    return float(way * torque[: slow[-1] + 1].max()) if len(slow) else None


def _outcome(
    session: Session, points: list[_Point], held: Estimated | None, curve: FrictionCurve, record: Recording,
    freed: Recording | None,
) -> Outcome:  # fmt: skip
    v = np.append(0.0, np.geomspace(0.1 * points[0].speed, points[-1].speed, CURVE))
    accuracy = session.current_accuracy
    sliding = curve.sliding.within(accuracy)
    read = viscous_of_sampling(session.axis.motor)
    viscous = Estimated(curve.viscous.value, math.hypot(curve.viscous.std, read))
    per = session.axis.mechanism.unit_per_rad
    run = RunRecord(
        kind="friction", title="Friction over speed", period=record.period, channels=record.channels,
        excitation={"point": "velocity"},
        metrics={"points": [[p.speed, p.friction.value, p.friction.std] for p in points]},
        curves={
            "friction": {
                "speed": [p.speed for p in points], "torque": [p.friction.value for p in points],
                "std": [p.friction.std for p in points], "curve_speed": v.tolist(), "curve": curve.at(v).tolist(),
                "breakaway": None if held is None else held.value,
            }
        },
    )  # fmt: skip

    def finding(kind: str, label: str, value: Estimated, unit: str) -> Finding:
        return Finding(kind=f"friction_{kind}", label=label, value=value.value, unit=unit, std=value.std, run=0)

    findings = [
        finding("sliding", "Sliding friction", sliding, "N·m"),
        finding("viscous", "Friction per speed", viscous, "N·m·s/rad"),
    ]
    said = "breakaway hardly above sliding"
    if curve.breakaway is not None and curve.stribeck_speed is None:
        away = curve.breakaway.within(accuracy)
        findings.append(finding("breakaway", "Breakaway", away, "N·m"))
        said = f"breaks away at {away.value / max(sliding.value, 1e-12):.2f} times that; how it fades was not seen"
    elif curve.breakaway is not None and curve.stribeck_speed is not None:
        away, fade = curve.breakaway.within(accuracy), curve.stribeck_speed
        findings += [
            finding("breakaway", "Breakaway", away, "N·m"),
            finding("stribeck", "Breakaway fades at", fade, "rad/s"),
        ]
        said = (
            f"breaks away at {away.value / max(sliding.value, 1e-12):.2f} times that, which fades at "
            f"{fade.value * per:.3g} {session.axis.mechanism.unit}/s"
        )
    runs = [run]
    if freed is not None:
        runs.append(RunRecord(
            kind="breakaway", title="Breaking away, the last of eight", period=freed.period, channels=freed.channels,
            excitation={"point": "velocity"}, metrics={"held": None if held is None else held.value},
        ))  # fmt: skip
    return Outcome(
        findings=findings,
        runs=runs,
        plant=RubbedLoad(
            sliding=curve.sliding.value, viscous=max(curve.viscous.value, 0.0),
            breakaway=None if curve.breakaway is None else curve.breakaway.value,
            stribeck_speed=None if curve.stribeck_speed is None else curve.stribeck_speed.value,
        ),
        summary=f"friction {sliding.value:.3g} N·m, {said}",
    )  # fmt: skip


def _plan(axis: AxisModel, values: Values) -> Plan:
    per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
    travel, speed = axis.goal.travel / 2, min(axis.goal.velocity, values["limit.velocity"])
    current = min(values["limit.current"], axis.motor.current_peak)
    return Plan(
        title="Friction over speed", travel=travel, speed=speed, current=current, seconds=110.0,
        text=f"It runs at {SPEEDS} constant speeds up to {FASTEST * speed * per:.4g} {unit}/s, forward and back, "
        f"within {travel * per:.4g} {unit} to either side, and breaks away from rest eight times; about two "
        f"minutes.",
    )  # fmt: skip


PROCEDURE = declare(
    Procedure(
        key="friction", step="load", does="Measure friction over speed", run=run_friction, plan=_plan,
        fine_feedback=True,
        finds=("friction_sliding", "friction_viscous", "friction_breakaway", "friction_stribeck"),
    )
)  # fmt: skip
