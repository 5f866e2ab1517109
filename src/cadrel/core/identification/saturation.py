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
        return Estimated(value, math.hypot(math.sqrt(variance), apart))


def fit_saturation(
    voltage: FloatArray, current: FloatArray, *, tick: float, known: Estimated | None = None, both_ways_alike: bool
) -> InductanceCurve:
    """Return inductance over current from the mean period of a large sine.

    Parameters
    ----------
    voltage, current : ndarray, shape (n,)
        Mean of many periods of one axis of the winding, as the drive records them, one value a tick. [V], [A]
    tick : float
        Of the current loop; a voltage acts one tick after it was computed. [s]
    known : Estimated, optional
        Inductance at small currents, where the rotor swings with the current: its back-EMF is in phase with the
        inductance's voltage, and what of the fundamental is whose a single sine does not tell. [H]
    both_ways_alike : bool
        The flux is odd in the current, as in q. In d the magnets make it another one way than the other.

    Raises
    ------
    UnusableInput
        The period is too short, or the current hardly changed.

    Notes
    -----
    Over every tick, v = R i + U sign(i) + d(flux)/dt, the flux a polynomial in the current: what bends shows as
    harmonics of the voltage, which no law of iron is needed for. Where `known` is given, the first power is held to it
    and the swing of the rotor takes a term of its own, the integral of the current. How many powers, Schwarz's
    criterion says. Neighbouring ticks share what the model leaves: each std is the larger for it.
    """
    n = len(current)
    largest = float(np.abs(current).max())
    if n < FEWEST or largest <= 0.0 or float(np.ptp(current)) < 0.5 * largest:
        raise UnusableInput(what="The current hardly changed.", remedy="Check the motor's terminals.")
    after, acting = np.roll(current, -1), np.roll(voltage, 1)
    mean = 0.5 * (current + after)
    swing = np.cumsum(mean - mean.mean()) * tick
    beside = [mean, np.tanh(mean / (BEND * largest)), np.ones(n)]
    if known is not None:
        beside.append(swing - swing.mean())
    step = 2 if both_ways_alike else 1
    tried: list[tuple[float, InductanceCurve]] = []
    for count in range(MOST_POWERS + 1):
        powers = tuple(range(1, 2 + count * step, step))
        rates = [((after / largest) ** k - (current / largest) ** k) / tick for k in powers]
        target, free = acting, rates
        if known is not None:
            target, free = acting - known.value * largest * rates[0], rates[1:]
        basis = np.stack([*free, *beside], axis=1)
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
            flux = np.append(known.value * largest, flux)
            whole = np.zeros((m + 1, m + 1))
            whole[0, 0], whole[1:, 1:] = (known.std * largest) ** 2, own
            own = whole
        curve = InductanceCurve(
            lowest=float(current.min()), highest=float(current.max()), powers=powers, flux=flux, covariance=own,
            resistance=float(solution[m] / scale[m]),
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
