"""Inductance over current, from a large sine of current: what the iron keeps of it."""

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated

FloatArray = NDArray[np.float64]
MOST_POWERS = 5  # of the current in the flux beside the first
FEWEST = 16  # samples of a period
BENT = 0.03  # of the inductance as far away as the largest current: what a rotor that rubs adds to the harmonics
BEND = 0.03  # of the largest current: where what dead time leaves of its voltage turns round


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class InductanceCurve:
    """Incremental inductance over the current of one axis, a polynomial without any law of iron in it."""

    lowest: float  # [A] between which and the next it was seen
    highest: float
    powers: tuple[int, ...]  # of the current over the largest, in the flux
    flux: FloatArray  # [V·s] coefficient of each power
    covariance: FloatArray  # of them, shape (n, n)
    resistance: float  # [ohm] as this sine met it
    held: float = 0.0  # [A] where the slope is known from elsewhere
    rival: "InductanceCurve | None" = (
        None  # with the number of powers that fits next best: what they differ by is doubt
    )

    @property
    def largest(self) -> float:
        """By how much of either sign. [A]"""
        return max(abs(self.lowest), abs(self.highest))

    def at(self, current: float) -> Estimated:
        """Return the incremental inductance at a current within those seen. [A] -> [H]"""
        largest = self.largest
        slopes = np.array([n * (current / largest) ** (n - 1) / largest for n in self.powers])
        value, variance = float(slopes @ self.flux), max(float(slopes @ self.covariance @ slopes), 0.0)
        apart = 0.0 if self.rival is None else value - self.rival.at(current).value
        bent = BENT * abs(current - self.held) / largest * value
        return Estimated(value, math.hypot(math.hypot(math.sqrt(variance), apart), bent))


def fit_saturation(
    voltage: FloatArray,
    current: FloatArray,
    *,
    tick: float,
    known: Estimated | None = None,
    held: float = 0.0,
    sticks: bool = False,
    both_ways_alike: bool,
) -> InductanceCurve:
    """Return inductance over current from the mean period of a large sine.

    Parameters
    ----------
    voltage, current : ndarray, shape (n,)
        Mean of many periods of one axis of the winding, as the drive records them, one value a tick. [V], [A]
    tick : float
        Of the current loop; a voltage acts one tick after it was computed. [s]
    known : Estimated, optional
        Incremental inductance at the current `held`, measured apart, where the rotor moves with the current: its
        back-EMF is in phase with the inductance's voltage, and what of the fundamental is whose a single sine does not
        tell. [H]
    held : float
        Current of that. [A]
    sticks : bool
        The sine makes too little torque to free the rotor: it gives way as a spring, and does not swing freely.
    both_ways_alike : bool
        The flux is odd in the current, as in q. In d the magnets make it another one way than the other.

    Raises
    ------
    UnusableInput
        The period is too short, or the current hardly changed.

    Notes
    -----
    Over every tick, v = R i + U sign(i) + d(flux)/dt, the flux a polynomial in the current: what bends shows as
    harmonics of the voltage, which no law of iron is needed for. Where `known` is given, the slope at `held` is held to
    it, and the rotor's motion takes a term of its own: the integral of the current where it swings freely, its rate
    where it gives way as a spring, held a little beside the vector by friction or a brake. How many
    powers, Schwarz's criterion says. Neighbouring ticks share what the model leaves: each std is the larger for it.
    """
    n = len(current)
    largest = float(np.abs(current).max())
    if n < FEWEST or largest <= 0.0 or float(np.ptp(current)) < 0.5 * largest:
        raise UnusableInput(what="The current hardly changed.", remedy="Check the motor's terminals.")
    after, acting = np.roll(current, -1), np.roll(voltage, 1)
    mean = 0.5 * (current + after)
    swing = np.cumsum(mean - mean.mean()) * tick
    beside = [mean, np.tanh(mean / (BEND * largest)), np.ones(n)]
    step = 2 if both_ways_alike else 1
    tried: list[tuple[float, InductanceCurve]] = []
    for count in range(MOST_POWERS + 1):
        powers = tuple(range(1, 2 + count * step, step))
        rates = [((after / largest) ** k - (current / largest) ** k) / tick for k in powers]
        target, free, moved = acting, rates, []
        if known is not None:
            # The first power is what the others leave of the known slope at `held`.
            slopes = [k * (held / largest) ** (k - 1) for k in powers]
            target = acting - known.value * largest * rates[0]
            free = [r - slope * rates[0] for r, slope in zip(rates[1:], slopes[1:], strict=True)]
            moved = [rates[0] if sticks else swing - swing.mean()]
        basis = np.stack([*free, *beside, *moved], axis=1)
        scale = np.maximum(np.abs(basis).max(0), 1e-300)
        solution, *_ = np.linalg.lstsq(basis / scale, target, rcond=None)
        left = target - basis / scale @ solution
        freedom = max(n - len(solution), 1)
        variance = max(float(left @ left) / freedom, (1e-9 * float(np.abs(voltage).max())) ** 2)
        inverse = np.linalg.pinv((basis / scale).T @ (basis / scale))
        covariance = inverse / np.outer(scale, scale) * variance * _alike(left)
        m = len(free)
        flux, own = solution[:m] / scale[:m], covariance[:m, :m]
        if known is not None:
            back = np.vstack([-np.array(slopes[1:]), np.eye(m)])
            flux = back @ flux + known.value * largest * np.eye(m + 1)[0]
            own = back @ own @ back.T
            own[0, 0] += (known.std * largest) ** 2
        curve = InductanceCurve(
            lowest=float(current.min()), highest=float(current.max()), powers=powers, flux=flux, covariance=own,
            resistance=float(solution[m] / scale[m]), held=held,
        )  # fmt: skip
        tried.append((n * math.log(variance * freedom / n) + len(solution) * math.log(n), curve))
    best, second = (curve for _, curve in sorted(tried, key=lambda one: one[0])[:2])
    return replace(best, rival=second)


def _alike(left: FloatArray) -> float:
    """How many neighbouring residuals count as one: one plus twice the sum of their correlations while positive."""
    whole = float(left @ left)
    total = 1.0
    for lag in range(1, len(left) // 4):
        share = float(left @ np.roll(left, lag)) / max(whole, 1e-300)
        if share <= 0.0:
            break
        total += 2 * share
    return total
