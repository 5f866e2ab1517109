"""What the right half of an entry step is made of."""

from dataclasses import dataclass, field
from typing import Any

from cadrel.core.motor import Check

Row = tuple[str, str, str]  # label, value, unit


@dataclass(slots=True)
class Facts:
    """Rows, checks and pictures of a step; or the problem in their way."""

    rows: list[Row] = field(default_factory=list)
    checks: list[Check] = field(default_factory=list)
    pictures: list[dict[str, Any]] = field(default_factory=list)
    problem: str | None = None


def parted(text: str) -> tuple[str, str]:
    """Return number and unit of a printed quantity."""
    number, _, unit = text.partition(" ")
    return number, unit
