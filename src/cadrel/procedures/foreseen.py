"""The real move on the twin: what it would give before anything moves, and how much room it leaves."""

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from cadrel.core.axis.understanding import Goal
from cadrel.core.motion import Profile, move_profile, stroke_sequence
from cadrel.core.response import MoveMetrics, measure_moves
from cadrel.core.twin import Twin, TwinRecord
from cadrel.link import Recording

WIDEST_ROOM = 16.0  # times inertia or speed, beyond which nobody asks
BISECTIONS = 7  # of the room's logarithm: 2 %
LATER, LATER_BY = 1.5, 0.010  # times and seconds by which an axis settles later than its twin, to be told
FURTHER = 1.5  # times the twin's following error, to be told
LEFT = 0.25  # of a window at the least, however much a device flickers
MOVES = 0.5  # above, the command moves
AT_REST = 0.1  # [s] at the end of a dwell, whose mean is where the load rests
OF_WINDOW = 0.5  # share of the window below which a difference of following errors is nobody's business


@dataclass(frozen=True, slots=True, kw_only=True)
class Foreseen:
    """What the twin does in the planned sequence."""

    record: TwinRecord
    moves: list[MoveMetrics]
    load_settling: float | None  # [s] worst, of the load; None: not within the dwell

    @property
    def settling(self) -> float | None:
        """The worst of all moves. [s]"""
        return _worst([m.settling_time for m in self.moves])

    @property
    def following_error(self) -> float:
        """The worst while the command moves. [rad]"""
        return max(m.following_error_peak for m in self.moves)

    @property
    def current_peak(self) -> float:
        """[A peak]"""
        return max(m.current_peak for m in self.moves)

    @property
    def current_rms(self) -> float:
        """Effective, over moves and dwells. [A peak]"""
        return float(np.sqrt(np.mean([m.current_rms**2 for m in self.moves])))

    @property
    def limited(self) -> float:
        """Share of the time in a limit of voltage or current, the larger."""
        return float(max(self.record.voltage_limited.mean(), self.record.current_limited.mean()))

    def meets(self, goal: Goal) -> bool:
        """Whether settling and following error are within the goal."""
        return (
            self.settling is not None
            and self.settling <= goal.settling_time
            and self.following_error <= goal.following_error
        )

    def as_dict(self) -> dict[str, Any]:
        """Return its figures as plain values."""
        return {
            "settling_time": self.settling, "following_error": self.following_error,
            "load_settling": self.load_settling, "current_peak": self.current_peak,
            "current_rms": self.current_rms, "limited": self.limited,
        }  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Room:
    """How much more the move would bear with the gains as they are, by the twin."""

    inertia: float | None  # times the whole inertia, what is more being on the load; None: not even the present one
    quicker: float | None  # times the speed; the limits of speed and acceleration left aside


def foresee(twin: Twin, profile: Profile, goal: Goal, *, repeats: int = 1) -> Foreseen:
    """Run out, dwell, back, dwell on the twin, so many times. Raises `UnusableInput` if it is longer than it keeps."""
    sequence = stroke_sequence(profile, dwell=goal.dwell, repeats=repeats)
    record = twin.run(sequence, rest=0.0)

    def read(place: np.ndarray, window: float) -> list[MoveMetrics]:
        return measure_moves(record.time, record.position_ref, place, record.moving, record.current, window=window)

    return Foreseen(
        record=record,
        moves=read(record.position, quiet_window(goal.window, twin.flicker, int(np.sum(record.moving < MOVES)))),
        load_settling=_worst([m.settling_time for m in read(record.load, goal.window)]),
    )


def quiet_window(window: float, flicker: float, samples: int) -> float:
    """Return what a window leaves of itself beside a device's flicker, rms, over so many samples at rest. [rad]

    Of noise the largest of so many is further out than its rms by the root of twice their logarithm.

    References
    ----------
    .. [1] H. Cramér, Mathematical Methods of Statistics, Princeton 1946, 28.6: the largest of n normal values (from
       memory).
    """
    return max(window - largest_of(samples) * flicker, LEFT * window)


def largest_of(samples: int) -> float:
    """Return about how many standard deviations the largest of so many normal values lies out."""
    return math.sqrt(2 * math.log(max(samples, 2)))


def rest_of_load(record: TwinRecord, window: float) -> float:
    """Return when the load stays within the window of where it comes to rest, the worst of all moves. [s]

    How far it rests from where the motor stands is friction over the stiffness of the shaft, and no loop's doing that
    sees the motor alone. Infinite where it still swings at the end of a dwell.
    """
    period, busy = record.period, np.concatenate([[0.0], record.moving, [1.0]])
    begins, ends = (np.nonzero(np.diff(busy) == way)[0] for way in (-1.0, 1.0))
    worst = 0.0
    for begin in begins:
        place = record.load[begin : ends[ends > begin][0]]
        tail = min(round(AT_REST / period), len(place) // 2)
        outside = np.nonzero(np.abs(place - place[-tail:].mean()) > window)[0]
        if outside.size:
            worst = max(worst, math.inf if outside[-1] >= len(place) - tail else period * float(outside[-1] + 1))
    return worst


def room_of(twin: Twin, distance: float, limits: dict[str, float], goal: Goal) -> Room:
    """Return the largest inertia and the quickest move with which the twin still meets the goal.

    Parameters
    ----------
    distance : float
        Of the move, signed. [rad]
    limits : dict
        Velocity, acceleration and jerk of the planned profile. SI
    """

    def heavier(factor: float) -> bool:
        return _holds(replace(twin, load=twin.load.weighing(factor)), move_profile(distance, **limits), goal)

    def faster(factor: float) -> bool:
        profile = move_profile(
            distance,
            velocity=factor * limits["velocity"],
            acceleration=factor**2 * limits["acceleration"],
            jerk=factor**3 * limits["jerk"],
        )
        return _holds(replace(twin, velocity_limit=factor * twin.velocity_limit), profile, goal)

    return Room(inertia=_largest(heavier), quicker=_largest(faster))


def _holds(twin: Twin, profile: Profile, goal: Goal) -> bool:
    return foresee(twin, profile, goal).meets(goal)


def _largest(holds: Callable[[float], bool]) -> float | None:
    """The largest factor from 1 on that holds, by bisection; None if 1 does not."""
    if not holds(1.0):
        return None
    low, high = 0.0, float(np.log(WIDEST_ROOM))
    for _ in range(BISECTIONS):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if holds(float(np.exp(middle))) else (low, middle)
    return float(np.exp(low))


def laid_over(foreseen: Foreseen, record: Recording) -> dict[str, np.ndarray]:
    """Return the twin's channels at a recording's times, the starts of both moves one over the other."""
    active = record["profile_active"] > 0.5
    begun = record.time[int(np.argmax(active))] - foreseen.record.period
    found = foreseen.record.at(record.time - begun)
    offset = float(record["position_ref"][0])
    return {
        "twin_position": found["position"] + offset,
        "twin_following_error": found["following_error"],
        "twin_i_q": found["i_q"],
    }


def parted(foreseen: Foreseen, *, settling: float | None, following_error: float, window: float) -> list[str]:
    """Say in words where the measured move was worse than the twin's; empty where they agree."""
    remarks, own = [], foreseen.settling
    if own is not None and (settling is None or settling > LATER * own + LATER_BY):
        told = "never" if settling is None else f"after {1e3 * settling:.0f} ms"
        remarks.append(
            f"The twin settles after {1e3 * own:.0f} ms, the axis {told}: what no run has identified (breakaway, "
            "cogging, the device's noise) or what changed since costs the rest."
        )
    more = following_error - foreseen.following_error
    if following_error > FURTHER * foreseen.following_error and more > OF_WINDOW * window:
        remarks.append(
            f"The axis strays {following_error / max(foreseen.following_error, 1e-12):.1f} times as far as its twin "
            "while it moves: identify the load anew, or look for what rubs or pulls along the way."
        )
    return remarks


def _worst(times: list[float | None]) -> float | None:
    known = [t for t in times if t is not None]
    return max(known) if len(known) == len(times) else None
