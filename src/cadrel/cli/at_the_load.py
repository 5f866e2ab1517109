"""The planned move as the load makes it: what no drive without a device there can see, read off the rig itself."""

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from cadrel.bench import DriveService
from cadrel.core.axis import AxisModel, initial_gains
from cadrel.core.parameters import default_drive_values
from cadrel.core.response import MoveMetrics
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures import Consent, ProcedureError, Session
from cadrel.procedures.acceptance import moved
from cadrel.procedures.judging import STEPS_AT_REST, WINDOW_SHARE, to_and_fro
from cadrel.procedures.real_move import plan_stroke

STROKES = 3  # out and back: what friction lets go of late hunts after some of them
STEP = 2e-3  # [s] between two looks at the load
DWELL = 1.0  # [s] after each move: what swings for longer counts as that
RESTS = 0.05  # [s] at the end of a dwell, whose mean is where the load came to rest
AT_REST = 0.4  # [s] at the end of a dwell, over which the current's ripple is read
WIDE = 10.0  # times the move: a following-error window that trips on nothing


@dataclass(frozen=True, slots=True, kw_only=True)
class Moved:
    """A few strokes out and back: the worst of them."""

    settling: float  # [s] from the end of the command until the load stays within the window of where it rests
    following_error: float  # [rad] worst of the motor while the command moves
    ripple: float = 0.0  # [A] rms of the current's command at rest after them, beside its slow course
    swings: int = 0  # how often the drive halved its gains
    sways: float = 0.0  # [rad] to either side, of the motor at rest after them
    in_window: float = math.inf  # [s] from the end of the command until the motor stays in the goal's window

    def meets(self, axis: AxisModel) -> bool:
        """Whether all strokes settle and follow as the goal asks, and the motor stands still after them."""
        goal = axis.goal
        most = max(STEPS_AT_REST * axis.feedback.count_angle, WINDOW_SHARE * goal.window)
        return (
            self.sways <= most and self.in_window <= goal.settling_time and self.following_error <= goal.following_error
        )


def moved_at_the_load(drive: SimulatedDrive, axis: AxisModel) -> Moved | None:
    """Run the axis's move with what the drive holds; None where it could not be run to its end."""
    seen: list[tuple[float, ...]] = []
    service = DriveService({"axis": drive})

    def advance(seconds: float) -> None:
        left = seconds
        while left > 1e-9:
            service.advance(min(STEP, left))
            left -= STEP
            state = drive.running.state
            seen.append((
                float(state.theta2), float(state.moving), float(state.position_ref), float(state.theta1),
                float(state.iq_command),
            ))  # fmt: skip

    session = _session(drive, replace(axis, goal=replace(axis.goal, dwell=DWELL)), advance)
    moves = _moves(session, STROKES)
    if moves is None:
        return None
    record = np.array(seen)
    return Moved(
        settling=_settled(record, axis.goal.window), following_error=max(m.following_error_peak for m in moves),
        ripple=_ripple(record), swings=session.swings, sways=_sways(record),
        in_window=max(math.inf if m.settling_time is None else m.settling_time for m in moves),
    )  # fmt: skip


def _session(drive: SimulatedDrive, axis: AxisModel, advance: Callable[[float], None]) -> Session:
    """A session of one who has control of a drive and agrees to the axis's move."""
    client = LinkedDrive(LocalLink(DriveService({"axis": drive}).answer, advance), "axis")
    client.take_control("evidence", force=True)
    session = Session(
        drive=client, axis=axis, consent=Consent(travel=1.2 * axis.goal.distance, speed=2 * axis.motor.speed_max)
    )
    session.refresh()
    return session


def _moves(session: Session, repeats: int) -> list[MoveMetrics] | None:
    """Run the move so many times, no following error tripping; None where it could not be run to its end.

    What stopped it is reset: the next one runs with other gains.
    """
    kept = session.values["limit.following_error"]
    session.write({"limit.following_error": WIDE * session.axis.goal.distance})
    try:
        return moved(session, plan_stroke(session), repeats)[1]
    except ProcedureError:
        session.stand_again()
        return None
    finally:
        session.drive.write({"limit.following_error": kept})


def with_gains(drive: SimulatedDrive, values: Mapping[str, float]) -> None:
    """Write values to a drive, as one who has control of it."""
    service = DriveService({"axis": drive})
    client = LinkedDrive(LocalLink(service.answer, service.advance), "axis")
    client.take_control("evidence", force=True)
    client.write(dict(values))


def with_starting_gains(drive: SimulatedDrive, axis: AxisModel) -> None:
    """Put the gains that an axis starts with into a drive, filters and feedforward as preset; the rest stays."""
    presets = default_drive_values()
    own = {k: v for k, v in presets.items() if k.startswith(("velocity.", "position."))}
    gains = {k: v for k, v in initial_gains(axis).items() if not k.startswith("current.")}
    with_gains(drive, own | gains)


def _rests(seen: np.ndarray) -> list[slice]:
    """Return where the axis dwells after each move of a record of (load, moving, command, ...)."""
    busy = (seen[:, 1] > 0.5).astype(int)
    ends = np.nonzero(np.diff(busy) == -1)[0] + 1
    begins = np.nonzero(np.diff(busy) == 1)[0] + 1
    found = []
    for end in ends:
        later = begins[begins > end]
        found.append(slice(int(end), min(int(later[0]) if later.size else len(seen), int(end + DWELL / STEP))))
    return found


def _settled(seen: np.ndarray, window: float) -> float:
    """The worst settling of the load over the moves of a record of (load, moving, command, ...). [s]"""
    worst = 0.0
    for rest in _rests(seen):
        place = seen[rest, 0]
        outside = np.nonzero(np.abs(place - place[-round(RESTS / STEP) :].mean()) > window)[0]
        worst = max(worst, STEP * float(outside[-1] + 1) if outside.size else 0.0)
    return worst


def _sways(seen: np.ndarray) -> float:
    """The farthest that the motor goes to and fro at rest, of a record of (load, moving, command, motor, ...). [rad]"""
    return max((to_and_fro(seen[rest, 3][-round(AT_REST / STEP) :]) for rest in _rests(seen)), default=0.0)


def _ripple(seen: np.ndarray) -> float:
    """The worst rms at rest of the last column of a record, beside a parabola: what friction lets go of slowly."""
    worst = 0.0
    for rest in _rests(seen):
        current = seen[rest, -1][-round(AT_REST / STEP) :]
        t = np.linspace(-1.0, 1.0, len(current))
        worst = max(worst, float(np.std(current - np.polynomial.Polynomial.fit(t, current, 2)(t))))
    return worst
