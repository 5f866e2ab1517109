"""A verdict: criteria, each asked against measured; proven only if every one of them holds."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal, Self

TOLERANCE = 0.05  # of what was asked: what two measurements of one loop differ by (docs/evidence), well under a tenth
PROVEN, NOT_PROVEN = "proven", "not proven"


MOST_DIGITS = 9


def told(value: float, beside: float, *, digits: int = 3) -> str:
    """Return a value in so many digits, or in as many as show that it is another than the one beside it."""
    while digits < MOST_DIGITS and value != beside and float(f"{value:.{digits}g}") == float(f"{beside:.{digits}g}"):
        digits += 1
    return f"{value:.{digits}g}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Criterion:
    """One thing that was asked for."""

    what: str
    unit: str
    asked: float
    sense: Literal["at least", "at most"]
    found: float | None  # the worst that was measured or modelled; None: it could not be had
    source: str  # where the worst came from: "measured", or which model
    tolerance: float  # as a share of what was asked
    needed: bool = True  # without it, what could not be had is no miss: a loop without a crossing has no margin there

    @property
    def passed(self) -> bool:
        """Whether what was asked for holds, within the tolerance."""
        if self.found is None:
            return not self.needed
        if not math.isfinite(self.found):
            return False
        slack = self.tolerance * abs(self.asked)
        return self.found >= self.asked - slack if self.sense == "at least" else self.found <= self.asked + slack

    @property
    def short(self) -> float:
        """By how much what was found misses what was asked; below 0 it is better by that. 0 where nothing was found."""
        if self.found is None:
            return 0.0
        return self.asked - self.found if self.sense == "at least" else self.found - self.asked

    @property
    def text(self) -> str:
        """As a sentence's part: what was measured, what was asked."""
        unit = f" {self.unit}" if self.unit else ""
        found = "could not be had" if self.found is None else f"{self.source} {told(self.found, self.asked)}{unit}"
        return f"{self.what} {found}, asked {self.sense} {self.asked:.3g}{unit}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """What was decided about a claim. `run` is the index of the run it was measured by."""

    claim: str
    criteria: tuple[Criterion, ...]
    run: int | None = None
    remarks: tuple[str, ...] = ()

    @property
    def is_proven(self) -> bool:
        """Whether something was asked, measured by a run, and every criterion holds."""
        return bool(self.criteria) and self.run is not None and all(c.passed for c in self.criteria)

    @property
    def state(self) -> str:
        """ "proven" or "not proven"."""
        return PROVEN if self.is_proven else NOT_PROVEN

    @property
    def missed(self) -> tuple[str, ...]:
        """What was asked for and missed."""
        return tuple(c.what for c in self.criteria if not c.passed)

    @property
    def reason(self) -> str:
        """Why it is not proven; empty if it is."""
        if self.is_proven:
            return ""
        if self.run is None:
            return "no run shows it"
        return "; ".join(c.text for c in self.criteria if not c.passed) or "nothing was asked for"

    def as_dict(self) -> dict[str, Any]:
        """Return plain values, for the database and for RESULT files."""
        rows = [asdict(c) | {"passed": c.passed} for c in self.criteria]
        return {
            "claim": self.claim, "state": self.state, "reason": self.reason, "criteria": rows,
            "remarks": list(self.remarks),
        }  # fmt: skip

    @classmethod
    def from_dict(cls, body: Mapping[str, Any], *, run: int | None) -> Self:
        """Return the verdict of `as_dict`; its state is worked out anew, not believed."""
        rows = tuple(Criterion(**{k: v for k, v in row.items() if k != "passed"}) for row in body["criteria"])
        return cls(claim=body["claim"], criteria=rows, run=run, remarks=tuple(body.get("remarks", ())))


def at_least(
    what: str, asked: float, found: float | None, *, unit: str = "", source: str = "measured",
    tolerance: float = TOLERANCE, needed: bool = True,
) -> Criterion:  # fmt: skip
    """Return the criterion that something reaches a value."""
    return Criterion(
        what=what, unit=unit, asked=asked, sense="at least", found=found, source=source, tolerance=tolerance,
        needed=needed,
    )  # fmt: skip


def at_most(
    what: str, asked: float, found: float | None, *, unit: str = "", source: str = "measured",
    tolerance: float = TOLERANCE, needed: bool = True,
) -> Criterion:  # fmt: skip
    """Return the criterion that something stays below a value."""
    return Criterion(
        what=what, unit=unit, asked=asked, sense="at most", found=found, source=source, tolerance=tolerance,
        needed=needed,
    )  # fmt: skip


def decide(claim: str, criteria: Sequence[Criterion], *, run: int | None, remarks: Sequence[str] = ()) -> Verdict:
    """Return the verdict on a claim.

    Parameters
    ----------
    claim : str
        What is claimed, as findings name their kind.
    criteria : sequence of Criterion
        All that was asked for.
    run : int or None
        The run that measured it. Without one nothing is proven, whatever was computed.
    remarks : sequence of str
        What stands beside the verdict without deciding it.
    """
    return Verdict(claim=claim, criteria=tuple(criteria), run=run, remarks=tuple(remarks))
