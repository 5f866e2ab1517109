"""The rotor angle by nudges: vectors whose current rises until the shaft just stirs, then lets go.

Sixteen nudges all round tell roughly where the rotor stands. There a strong vector holds the shaft; turned away
slowly it drags the shaft along, and half-way between where it does so forward and back stands the rotor.
"""

import math
from dataclasses import dataclass, field

import numpy as np

from cadrel.core.identification import SearchResult, SlipResult, angle_from_breakaway, angle_from_slips
from cadrel.link import Recording, RefusedByDrive
from cadrel.procedures.errors import NotAllowed, NotConfirmed
from cadrel.procedures.outcome import Outcome, RunRecord
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.phasing.plan import NUDGES, SEARCH_TRAVEL, SLIPS, SLIPS_MOST
from cadrel.procedures.phasing.vector import electrical_per_count
from cadrel.procedures.session import Session

TURN = 2 * math.pi
STIRRED = math.radians(1.2)  # electrical: the shaft is let go
SEEN = math.radians(0.6)  # electrical: it went along
RISE = 0.25  # [s] to the highest current
WANDERED = math.radians(2.5)  # electrical, from where the search began
COME_BACK = 4  # nudges at most, to come back
ROOM_MOST = math.radians(4)  # electrical, for one of them
HOLD = 0.1  # [s] with the current up and the vector still
AWAY = math.radians(60)  # electrical, that the vector turns away at most
TURNING = math.radians(90)  # [rad/s] electrical, of the vector turning away
RETRIES = 8  # places at which the shaft may turn out not to be held
BEGUN = math.radians(0.1)  # electrical: the vector turns
LEAST_STEP = math.radians(3)
ROUGHLY = math.radians(25)  # doubt of the nudges all round with which it goes on
GOOD_DOUBT = math.radians(0.8)  # of the result: no further try
MOST_DOUBT = math.radians(2.0)
LOWER = 0.6  # of the full current, every other time: what moves with the current is the load's doing


@dataclass(frozen=True, slots=True)
class _Nudge:
    """One vector, and what the shaft did."""

    vector: float  # [rad]
    shaft: float  # [rad] electrical, from where the search began, before the nudge
    current: float  # [A] at which it began to move
    way: float  # +1 or -1


@dataclass(slots=True)
class _Search:
    session: Session
    per_count: float
    home: float  # [rad] electrical position at which the search began
    start: float  # position of the drive there
    moved: float = 0.0  # [rad] electrical, furthest rest from home
    room: float = STIRRED  # electrical, of a nudge that brings it back [rad]
    nudges: list[_Nudge] = field(default_factory=list)

    def here(self) -> float:
        """Electrical position of the resting shaft from home. [rad]"""
        status = self.session.standstill()
        now = (status["counts"] + 0.5) * self.per_count - self.home
        self.moved = max(self.moved, abs(now))
        return float(now)

    def come_back(self) -> float:
        """Nudge the shaft back home if it has wandered; where it then rests. [rad]"""
        now = self.here()
        for _ in range(COME_BACK):
            back = next((n for n in reversed(self.nudges) if n.way * now < 0), None)
            if abs(now) < WANDERED or back is None:
                break
            # The same vector, as the rotor stands now.
            vector = back.vector + now - back.shaft
            if self.nudge(vector, self.session.current_continuous, room=self.room) is None:
                break
            before, now = now, self.here()
            if abs(before) - abs(now) < 0.3 * STIRRED:  # a coupling springs back, or the load weighs against it
                self.room = min(1.4 * self.room, ROOM_MOST)
        return now

    def nudge(self, vector: float, most: float, *, room: float = STIRRED) -> _Nudge | None:
        """Raise the current of a vector until the drive's guard sees the shaft stir; None if it never does."""
        found = _nudge(self, vector, most, room)
        if found is not None:
            self.nudges.append(found)
        return found


def search(session: Session) -> Outcome:
    """Find the rotor's electrical angle within a few degrees of motion and give it to the drive.

    Raises
    ------
    WiredWrongly, NotConfirmed
        The shaft does not stir, goes too far, or the nudges contradict each other.
    """
    per_count = electrical_per_count(session)
    status = session.drive.status()
    s = _Search(session, per_count, (status["counts"] + 0.5) * per_count, float(status["position"]))
    rough = _all_round(s)
    slips = _slips(s, rough)
    session.drive.adopt_angle(slips.angle + s.here())
    record = RunRecord(
        kind="power_up", title="Angle by small motion", period=1.0,
        channels={
            "vector": np.array([n.vector for n in s.nudges]), "current": np.array([n.current for n in s.nudges]),
            "way": np.array([n.way for n in s.nudges]),
        },
        excitation={"nudges": len(s.nudges)}, metrics={
            "std_deg": math.degrees(slips.std), "moved_deg": math.degrees(s.moved), "load_share": rough.load_share,
        },
    )  # fmt: skip
    return Outcome(
        runs=[record],
        summary=f"angle by search, ± {math.degrees(slips.std):.1f}°, moved {math.degrees(s.moved):.1f}° electrical",
    )


def _all_round(s: _Search) -> SearchResult:
    most = s.session.current_continuous
    for k in range(NUDGES):
        s.session.enter(f"nudge {k + 1} of {NUDGES}", 0.4 * (k + 0.5) / NUDGES)
        # Opposite vectors in turn: what one moves, the other moves back.
        s.nudge((k // 2) * TURN / NUDGES + (k % 2) * math.pi, most)
        s.come_back()
    ways = [n.way for n in s.nudges]
    if len(ways) < NUDGES // 3 or np.ptp(ways) == 0:
        raise wired_wrongly([faults.did_not_follow(commanded=TURN, seen=s.moved if ways else 0.0, current=most)])
    of = (np.array(x) for x in zip(*((n.vector, n.shaft, n.current, n.way) for n in s.nudges), strict=True))
    rough = angle_from_breakaway(*of)
    if rough.std > ROUGHLY:
        raise _contradiction(rough.std)
    return rough


def _slips(s: _Search, rough: SearchResult) -> SlipResult:
    """Turn strong vectors away from the rotor to both sides, again and again from the better angle."""
    centre = rough.angle
    tries: list[tuple[float, float, float]] = []  # vector ahead, behind, current
    for k in range(SLIPS_MOST):
        s.session.enter(f"turning away, {k + 1}", 0.4 + 0.6 * min(k / SLIPS, 0.95))
        share = LOWER if k and k % 2 == 0 else 1.0
        current = share * s.session.current_continuous
        ends = []
        for way in (1.0, -1.0):
            centre, end = _slip(s, centre, rough, way, current)
            if end is not None:
                ends.append(end)
        if len(ends) == 2:
            tries.append((ends[0], ends[1], current))
        elif share == 1.0:
            raise wired_wrongly([faults.did_not_follow(commanded=AWAY, seen=s.moved, current=current)])
        # The first only finds the centre: until then the shaft was pulled aside when the current rose.
        of = np.array(tries[1:] or tries).T
        result = angle_from_slips(*of, load_share=rough.load_share, stirred=SEEN)
        centre = result.angle
        if k + 1 >= SLIPS and result.std < GOOD_DOUBT:
            break
    if result.std > MOST_DOUBT:
        raise _contradiction(result.std)
    return result


def _slip(s: _Search, centre: float, rough: SearchResult, way: float, current: float) -> tuple[float, float | None]:
    """Hold the shaft, turn the vector away; where it could hold, and the vector at home when the shaft went along."""
    for _ in range(RETRIES):
        vector = centre + s.come_back()
        record = _turn_away(s, vector, way, current)
        moved = (record["counts"] - record["counts"][0]) * s.per_count
        seen = np.nonzero(np.abs(moved) >= SEEN)[0]
        if not seen.size:
            return centre, None
        first = int(seen[0])
        turned = math.remainder(float(record["vector_angle"][first]) - vector, TURN)
        went = math.copysign(1.0, moved[first])
        if abs(turned) > BEGUN and went == way:
            return centre, centre + turned
        # It moved while it should have been held: the vector stood off the rotor, on the side to which it moved.
        off = math.asin(min(rough.current / max(abs(float(record["i_d"][first])), 1e-9), 1.0))
        centre -= went * max(off, LEAST_STEP)
    raise _contradiction(rough.std)


def _turn_away(s: _Search, vector: float, way: float, most: float) -> Recording:
    seconds = RISE + HOLD + AWAY / TURNING
    end = _begin(s, ("counts", "i_d", "vector_angle"), seconds, vector, most)
    if _watch(s, end - AWAY / TURNING):
        s.session.drive.vector(angle=vector + way * AWAY, rate=TURNING, current=most, rise=most / RISE)
        _watch(s, end + 0.05)
    return _finish(s)


def _contradiction(doubt: float) -> NotConfirmed:
    return NotConfirmed(
        what=f"The nudges contradict each other: ± {math.degrees(doubt):.0f}°. Friction differs from place to "
        "place, or the axis shakes."
    )


def _nudge(s: _Search, vector: float, most: float, room: float) -> _Nudge | None:
    _watch(s, _begin(s, ("counts", "i_d"), RISE + 0.05, vector, most, room=room))
    record = _finish(s)
    counts, current = record["counts"], record["i_d"]
    moved = (counts - counts[0]) * s.per_count
    far = np.nonzero(np.abs(moved) >= 0.9 * STIRRED)[0]
    if not far.size:
        return None
    way = math.copysign(1.0, moved[far[0]])
    # The first count that way, less half a count's doubt: what the current was when it began to move.
    first = int(np.nonzero(way * moved[: far[0] + 1] <= 0)[0][-1])
    shaft = float((counts[0] + 0.5) * s.per_count - s.home)
    return _Nudge(vector, shaft, float(current[max(first - 2, 0) : first + 1].mean()), way)


def _begin(
    s: _Search, channels: tuple[str, ...], seconds: float, vector: float, most: float, *, room: float = STIRRED
) -> float:
    """Record, and raise a vector's current; the drive lets go when the shaft stirs. Returns when it will be over."""
    session, drive = s.session, s.session.drive
    before = session.seen(drive.status())
    room /= session.values["motor.pole_pairs"]
    session.arm(channels, seconds=seconds, divider=session.rates.ticks)
    try:
        drive.enable(
            "vector", guard_low=before["position"] - room, guard_high=before["position"] + room,
            guard_speed=session.consent.speed,
        )  # fmt: skip
    except RefusedByDrive as refusal:
        session.seen(drive.status())
        raise NotAllowed(why=refusal.parts[0], remedy=refusal.parts[2]) from refusal
    # From no current at once to the angle; the rate is that of a jump, nothing flows yet.
    drive.vector(angle=vector, rate=1e6, current=most, rise=most / RISE)
    return float(before["time"]) + seconds + 0.03


def _watch(s: _Search, until: float) -> bool:
    """Look until a time, or until the drive let go; whether it still holds."""
    drive = s.session.drive
    status = drive.status()
    while status["time"] < until and status["mode"] != "off":
        s.session.check_abort()
        drive.wait(0.01)
        status = s.session.seen(drive.status())
        if abs(status["position"] - s.start) * s.session.values["motor.pole_pairs"] > SEARCH_TRAVEL:
            drive.stop("the search went too far")
            raise NotConfirmed(what="The shaft slid further than the search may move it.")
    return bool(status["mode"] != "off")


def _finish(s: _Search) -> Recording:
    drive = s.session.drive
    if drive.status()["mode"] != "off":
        drive.disable()
    while drive.recorder_state() != "done":
        drive.wait(0.01)
    return drive.recording()
