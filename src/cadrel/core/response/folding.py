"""Repeats laid over each other: derived from a whole recording whenever it is looked at, never kept in its place."""

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput

FloatArray = NDArray[np.float64]
SETTLING = 1  # repeats left out at the start, in which the axis still remembers what was before


def folded(channels: Mapping[str, NDArray[np.floating]], samples: int) -> dict[str, FloatArray]:
    """Return the mean over repeats, the first left out.

    Parameters
    ----------
    channels : mapping of str to ndarray, shape (n * samples,)
        A recording of n repeats, n > 1.
    samples : int
        In one repeat.

    Raises
    ------
    UnusableInput
        The recording is not a whole number of repeats, or only one.

    Notes
    -----
    A step injected at the position is not in the recorded set-point: there the two are added, so that the command is
    what was asked of the axis.
    """
    length = len(next(iter(channels.values()))) if channels else 0
    if samples <= 0 or length % samples or length <= SETTLING * samples:
        raise UnusableInput(
            what=f"{length} samples are not some repeats of {samples}.", remedy="Look at the recording as it is."
        )
    return {
        key: np.asarray(values, dtype=np.float64).reshape(-1, samples)[SETTLING:].mean(0)
        for key, values in channels.items()
    }


def with_injected_position(channels: Mapping[str, FloatArray]) -> dict[str, FloatArray]:
    """Return channels whose position set-point has the injected part in it."""
    return {**channels, "position_ref": channels["position_ref"] + channels["excitation"]}
