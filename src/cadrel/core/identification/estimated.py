"""A value found from measurements."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Estimated:
    """Value and standard deviation, SI."""

    value: float
    std: float

    def as_dict(self) -> dict[str, float]:
        """Return plain values."""
        return {"value": self.value, "std": self.std}
