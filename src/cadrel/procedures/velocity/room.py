"""The room that another proposal of a velocity loop is asked for, by what the one before it did."""

import math
from collections.abc import Sequence
from dataclasses import replace

from cadrel.core.axis.understanding import Robustness
from cadrel.core.verdict import Criterion

MOST_ROOM = (math.radians(12), 4.0, 0.2)  # [rad], [dB], share of the peak: what a second try asks for beyond
MORE_UNSURE = 1.25  # times what an identification may be off by, for one after a loop that was stable by too little


def after_running_away(asked: Robustness) -> Robustness:
    """Ask for as much more as a second try may: how much was missing nobody saw."""
    phase, gain, peak = MOST_ROOM
    return replace(
        asked, phase_margin=asked.phase_margin + phase, gain_margin_db=asked.gain_margin_db + gain,
        sensitivity_peak=(1 - peak) * asked.sensitivity_peak,
    )  # fmt: skip


def more_room(asked: Robustness, criteria: Sequence[Criterion], *, before: Robustness) -> Robustness:
    """Ask for as much more as a proposal missed what was asked by, and no less than of the one before it.

    What one measurement hides, so may two.
    """
    short = {row.what: row.short for row in criteria}

    def missed(what: str) -> float:
        return max(short.get(what, 0.0), 0.0)

    return replace(
        asked,
        phase_margin=max(
            before.phase_margin, asked.phase_margin + min(math.radians(missed("phase margin")), MOST_ROOM[0])
        ),
        gain_margin_db=max(before.gain_margin_db, asked.gain_margin_db + min(missed("gain margin"), MOST_ROOM[1])),
        sensitivity_peak=min(
            before.sensitivity_peak,
            asked.sensitivity_peak - min(missed("sensitivity peak"), MOST_ROOM[2] * asked.sensitivity_peak),
        ),
        unsure=max(before.unsure, MORE_UNSURE if missed("spectral radius over the spread") else 1.0),
    )
