"""How an axis would stand with gains that it has not been given: a stroke on its twin, and what trembles after it.

The steps of the device, friction and the play that was found are in the twin, and they are what makes a stiff loop hunt
between two counts. What is not in it (the device's noise, friction before it slides, cogging) may hold an axis that its
twin does not, or wake one that it holds: only a proposal that is far too stiff for the twin is not looked at, and once
the axis has hunted where its twin does as well, one that makes the twin hunt as before.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Self

from cadrel.core.axis import AxisModel
from cadrel.core.control import Gains, Rates
from cadrel.core.identification import IdentifiedPlant
from cadrel.core.motion import Profile, stroke_sequence
from cadrel.core.twin import Twin
from cadrel.procedures.judging import LOOKED_AT, RESTED, short_stroke, trembling
from cadrel.procedures.session import Session

STROKES = (1.0, 0.93)  # of a stroke, so that the twin comes to rest amid other steps of its device


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RestForeseen:
    """Strokes after which the twin should rest."""

    strokes: tuple[Profile, ...]
    axis: AxisModel
    values: dict[str, float]
    plant: IdentifiedPlant
    rates: Rates

    @classmethod
    def of(cls, session: Session, plant: IdentifiedPlant) -> Self | None:
        """Return it; None where no load was identified that a twin could have."""
        if plant.total is None:
            return None
        return cls(
            strokes=tuple(stroke_sequence(short_stroke(session, s), dwell=RESTED, repeats=1) for s in STROKES),
            axis=session.axis, values=dict(session.values), plant=plant, rates=session.rates,
        )  # fmt: skip

    def ripple(self, gains: Gains) -> tuple[float, float]:
        """Return the least and the most ripple of torque at rest after strokes, with these gains of all loops. [N·m]"""
        values = {
            **self.values, **gains.to_drive(), "position.velocity_feedforward": 1.0,
            "position.acceleration_feedforward": 1.0, "position.friction_feedforward": 0.0,
        }  # fmt: skip
        found = ripples_after(Twin.of_identified(self.axis, values, self.plant, self.rates), self.strokes)
        return min(found), max(found)


def ripples_after(twin: Twin, strokes: Iterable[Profile]) -> list[float]:
    """Return the ripple of torque at the end of each dwell of strokes out and back, `RESTED` seconds each. [N·m] rms"""
    found = []
    for stroke in strokes:
        record = twin.run(stroke, rest=0.0)
        rests = round(LOOKED_AT * RESTED / record.period)
        for end in (len(record.current) // 2, len(record.current)):
            found.append(twin.torque_constant * trembling(record.current[end - rests : end]))
    return found
