"""A value found from measurements."""

import math
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Estimated:
    """Value and standard deviation, SI."""

    value: float
    std: float

    def doubted_by(self, other: "Estimated") -> "Estimated":
        """Return this value; what one found under other conditions differs by is doubt, beside its own."""
        return Estimated(self.value, math.hypot(self.std, self.value - other.value))

    def within(self, accuracy: float) -> "Estimated":
        """Return this value, doubted by what it was measured with: right within a share of it, anywhere alike."""
        return Estimated(self.value, math.hypot(self.std, accuracy / math.sqrt(3) * self.value))

    def as_dict(self) -> dict[str, float]:
        """Return plain values."""
        return {"value": self.value, "std": self.std}
