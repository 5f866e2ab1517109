"""A value found from measurements."""

import math
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Estimated:
    """Value and standard deviation, SI."""

    value: float
    std: float

    def doubted_by(self, other: "Estimated") -> "Estimated":
        """Return this value; what one found under other conditions differs by is doubt, beside its own."""
        return Estimated(self.value, math.hypot(self.std, self.value - other.value))

    def doubted_by_part(self, part: "Estimated") -> "Estimated":
        """Return this value; what one found on a part of its data differs by is doubt, beyond what it scatters more.

        Of a part the difference has the difference of both variances (J. Hausman, Econometrica 46 (1978) 1251; from
        memory).
        """
        noise = max(part.std**2 - self.std**2, 0.0)
        beyond = max((self.value - part.value) ** 2 - noise, 0.0)
        return Estimated(self.value, math.hypot(self.std, math.sqrt(beyond)))

    def within(self, accuracy: float) -> "Estimated":
        """Return this value, doubted by what it was measured with: right within a share of it, anywhere alike."""
        return Estimated(self.value, math.hypot(self.std, accuracy / math.sqrt(3) * self.value))

    def as_dict(self) -> dict[str, float]:
        """Return plain values."""
        return {"value": self.value, "std": self.std}


def weighted_mean(values: Sequence[Estimated]) -> Estimated:
    """Return the mean of several, each weighted by its variance; its own is raised by what they scatter beyond theirs.

    Notes
    -----
    Birge's ratio: the root of chi² over its freedom, where that is above 1 (R. T. Birge, Physical Review 40, 1932, 207;
    from memory).
    """
    weights = [1.0 / one.std**2 for one in values]
    mean = sum(w * one.value for w, one in zip(weights, values, strict=True)) / sum(weights)
    chi2 = sum(w * (one.value - mean) ** 2 for w, one in zip(weights, values, strict=True))
    ratio = math.sqrt(chi2 / max(len(values) - 1, 1))
    return Estimated(mean, max(ratio, 1.0) / math.sqrt(sum(weights)))
