"""The rotor angle after a power-up that tells nothing: by alignment, or by nudges that hardly move the shaft."""

import math
from dataclasses import dataclass, field

import numpy as np

from cadrel.core.identification import angle_from_breakaway
from cadrel.link import RefusedByDrive
from cadrel.procedures.errors import NotAllowed, NotConfirmed
from cadrel.procedures.outcome import Outcome, RunRecord
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.beforehand import look_beforehand
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.phasing.plan import SEARCH_TRAVEL
from cadrel.procedures.phasing.turning import settle_on
from cadrel.procedures.session import Session

TURN = 2 * math.pi
NUDGES = 16
STIRRED = math.radians(1.2)  # electrical: the shaft is let go
RISE = 0.25  # [s] to the full current
MOST_STD = math.radians(6)
SIDES = math.radians(60)  # electrical: from where alignment comes


@dataclass(slots=True)
class _Nudges:
    vector: list[float] = field(default_factory=list)
    shaft: list[float] = field(default_factory=list)
    current: list[float] = field(default_factory=list)
    way: list[float] = field(default_factory=list)


def find_angle(session: Session) -> Outcome:
    """Find the rotor's electrical angle and give it to the drive until the next power-up.

    Raises
    ------
    NotAllowed
        The device tells the angle itself.
    WiredWrongly, NotConfirmed
        The shaft does not move, or the nudges contradict each other.
    """
    session.refresh()
    if session.axis.knows_angle_at_power_up:
        raise NotAllowed(why="The device tells the angle at power-up.", remedy="Nothing needs to be searched.")
    look_beforehand(session)
    return _search(session) if session.axis.power_up == "search" else _align(session)


def _per_count(session: Session) -> float:
    v = session.values
    return (-1.0 if v["feedback.direction"] else 1.0) * TURN / v["feedback.counts"] * v["motor.pole_pairs"]


def _align(session: Session) -> Outcome:
    """Pull the shaft to a vector from below and from above: friction cancels in the mean."""
    session.enter("pulling the shaft to a vector", 0.2)
    current = session.axis.phasing_share * session.current_continuous
    per_count = _per_count(session)
    centre = float(session.drive.status()["position"])
    with session.enabled_around("vector", centre):
        settle_on(session, -SIDES, current)
        ends = []
        for k, from_side in enumerate((-SIDES, SIDES)):
            session.enter("coming from above" if k else "coming from below", 0.4 + 0.3 * k)
            settle_on(session, from_side, current)
            settle_on(session, 0.0, current)
            looks = [session.hold(0.02)["counts"] for _ in range(5)]
            ends.append((float(np.mean(looks)) + 0.5) * per_count)
        status = session.look()
        here = (status["counts"] + 0.5) * per_count
    lag = 0.5 * (ends[1] - ends[0])
    if abs(lag) > SIDES / 2:
        raise wired_wrongly(
            [faults.did_not_follow(commanded=2 * SIDES, seen=2 * SIDES - 2 * abs(lag), current=current)]
        )
    session.drive.adopt_angle(here - 0.5 * (ends[0] + ends[1]))
    return _outcome("alignment", abs(lag), 0.0, RunRecord(
        kind="power_up", title="Angle by alignment", period=1.0, channels={"shaft_el": np.array(ends)},
        excitation={"current": current}, metrics={"lag_deg": math.degrees(lag)},
    ))  # fmt: skip


def _search(session: Session) -> Outcome:
    """Nudge with vectors all round; where the shaft stirs, note the current and let go."""
    per_count = _per_count(session)
    pairs = session.values["motor.pole_pairs"]
    most = session.current_continuous
    start = session.drive.status()
    zero = (start["counts"] + 0.5) * per_count
    nudges, widest = _Nudges(), 0.0
    for k in range(NUDGES):
        session.enter(f"nudge {k + 1} of {NUDGES}", (k + 0.5) / NUDGES)
        # Opposite vectors in turn: what one moves, the other moves back.
        angle = (k // 2) * TURN / NUDGES + (k % 2) * math.pi
        found = _nudge(session, angle, most, per_count, pairs, start["position"])
        status = session.standstill()
        now = (status["counts"] + 0.5) * per_count - zero
        widest = max(widest, abs(now))
        if found is not None:
            current, way, before = found
            nudges.vector.append(angle)
            nudges.shaft.append(before - zero)
            nudges.current.append(current)
            nudges.way.append(way)
    if len(nudges.way) < NUDGES // 3 or np.ptp(nudges.way) == 0:
        raise wired_wrongly([faults.did_not_follow(commanded=TURN, seen=widest if nudges.way else 0.0, current=most)])
    result = angle_from_breakaway(*(np.array(x) for x in (nudges.vector, nudges.shaft, nudges.current, nudges.way)))
    if result.std > MOST_STD:
        raise NotConfirmed(
            what=f"The nudges contradict each other: ± {math.degrees(result.std):.0f}°. Friction differs from place to "
            "place, or the axis shakes."
        )
    here = (session.drive.status()["counts"] + 0.5) * per_count - zero
    session.drive.adopt_angle(result.angle + here)
    record = RunRecord(
        kind="power_up", title="Angle by small motion", period=1.0,
        channels={"vector": np.array(nudges.vector), "current": np.array(nudges.current), "way": np.array(nudges.way)},
        excitation={"nudges": NUDGES}, metrics={
            "std_deg": math.degrees(result.std), "moved_deg": math.degrees(widest), "load_share": result.load_share,
        },
    )  # fmt: skip
    return _outcome("search", result.std, widest, record)


def _nudge(
    session: Session, angle: float, most: float, per_count: float, pairs: float, start: float
) -> tuple[float, float, float] | None:
    """Raise the current of a vector until the drive's guard sees the shaft stir; current, way, shaft before."""
    drive = session.drive
    before = drive.status()
    room = STIRRED / pairs
    session.arm(("counts", "i_d"), seconds=RISE + 0.05, divider=4)
    try:
        drive.enable(
            "vector", guard_low=before["position"] - room, guard_high=before["position"] + room,
            guard_speed=session.consent.speed,
        )  # fmt: skip
    except RefusedByDrive as refusal:
        raise NotAllowed(why=refusal.parts[0], remedy=refusal.parts[2]) from refusal
    # From no current at once to the angle; the rate is that of a jump, nothing flows yet.
    drive.vector(angle=angle, rate=1e6, current=most, rise=most / RISE)
    end = before["time"] + RISE + 0.08
    status = before
    while status["time"] < end:
        session.check_abort()
        drive.link.wait(0.01)
        status = drive.status()
        if abs(status["position"] - start) * pairs > SEARCH_TRAVEL:
            drive.stop("the search went too far")
            raise NotConfirmed(what="The shaft slid further than the search may move it.")
    if status["mode"] != "off":
        drive.disable()
    while drive.recorder_state() != "done":
        drive.link.wait(0.01)
    record = drive.recording()
    counts, current = record["counts"], record["i_d"]
    moved = (counts - counts[0]) * per_count
    far = np.nonzero(np.abs(moved) >= 0.9 * STIRRED)[0]
    if not far.size:
        return None
    way = math.copysign(1.0, moved[far[0]])
    # The first count that way, less half a count's doubt: what the current was when it began to move.
    first = int(np.nonzero(way * moved[: far[0] + 1] <= 0)[0][-1])
    return float(current[max(first - 2, 0) : first + 1].mean()), way, (counts[0] + 0.5) * per_count


def _outcome(how: str, doubt: float, moved: float, record: RunRecord) -> Outcome:
    text = f"angle by {how}, ± {math.degrees(doubt):.1f}°"
    if how == "search":
        text += f", moved {math.degrees(moved):.1f}° electrical"
    return Outcome(runs=[record], summary=text)
