"""The spread that a loop must bear: the same axis with a resonance that has drifted, lighter, heavier, gripped."""

import math
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from cadrel.core.control import Gains, LoopName, TwoMass, Winding, spectral_radius

# What an identification may be off by, beside the spread: a loop at the edge of stability has no tenth to spare.
UNSURE_DRIFT, UNSURE_INERTIA = 0.02, 0.05
STEP = 0.04  # of a resonance, between two loads that are looked at
UNSURE_DAMPING = 0.3  # of what was measured, and of what is left of it where play is closed
RISES = 0.05  # share that a resonance rises by where what its damping is by then is as unsure as that
# Damping of the anti-resonance by what rubs on the load, from which on margins are held without it as well: the dry
# friction of a load that turns back in a small swing is read as viscous, and a larger swing hardly meets it. [1]
RUBS = 0.001
LEAST_DRIFT = 0.5  # of the drift below, that is left of it from a resonance which play made softer
# A load that hides: its share of the whole at the least, its resonances over the highest frequency that was measured,
# nearer ones being seen by their flanks, and their damping at the least (common practice for couplings). [1]
LEAST_HIDDEN, BEYOND_SEEN, HIDDEN_DAMPING = 0.08, (1.15, 1.25, 1.36, 1.47, 1.6), 0.005
# Behind a coarse device they hide over octaves: that many times each, up to where couplings rarely ring. [1], [Hz]
FURTHER, HIDDEN_UP_TO = 1.33, 1300.0
# Viscous friction that dry friction is looked at as, over what the motor's inertia opposes to a swing on the spring:
# from hardly felt to held fast.
GRIPS = (0.25, 1.0, 4.0, 16.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Spread:
    """How far an axis may be from the one that was measured."""

    resonance_drift: float = 0.0  # share, lower and higher
    resonance_rise: float = 0.0  # share, higher beside the drift: play that closes
    closed_damping: float = 1.0  # of the damping measured, where it is closed
    resonance_softer: float = 0.0  # share, higher: the drift below is from there, where play made it softer
    inertia_least: float = 1.0  # of the one measured
    inertia_most: float = 1.0
    motor_inertia: float = 0.0  # [kg·m²] as entered; 0: not told
    seen_hz: float = math.inf  # a load without a spring was measured up to here
    grip: float = math.inf  # [N·m/rad] that dry friction holds a swing by at the most, of those that are told
    unsure: float = 1.0  # times what an identification may be off by, which is looked at beyond all of it

    def named(self, load: TwoMass) -> list[tuple[str, TwoMass]]:
        """Return the load as measured, unnamed, and with its resonance at either end of its drift, by what it is.

        And one that was measured as a single mass with the springs that may hide beyond.
        """
        if load.stiffness is None:
            return [("", load), *((f"a spring at {one.resonance_hz:.0f} Hz, unseen", one) for one in self.hidden(load))]
        if self.resonance_drift == 0.0 and self.resonance_rise == 0.0:
            return [("", load)]
        low, high = self.lowest, (1 + self.resonance_rise) * (1 + self.resonance_drift) - 1
        # Closed it is damped less than as it was measured, the farther it rises for that the less surely told.
        doubt = UNSURE_DAMPING * min(self.resonance_rise / RISES, 1.0)
        closed = replace(load, damping=(1 - doubt) * self.closed_damping * load.damping)
        loads = [("", load), (_told(low), load.drifted(low)), (_told(high), closed.drifted(high))]
        if self.resonance_rise > self.resonance_drift:
            # Closed it may have drifted as well.
            lower = (1 + self.resonance_rise) * (1 - self.resonance_drift) - 1
            loads += [(_told(share), closed.drifted(share)) for share in (self.resonance_rise, lower)]
        if load.viscous_load > RUBS * 2 * math.sqrt(load.stiffness * load.inertia_load):
            loads += [
                (f"{told}, the load swinging past its friction".removeprefix(", "), replace(one, viscous_load=0.0))
                for told, one in loads
            ]
        return loads

    @property
    def lowest(self) -> float:
        """Share by which the resonance may lie lower than measured, negative.

        Half of the drift at the least, however much higher it was seen before.
        """
        drift = self.resonance_drift
        return min((1 - drift) * (1 + self.resonance_softer) - 1, -LEAST_DRIFT * drift)

    def drifts(self, load: TwoMass) -> list[TwoMass]:
        """Return the loads of `named`."""
        return [one for _, one in self.named(load)]

    def corners(self, load: TwoMass) -> list[TwoMass]:
        """Return the ends of all that must be stable: every one of `drifts` at the least, its own, the most inertia.

        And the load as friction grips it.
        Drift and inertias go a little beyond what is asked for, by what an identification may be off by.
        """
        if not self._is_any:
            return [load]
        weighed = [one if k == 1.0 else one.weighing(k) for one in self._wider(load) for k in self._inertias()]
        return weighed + gripped(load, self.grip)

    def hidden(self, load: TwoMass) -> list[TwoMass]:
        """Return what an axis that was measured as one mass may be as well: motor and load on springs beyond that.

        What it gets heavier by is the load's, and brings such a resonance down to where the loop has gain. None where
        the motor is nearly all of the inertia: there is no load to hide.
        """
        rest = load.inertia - self.motor_inertia
        if load.stiffness is not None or math.isinf(self.seen_hz) or not self.motor_inertia:
            return []
        if rest < LEAST_HIDDEN * load.inertia:
            return []
        motor = replace(load, inertia_motor=self.motor_inertia, inertia_load=rest)
        reduced = self.motor_inertia * rest / load.inertia
        hide_at = [beyond * self.seen_hz for beyond in BEYOND_SEEN]
        while hide_at[-1] < HIDDEN_UP_TO:
            hide_at.append(FURTHER * hide_at[-1])
        rates = [2 * math.pi * f for f in hide_at]
        return [replace(motor, stiffness=reduced * w**2, damping=2 * HIDDEN_DAMPING * reduced * w) for w in rates]

    def between(self, load: TwoMass) -> list[TwoMass]:
        """Return loads of everything within the corners, each resonance within a few percent of its neighbours'.

        The last are as friction grips them.

        A loop that is shaped for the corners alone may run away between them.
        """
        if not self._is_any or load.stiffness is None:
            return self.corners(load)
        wide = self._wider(load)
        low, high = _resonance(wide[1]), _resonance(wide[2])
        steps = max(2, math.ceil(math.log(high / low) / STEP))
        shares = np.geomspace(low, high, steps + 1) / _resonance(wide[0]) - 1
        found = []
        for share in shares.tolist():
            damping = wide[0].damping * (min(self.closed_damping, 1.0) if share > 0 else 1.0)
            drifted = replace(wide[0], damping=damping).drifted(share)
            least, _, most = self._inertias()
            ends = [_resonance(drifted.weighing(k)) for k in (least, most)]
            count = max(2, math.ceil(math.log(ends[0] / ends[1]) / STEP))
            found += [drifted.weighing(k) for k in np.geomspace(least, most, count + 1).tolist()]
        return found + gripped(load, self.grip)

    @property
    def _is_any(self) -> bool:
        return replace(self, unsure=1.0) != Spread()

    def _wider(self, load: TwoMass) -> list[TwoMass]:
        """The drifts and a little more, of the load as it may be at its freest.

        Viscous friction that was found may be dry friction that a small swing met: a larger one meets next to none.
        """
        freest = replace(load, damping=load.damping * (1 - UNSURE_DAMPING * self.unsure))
        if load.stiffness is not None:
            freest = replace(freest, viscous=0.0, viscous_load=0.0)
        return replace(self, resonance_drift=self.resonance_drift + UNSURE_DRIFT * self.unsure).drifts(freest)

    def _inertias(self) -> tuple[float, float, float]:
        unsure = UNSURE_INERTIA * self.unsure
        return self.inertia_least * (1 - unsure), 1.0, self.inertia_most * (1 + unsure)

    def unstable(self, loop: LoopName, load: TwoMass, winding: Winding, gains: Gains) -> TwoMass | None:
        """Return the least stable load of all `between`, where a loop is unstable with it."""
        worst, radius = _least_stable(self, loop, load, winding, gains)
        return worst if radius >= 1.0 else None

    def worst_radius(self, loop: LoopName, load: TwoMass, winding: Winding, gains: Gains) -> float:
        """Return the largest spectral radius of a loop over everything within the corners."""
        return _least_stable(self, loop, load, winding, gains)[1]


def gripped(load: TwoMass, most: float = math.inf) -> list[TwoMass]:
    """Return the load as dry friction makes it near rest, where it acts as viscous friction without a bound.

    None without a spring: there it takes away phase that one mass has to spare. Of a swing on the spring, one end of
    it held, friction makes no more than `most` [N·m/rad]: what it holds faster swings by less than is told.

    Notes
    -----
    A swing of speed A meets Coulomb friction F as 4 F / (pi A): little while the axis moves, ever more the less it
    swings (describing function; J.-J. Slotine, W. Li, Applied Nonlinear Control, 1991, chapter 5, from memory). A loop
    that is stable on the free axis and unstable on one of these swings at rest, at the size where both meet.
    """
    if load.stiffness is None:
        return []
    held = [share * math.sqrt(load.stiffness * load.inertia_motor) for share in GRIPS]
    of_load, of_motor = (math.sqrt(load.stiffness / j) for j in (load.inertia_load, load.inertia_motor))
    motors = [replace(load, viscous=load.viscous + grip) for grip in held if grip * of_load <= most]
    loads = [replace(load, viscous_load=load.viscous_load + grip) for grip in held if grip * of_motor <= most]
    return motors + loads


@lru_cache(maxsize=64)  # a proposal is looked at by the search, by its judge and by its verdict
def _least_stable(
    spread: Spread, loop: LoopName, load: TwoMass, winding: Winding, gains: Gains
) -> tuple[TwoMass, float]:
    """Return the load of all `between` whose loop has the largest spectral radius, and that radius."""
    loads = spread.between(load)
    radii = [spectral_radius(loop, one, winding, gains) for one in loads]
    worst = int(np.argmax(radii))
    return loads[worst], radii[worst]


def _resonance(load: TwoMass) -> float:
    """Of a load that has a spring. [Hz]"""
    assert load.resonance_hz is not None
    return load.resonance_hz


def _told(share: float) -> str:
    return f"resonance {'-' if share < 0 else '+'}{100 * abs(share):.0f} %"
