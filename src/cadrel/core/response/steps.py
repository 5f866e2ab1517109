"""A recorded step -> rise time, overshoot, settling time."""

from dataclasses import asdict, dataclass

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class StepMetrics:
    """Numbers of a step response. Times from the step. None: never reached in the record."""

    rise_time: float | None  # [s] 10 % to 90 %
    overshoot: float  # fraction of the step
    settling_time: float | None  # [s] last entry into the band
    final: float
    peak: float

    def as_dict(self) -> dict[str, float | None]:
        """Return plain values."""
        return asdict(self)


def measure_step(
    time: FloatArray, value: FloatArray, *, start: float, target: float, at: float = 0.0, band: float = 0.02
) -> StepMetrics:
    """Return the metrics of a recorded step.

    Parameters
    ----------
    time, value : ndarray, shape (n,)
        The record.
    start, target : float
        Value before the step, and commanded after it.
    at : float
        Time of the step. [s]
    band : float
        Half width of the settling band, as a fraction of the step.

    Raises
    ------
    UnusableInput
        The step has no height or the record no samples after it.

    Notes
    -----
    Rise and overshoot are against the target, not against the last sample: a loop that never gets there must not
    look quick.
    """
    after = time >= at
    if start == target or after.sum() < 3:
        raise UnusableInput(what="There is no step in the record.", remedy="Record the step again.")
    t = time[after] - at
    y = (value[after] - start) / (target - start)
    ten, ninety = _first_reach(t, y, 0.1), _first_reach(t, y, 0.9)
    outside = np.nonzero(np.abs(y - 1) > band)[0]
    if not outside.size:
        settled: float | None = 0.0
    elif outside[-1] == y.size - 1:
        settled = None
    else:
        settled = float(t[outside[-1] + 1])
    tail = y[-max(1, y.size // 10) :]
    return StepMetrics(
        rise_time=None if ten is None or ninety is None else ninety - ten,
        overshoot=max(0.0, float(y.max()) - 1.0),
        settling_time=settled,
        final=start + float(tail.mean()) * (target - start),
        peak=start + float(y.max()) * (target - start),
    )


def _first_reach(t: FloatArray, y: FloatArray, level: float) -> float | None:
    above = np.nonzero(y >= level)[0]
    if not above.size:
        return None
    i = int(above[0])
    if i == 0:
        return float(t[0])
    return float(t[i - 1] + (t[i] - t[i - 1]) * (level - y[i - 1]) / (y[i] - y[i - 1]))
