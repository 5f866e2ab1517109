"""Recorded point-to-point moves -> settling, following error, current."""

from dataclasses import asdict, dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class MoveMetrics:
    """One move. Settling counts from the end of the command to the last entry into the window."""

    start: float  # [s] start of the command in the record
    end: float  # [s] end of the command
    settling_time: float | None  # [s] None: not settled before the next command or the end of the record
    overshoot: float  # [rad] beyond the target
    following_error_peak: float  # [rad] while the command moves
    following_error_rms: float  # [rad]
    current_peak: float  # [A peak]
    current_rms: float  # [A peak-of-sine, effective over the move and its dwell]

    @property
    def move_time(self) -> float:
        """Duration of the command. [s]"""
        return self.end - self.start

    def as_dict(self) -> dict[str, float | None]:
        """Return plain values."""
        return {**asdict(self), "move_time": self.move_time}


def measure_moves(
    time: FloatArray,
    command: FloatArray,
    actual: FloatArray,
    active: FloatArray,
    current: FloatArray,
    *,
    window: float,
) -> list[MoveMetrics]:
    """Return the metrics of every complete move in a record.

    Parameters
    ----------
    time, command, actual, active, current : ndarray, shape (n,)
        Time [s]; commanded and actual position [rad]; profile active (0 or 1); torque-making current [A].
    window : float
        Half width of the position window. [rad]

    Raises
    ------
    UnusableInput
        The channels differ in length, or no command starts and ends in the record.
    """
    if len({len(a) for a in (time, command, actual, active, current)}) != 1:
        raise UnusableInput(what="The channels differ in length.", remedy="Record them together.")
    busy = (active > 0.5).astype(int)
    rises = np.nonzero(np.diff(busy) == 1)[0] + 1
    falls = np.nonzero(np.diff(busy) == -1)[0] + 1
    moves = []
    for i, begin in enumerate(rises):
        ends = falls[falls > begin]
        if not ends.size:
            break
        end = int(ends[0])
        stop = int(rises[i + 1]) if i + 1 < len(rises) else len(time)
        moves.append(_measure(time, command, actual, current, int(begin), end, stop, window))
    if not moves:
        raise UnusableInput(what="No command starts and ends in the record.", remedy="Record longer.")
    return moves


def _measure(
    time: FloatArray,
    command: FloatArray,
    actual: FloatArray,
    current: FloatArray,
    begin: int,
    end: int,
    stop: int,
    window: float,
) -> MoveMetrics:
    target = command[stop - 1]
    direction = np.sign(target - command[begin]) or 1.0
    error = command - actual
    outside = np.nonzero(np.abs(target - actual[end:stop]) > window)[0]
    if not outside.size:
        settled: float | None = 0.0
    elif outside[-1] == stop - end - 1:
        settled = None
    else:
        settled = float(time[end + outside[-1] + 1] - time[end])
    moving = slice(begin, end)
    return MoveMetrics(
        start=float(time[begin]),
        end=float(time[end]),
        settling_time=settled,
        overshoot=max(0.0, float((direction * (actual[end:stop] - target)).max())),
        following_error_peak=float(np.abs(error[moving]).max()),
        following_error_rms=float(np.sqrt(np.mean(error[moving] ** 2))),
        current_peak=float(np.abs(current[begin:stop]).max()),
        current_rms=float(np.sqrt(np.mean(current[begin:stop] ** 2))),
    )
