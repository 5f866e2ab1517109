"""How a sheet may mean a number, and the factor to the meaning used inside: per phase, peak, star."""

import math
from dataclasses import dataclass

SQRT2 = math.sqrt(2)
SQRT3 = math.sqrt(3)
# Block commutation: a constant current through two phases, switched every 60°. The mean torque per ampere is 3/π times
# that of the line-to-line amplitude, so a sine of the same copper loss has 2/√3 of that current as its peak; with a
# sinusoidal back-EMF the mean of the rectified line voltage is 3/π of its amplitude.
BLOCK_VOLTAGE = math.pi / (3 * SQRT3)  # phase amplitude per mean line-to-line voltage
BLOCK_TORQUE = 1.5 * BLOCK_VOLTAGE  # torque per peak of sine, per torque per A dc
BLOCK_CURRENT = 2 / SQRT3  # peak of a sine of the same loss, per A dc


THREE_PHASE = ("rotary", "linear", "induction")
TWO_PHASE = ("stepper",)
DIRECT = ("dc", "voice_coil")


@dataclass(frozen=True, slots=True)
class Convention:
    """One way a printed value can be meant: `inside = value * factor`; `kinds` of motor whose sheets print it so."""

    key: str
    label: str
    factor: float
    kinds: tuple[str, ...] = THREE_PHASE


SINE = THREE_PHASE + TWO_PHASE
EVERY = SINE + DIRECT
CONVENTIONS: dict[str, tuple[Convention, ...]] = {
    "winding": (
        Convention("line_to_line", "line to line", 0.5),
        Convention("phase", "per phase, star", 1.0, SINE),
        Convention("delta", "per branch, delta", 1 / 3),
        Convention("terminal", "between the terminals", 1.0, DIRECT),
    ),
    "sine": (
        Convention("rms", "rms", SQRT2, SINE),
        Convention("peak", "peak of sine", 1.0, SINE),
        Convention("block", "dc, block-commutated", BLOCK_CURRENT, ("rotary",)),
        Convention("dc", "dc", 1.0, DIRECT),
    ),
    "per_sine": (
        Convention("per_rms", "per A rms", 1 / SQRT2, SINE),
        Convention("per_peak", "per A peak", 1.0, SINE),
        Convention("per_block", "per A dc, block-commutated", BLOCK_TORQUE, ("rotary",)),
        Convention("per_dc", "per A dc", 1.0, DIRECT),
    ),
    "back_emf": (
        Convention("ll_rms", "line to line, rms", SQRT2 / SQRT3),
        Convention("ll_peak", "line to line, peak", 1 / SQRT3),
        Convention("phase_rms", "per phase, rms", SQRT2, SINE),
        Convention("phase_peak", "per phase, peak", 1.0, SINE),
        Convention("ll_block", "line to line, block-commutated", BLOCK_VOLTAGE, ("rotary",)),
        Convention("terminal", "between the terminals", 1.0, DIRECT),
    ),
    "poles": (
        Convention("pairs", "pole pairs", 1.0),
        Convention("poles", "poles", 0.5),
    ),
    "pitch": (
        Convention("n_n", "N to N, a pair", 1.0),
        Convention("n_s", "N to S, one pole", 2.0),
    ),
    "holding": (
        Convention("two_on", "both phases on", 1 / SQRT2, TWO_PHASE),
        Convention("one_on", "one phase on", 1.0, TWO_PHASE),
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
