"""How a sheet may mean a number, and the factor to the meaning used inside: per phase, peak, star."""

import math
from dataclasses import dataclass

SQRT2 = math.sqrt(2)
SQRT3 = math.sqrt(3)


@dataclass(frozen=True, slots=True)
class Convention:
    """One way a printed value can be meant: `inside = value * factor`."""

    key: str
    label: str
    factor: float


CONVENTIONS: dict[str, tuple[Convention, ...]] = {
    "winding": (
        Convention("line_to_line", "line to line", 0.5),
        Convention("phase", "per phase", 1.0),
    ),
    "sine": (
        Convention("rms", "rms", SQRT2),
        Convention("peak", "peak of sine", 1.0),
    ),
    "per_sine": (
        Convention("per_rms", "per A rms", 1 / SQRT2),
        Convention("per_peak", "per A peak", 1.0),
    ),
    "back_emf": (
        Convention("ll_rms", "line to line, rms", SQRT2 / SQRT3),
        Convention("ll_peak", "line to line, peak", 1 / SQRT3),
        Convention("phase_rms", "per phase, rms", SQRT2),
        Convention("phase_peak", "per phase, peak", 1.0),
    ),
    "poles": (
        Convention("pairs", "pole pairs", 1.0),
        Convention("poles", "poles", 0.5),
    ),
}


def convention_factor(family: str, key: str) -> float:
    """Return the factor from the printed meaning to the inner one.

    Raises
    ------
    KeyError
        The family has no convention of that key.
    """
    for convention in CONVENTIONS[family]:
        if convention.key == key:
            return convention.factor
    raise KeyError(f"{family} has no convention {key}")
