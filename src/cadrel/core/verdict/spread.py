"""The spread that a loop must bear: the same axis with a resonance that has drifted, lighter, heavier."""

from dataclasses import dataclass

from cadrel.core.control import Gains, LoopName, TwoMass, Winding, spectral_radius


@dataclass(frozen=True, slots=True, kw_only=True)
class Spread:
    """How far an axis may be from the one that was measured."""

    resonance_drift: float = 0.0  # share, lower and higher
    inertia_least: float = 1.0  # of the one measured
    inertia_most: float = 1.0

    def drifts(self, load: TwoMass) -> list[TwoMass]:
        """Return the load as measured, and with its resonance at either end of its drift."""
        if load.stiffness is None or self.resonance_drift == 0.0:
            return [load]
        return [load, load.drifted(-self.resonance_drift), load.drifted(self.resonance_drift)]

    def corners(self, load: TwoMass) -> list[TwoMass]:
        """Return every load of `drifts` at its own inertia, at the least and at the most."""
        factors = sorted({1.0, self.inertia_least, self.inertia_most})
        return [one if k == 1.0 else one.weighing(k) for one in self.drifts(load) for k in factors]

    def worst_radius(self, loop: LoopName, load: TwoMass, winding: Winding, gains: Gains) -> float:
        """Return the largest spectral radius of a loop over all corners."""
        return max(spectral_radius(loop, one, winding, gains) for one in self.corners(load))
