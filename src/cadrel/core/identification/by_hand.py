"""An electrical offset from readings noted by hand, or what contradicts it."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from cadrel.core.errors import CoreError

FEWEST = 2
STEPPED = 20.0  # [°] electrical that a vector must have gone between two readings for them to tell a direction
FOLLOWED = 0.25  # of that way, at least, that a shaft goes along if it goes along at all
MOST_OFF = 0.6  # by which its way may differ from the vector's: friction holds it back on one side, not on both
MOST_APART = 15.0  # [°] that any reading may lie off their mean


class Contradiction(CoreError):
    """Readings that make no offset."""

    happened = "{what}"
    means = "No offset was taken."
    remedy = "{remedy}"


@dataclass(frozen=True, slots=True)
class OffsetByHand:
    """Vector minus shaft, and how far a reading lies off it at most. [rad]"""

    offset: float
    apart: float


def offset_by_hand(vector: Sequence[float], shaft: Sequence[float]) -> OffsetByHand:
    """Return the mean offset of readings, in the order they were noted.

    Parameters
    ----------
    vector, shaft : sequence of float
        Commanded vector, and the shaft by its counts; both electrical, not wrapped. [°]

    Raises
    ------
    Contradiction
        Too few or all of one angle; the shaft stayed or went the other way; the readings lie too far apart.
    """
    if len(vector) < FEWEST:
        raise Contradiction(
            what="Too few readings.", remedy="Note one coming from below and one coming from above, at least."
        )
    ways = [(b - a, d - c) for a, b, c, d in zip(vector, vector[1:], shaft, shaft[1:], strict=False)]
    told = [(by, went) for by, went in ways if abs(by) >= STEPPED]
    if not told:
        raise Contradiction(
            what="All readings are of one angle: they tell no direction.",
            remedy="Turn the vector on by 30° or more between two of them.",
        )
    for by, went in told:
        if abs(went) < FOLLOWED * abs(by):
            raise Contradiction(
                what=f"Between two readings the vector went {by:.0f}°, the shaft {went:.0f}°: it did not go along.",
                remedy="Take more current, free the shaft, open its brake; then note again.",
            )
        if went * by < 0:
            raise Contradiction(
                what=f"The vector went {by:+.0f}° and the counts {went:+.0f}°: they run against each other.",
                remedy="Invert the counting direction, or exchange two motor phases; then note again.",
            )
        if abs(went / by - 1) > MOST_OFF:
            raise Contradiction(
                what=f"The vector went {by:.0f}°, the shaft {went:.0f}° electrical.",
                remedy="Check pole pairs and resolution as entered; then note again.",
            )
    gaps = np.radians(np.asarray(vector) - np.asarray(shaft))
    offset = float(np.angle(np.exp(1j * gaps).mean()))
    apart = float(np.abs(np.angle(np.exp(1j * (gaps - offset)))).max())
    if math.degrees(apart) > MOST_APART:
        raise Contradiction(
            what=f"The readings contradict each other: one lies {math.degrees(apart):.0f}° off their mean.",
            remedy="Forget them, and note as many from below as from above, each with the shaft at rest.",
        )
    return OffsetByHand(offset, apart)
