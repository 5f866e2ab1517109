"""How good signals are, in three steps, as far as one look can tell."""

import math
from dataclasses import dataclass
from typing import Literal

GOOD = (0.8, 1.1)  # of the nominal amplitude
USABLE = (0.6, 1.2)  # of the nominal amplitude: what 1 Vpp inputs commonly take; common practice
FEW_ERRORS = 1e-3  # of all words
IMPOSSIBLE_HALLS = {120: {0, 7}, 60: {2, 5}}  # states that cannot be, by spacing [°]


@dataclass(frozen=True, slots=True)
class SignalQuality:
    """A step and, where it is not good, why."""

    step: Literal["good", "usable", "bad"]
    because: str = ""

    def __str__(self) -> str:
        return f"{self.step}: {self.because}" if self.because else self.step


def signal_quality(
    *,
    hall: int | None = None,
    hall_spacing: int = 120,
    circle: tuple[float, float] | None = None,
    words: tuple[int, int] | None = None,
) -> SignalQuality:
    """Return the worst of what is given.

    Parameters
    ----------
    hall : int, optional
        State of the Halls, 0 to 7.
    circle : (cos, sin), optional
        Corrected signals, one the nominal amplitude.
    words : (wrong, all), optional
        Words of a serial device since power-up.
    """
    found = [SignalQuality("good")]
    if hall is not None and hall in IMPOSSIBLE_HALLS[hall_spacing]:
        found.append(SignalQuality("bad", "no such Hall state"))
    if circle is not None:
        amplitude = math.hypot(*circle)
        if not GOOD[0] <= amplitude <= GOOD[1]:
            within = USABLE[0] <= amplitude <= USABLE[1]
            found.append(SignalQuality("usable" if within else "bad", f"amplitude {100 * amplitude:.0f} %"))
    if words is not None and words[0]:
        few = words[0] <= FEW_ERRORS * words[1]
        found.append(SignalQuality("usable" if few else "bad", f"{words[0]} of {words[1]} words wrong"))
    return max(found, key=lambda q: ("good", "usable", "bad").index(q.step))
