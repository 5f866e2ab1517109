"""Measured velocity plant -> a chain of one, two or three masses on springs; the data choose how many."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import OptimizeResult, least_squares

from cadrel.core.control import Gains, TwoMass, Winding, mechanics, velocity_plant
from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated
from cadrel.core.identification.plant import ChainLoad
from cadrel.core.identification.two_mass import INERTIA_KNOWN, ROUGH
from cadrel.core.parameters import field_of
from cadrel.core.response.estimate import FrequencyResponse

FloatArray = NDArray[np.float64]
MOST_MASSES = 3
FEWEST = 16  # lines that a model is fitted to
FLOOR = 0.02  # relative std below which a line weighs no more: the model is no better than that
# By which a further mass must lower the information criterion: "very strong" begins at 10, but what friction and an
# uneven device leave on an axis of two masses earns up to 22, as the drawn phases fall.
EARNED = 25.0
PLACES = 6  # starting frequencies of a further spring
BEGIN = 0.6  # times the lowest line: the first of those places
LOWEST = 0.2  # times the lowest line, where an outer mass swings at the lowest: its resonance with the rest is seen
MOST_STEPS = 80  # of a search
SHARES = (0.5, 2.0)  # starting inertias of a further mass, of the one before
LIGHTEST, HEAVIEST = -6.0, 6.0  # logarithm of a mass over the one before
DAMPED, RUBBED = (1e-3, 0.5), (1e-5, 0.3)  # damping ratio of a spring; of a mass against the ground
EACH = 4  # parameters of a spring with the mass behind it
MOST_LATE = 300e-6  # [s] of delay beside what is known of drive and device


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Chain:
    """Masses one behind the other, from the motor on, as a response shows them."""

    inertias: tuple[Estimated, ...]  # [kg·m²]
    stiffnesses: tuple[Estimated, ...]  # [N·m/rad] between neighbours
    dampings: tuple[Estimated, ...]  # ratio of each spring, its outer mass swinging alone
    resonances: tuple[Estimated, ...]  # [Hz] of the free chain, rising
    delay: Estimated  # [s] beside what is known
    misfit: float  # rms of what is left over what the lines' std allows
    criterion: tuple[float, ...]  # of one mass, two, three, as far as tried: the least wins
    frequency: FloatArray  # [Hz] of the lines that it was fitted to
    fitted: NDArray[np.complex128]  # what it gives there, drive and device in it. [rad/s per N·m]
    load: ChainLoad  # the same figures as numbers

    @property
    def order(self) -> int:
        """How many masses."""
        return len(self.inertias)


def fit_chain(
    response: FrequencyResponse,
    winding: Winding,
    gains: Gains,
    *,
    inertia: float,
    viscous: float,
    edge_age: float = 0.0,
) -> Chain:
    """Return the chain of masses that a measured plant shows, with the std of all of its figures.

    Parameters
    ----------
    response : FrequencyResponse
        Torque command to measured speed.
    winding, gains : Winding, Gains
        The current loop in force; what it and the sampling make of torque and speed is taken out.
    inertia, viscous : float
        Total, from the load run. [kg·m²], [N·m·s/rad]
    edge_age : float
        As in `velocity_plant`. [s]

    Raises
    ------
    UnusableInput
        Fewer than `FEWEST` lines can be trusted.

    Notes
    -----
    Weighted least squares on the complex logarithm. Each order begins at the one before, with a further spring at
    several places; Schwarz's criterion n ln(RSS/n) + p ln n decides, a further mass having to lower it clearly
    (G. Schwarz, Annals of Statistics 6 (1978) 461; the grades are those of R. Kass and A. Raftery, 1995; both from
    memory). What drive and device make of a response is that of a rigid mass: it hardly depends on the load.
    """
    use = response.precise(ROUGH)
    if len(use.frequency) < FEWEST:
        raise UnusableInput(
            what="Too few lines can be trusted for a model.",
            remedy=f"Raise {field_of('procedure.velocity')} or {field_of('procedure.travel')}.",
        )
    rigid = TwoMass(inertia_motor=inertia, viscous=viscous)
    # Measured P = G A / (1 + G B) of mechanics G: A is what drive and device make of torque and speed, B the back-EMF's
    # way around the current loop. Both are those of a rigid mass, with the back-EMF and without.
    alone = mechanics(rigid, use.frequency)
    still = velocity_plant(rigid, replace(winding, emf=0.0), gains, use.frequency, edge_age=edge_age)
    moving = velocity_plant(rigid, winding, gains, use.frequency, edge_age=edge_age)
    path, back = still / alone, (still / moving - 1) / alone
    weight = 1 / np.maximum(use.std / np.abs(use.value), FLOOR)

    def model(p: FloatArray) -> NDArray[np.complex128]:
        chain = _figures(p, viscous).response(use.frequency)
        late = np.exp(-2j * np.pi * use.frequency * p[-1] * MOST_LATE)
        return np.asarray(late * chain * path / (1 + chain * back), dtype=np.complex128)

    def misfit(p: FloatArray) -> FloatArray:
        error = weight * np.log(model(p) / use.value)
        return np.concatenate([error.real, error.imag])

    best: OptimizeResult | None = None
    fits: list[OptimizeResult] = []
    criteria: list[float] = []
    for masses in range(1, MOST_MASSES + 1):
        tried = [
            least_squares(misfit, start, bounds=_bounds(masses, inertia, use), loss="soft_l1", max_nfev=MOST_STEPS)
            for start in _starts(masses, inertia, use, best)
        ]
        best = min(tried, key=lambda fit: float(fit.cost))
        fits.append(best)
        criteria.append(_criterion(best, len(use.frequency)))
        if masses > 1 and criteria[-1] > criteria[-2] - EARNED:
            break
    order = 1
    while order < len(criteria) and criteria[order] < criteria[order - 1] - EARNED:
        order += 1
    chosen = fits[order - 1]
    return _told(chosen, order, tuple(criteria), use.frequency, model(chosen.x), viscous)


def _figures(p: FloatArray, viscous: float) -> ChainLoad:
    """Return the figures of a search's parameters.

    The logarithm of the total; then for each spring the logarithms of its outer mass over the inner one, of the
    frequency at which the outer mass swings on it alone, of its damping ratio and of the ratio by which the outer mass
    rubs; the delay last.
    """
    elastic = p[1:-1].reshape(-1, EACH)
    shares = np.cumprod(np.concatenate([[1.0], np.exp(elastic[:, 0])]))
    inertias = (math.exp(p[0]) * shares / shares.sum()).tolist()
    springs, losses, rubs = [], [], []
    for outer, (_, place, damped, rubbed) in zip(inertias[1:], elastic, strict=True):
        spring = outer * (2 * math.pi * math.exp(place)) ** 2
        springs.append(spring)
        losses.append(2 * math.exp(damped) * math.sqrt(spring * outer))
        rubs.append(2 * math.exp(rubbed) * math.sqrt(spring * outer))
    return ChainLoad(
        inertias=tuple(inertias), springs=tuple(springs), losses=tuple(losses), rubs=tuple(rubs),
        own=max(viscous - sum(rubs), 0.0),
    )  # fmt: skip


def _bounds(masses: int, inertia: float, use: FrequencyResponse) -> tuple[FloatArray, FloatArray]:
    low, high = [math.log(inertia) - INERTIA_KNOWN], [math.log(inertia) + INERTIA_KNOWN]
    for _ in range(masses - 1):
        low += [LIGHTEST, math.log(LOWEST * use.frequency[0]), math.log(DAMPED[0]), math.log(RUBBED[0])]
        high += [HEAVIEST, math.log(2 * use.frequency[-1]), math.log(DAMPED[1]), math.log(RUBBED[1])]
    return np.array([*low, -1.0]), np.array([*high, 1.0])


def _starts(masses: int, inertia: float, use: FrequencyResponse, before: OptimizeResult | None) -> list[FloatArray]:
    """The fit of the order before with a further spring, at several places and with several masses behind it."""
    if before is None:
        return [np.array([math.log(inertia), 0.0])]
    low, high = _bounds(masses, inertia, use)
    places = np.log(np.geomspace(BEGIN * use.frequency[0], use.frequency[-1], PLACES))
    return [
        np.clip(np.concatenate([before.x[:-1], [math.log(share), place, math.log(0.03), math.log(1e-3), before.x[-1]]]),
                low + 1e-6, high - 1e-6)
        for place in places for share in SHARES
    ]  # fmt: skip


def _criterion(fit: OptimizeResult, lines: int) -> float:
    n = 2 * lines
    return n * math.log(2 * float(fit.cost) / n) + len(fit.x) * math.log(n)


def _told(
    fit: OptimizeResult,
    masses: int,
    criteria: tuple[float, ...],
    frequency: FloatArray,
    fitted: NDArray[np.complex128],
    viscous: float,
) -> Chain:
    """Every figure with its std: the covariance of the search's parameters, carried on by their slopes."""
    freedom = max(2 * len(frequency) - len(fit.x), 1)
    spread = 2 * float(fit.cost) / freedom
    covariance = np.linalg.pinv(fit.jac.T @ fit.jac) * spread

    def derived(p: FloatArray) -> FloatArray:
        found, damped = _figures(p, viscous), np.exp(p[1:-1].reshape(-1, EACH)[:, 2])
        return np.array([*found.inertias, *found.springs, *damped, *_resonances(found.inertias, found.springs)])

    value = derived(fit.x)
    slopes = np.stack([
        (derived(fit.x + step) - derived(fit.x - step)) / (2 * step.sum())
        for step in 1e-5 * np.eye(len(fit.x))
    ], axis=1)  # fmt: skip
    std = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", slopes, covariance, slopes), 0.0))
    every = [Estimated(float(v), float(s)) for v, s in zip(value, std, strict=True)]
    n = masses - 1
    return Chain(
        inertias=tuple(every[:masses]), stiffnesses=tuple(every[masses : masses + n]),
        dampings=tuple(every[masses + n : masses + 2 * n]), resonances=tuple(every[masses + 2 * n :]),
        delay=Estimated(float(fit.x[-1]) * MOST_LATE, math.sqrt(max(float(covariance[-1, -1]), 0.0)) * MOST_LATE),
        misfit=math.sqrt(spread), criterion=criteria, frequency=frequency, fitted=fitted,
        load=_figures(fit.x, viscous),
    )  # fmt: skip


def _resonances(inertias: Sequence[float], springs: Sequence[float]) -> list[float]:
    """Frequencies of the free chain without damping, rising. [Hz]"""
    n = len(inertias)
    stiffness = np.zeros((n, n))
    for k, spring in enumerate(springs):
        stiffness[k : k + 2, k : k + 2] += spring * np.array([[1.0, -1.0], [-1.0, 1.0]])
    root = np.sqrt(np.array(inertias))
    squared = np.sort(np.linalg.eigvalsh(stiffness / np.outer(root, root)))[1:]
    return (np.sqrt(np.maximum(squared, 0.0)) / (2 * math.pi)).tolist()
