"""The velocity loop of one who knows the plant: what PI, two filters and two second-order sections could give at most.

A calculation of its own: the gain is a figure of the search like any other, margins are read off the loop at its
crossings, and stability is the winding of 1 + L about nought. Nothing is shared with the tuner but what is asked.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numba
import numpy as np
from numpy.typing import NDArray
from scipy.optimize import differential_evolution

from cadrel.cli.true_plant import resonances, true_loops, true_velocity_plant
from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.simulation import RigTruth
from cadrel.core.simulation.layout import TV

FloatArray = NDArray[np.float64]
LOWEST, HIGHEST = 0.5, 0.4999 / TV  # [Hz]
COARSE, ACROSS, ACROSS_CORNERS = 240, 31, 15
EVENLY = (np.arange(64) + 0.5) / 128 / TV  # [Hz] to half the rate: where noise is summed
# As the tuner's, no poles damped beyond 1: with a slower lag an axis swings on for ever, once at its current's limit.
BOX = ((1e-3, 2.0), (150.0, 1900.0), (200.0, 1900.0), *(((20.0, 1850.0), (0.01, 1.5), (20.0, 1850.0), (0.1, 1.0)) * 2))
IDLE = (1850.0, 1.0, 1850.0, 1.0)  # a section that does nothing
MOST_LEAD = math.log(3.0)
GENERATIONS, CROWD, SEED = 260, 12, 4
_SECTION = ("zero", "zero_damping", "pole", "pole_damping")
LESS, TRIES = 0.97, 40  # of the gain, and of the integral gain twice, until every corner is stable
WEIGHT = 0.5  # of log gain beside log integral gain, as for the tuner's own proposals
QUIET_FROM = 1200.0  # [Hz] beyond, the gain stays below 1 by the gain margin, as for the tuner


@dataclass(frozen=True, slots=True)
class Known:
    """The best loop on the true plant."""

    gain: float  # [N·m·s/rad]
    integral: float  # [N·m/rad] disturbance stiffness
    shape: tuple[float, ...] = ()  # reset time [s], torque and speed filter [Hz], zero and pole of both sections

    def to_drive(self) -> dict[str, float]:
        """Return it by registry key, with all that it does not have switched off."""
        found = {
            "velocity.notch_frequency": 0.0, "velocity.section4_pole": 0.0,
            "velocity.gain": self.gain, "velocity.reset_time": self.shape[0], "velocity.torque_filter": self.shape[1],
            "velocity.feedback_filter": self.shape[2],
        }  # fmt: skip
        for n, k in enumerate((3, 7)):
            for name, value in zip(_SECTION, self.shape[k : k + 4], strict=True):
                found[f"velocity.section{n + 2}_{name}"] = value
        return found


@numba.njit(cache=True, error_model="numpy")
def _controller(x, warped, at, period):  # type: ignore[no-untyped-def]
    """Return the controller at one frequency: `at` has what only that decides, `warped` what only the loop does."""
    w, s, squared, summed = at[0], at[1], at[2], at[3]
    lp, sf = warped[4], warped[5]
    top = x[11] * (1 - lp) * (1 - sf) * (1 + period / x[0] * summed)
    below = (1 - lp * w) * (1 - sf * w)
    for k in range(2):
        zero, pole = warped[2 * k], warped[2 * k + 1]
        top *= squared / (zero * zero) + 2 * x[4 * k + 4] / zero * s + 1
        below *= squared / (pole * pole) + 2 * x[4 * k + 6] / pole * s + 1
    return top * below.conjugate() / (below.real * below.real + below.imag * below.imag)


def _at(frequency: FloatArray) -> NDArray[np.complex128]:
    """What only the frequency decides, a row each: a sample's delay, its bilinear map, the square of that, the sum."""
    w = np.exp(-2j * np.pi * frequency * TV)
    s = (1 - w) / (1 + w)
    return np.stack([w, s, s * s, w / (1 - w)], axis=1)


@numba.njit(cache=True, error_model="numpy")
def _warped(x, period):  # type: ignore[no-untyped-def]
    """Return zero and pole of both sections as the bilinear transform has them, and the poles of both filters."""
    found = np.empty(6)
    for k in range(2):
        found[2 * k] = math.tan(math.pi * x[4 * k + 3] * period)
        found[2 * k + 1] = math.tan(math.pi * x[4 * k + 5] * period)
    found[4], found[5] = math.exp(-2 * math.pi * x[1] * period), math.exp(-2 * math.pi * x[2] * period)
    return found


@numba.njit(cache=True, error_model="numpy")
def _amplified(x, warped, at, period):  # type: ignore[no-untyped-def]
    """Return what white noise of a position becomes as torque, rms over rms a sample: `at` is even to half the rate."""
    total = 0.0
    for k in range(len(at)):
        c = _controller(x, warped, at[k], period) * (1 - at[k, 0])
        total += c.real * c.real + c.imag * c.imag
    return math.sqrt(total / (2 * len(at)))


@numba.njit(cache=True, error_model="numpy")
def _violation(x, frequency, at, plants, drifts, peak, margin, gain_margin, noise, noise_torque, period):  # type: ignore[no-untyped-def]  # noqa: PLR0912
    """Return by how much a loop misses what is asked, as a sum of logarithms; 0 where it keeps all.

    Stability is how often 1 + L turns about nought: how often the straight line between one frequency and the next
    passes the negative axis, and where it ends.
    """
    n, m = plants.shape
    warped = _warped(x, period)
    before, passed, first = np.zeros(m, np.complex128), np.zeros(m), np.zeros(m)
    nearest, worst_phase, crossed, loudest = np.inf, math.pi, 0.0, 0.0  # |1 + L|² and |L|², not their roots
    for i in range(n):
        c = _controller(x, warped, at[i], period)
        for j in range(m):
            loop = c * plants[i, j]
            size, back = loop.real * loop.real + loop.imag * loop.imag, loop.real + 1
            if j < drifts:  # the others, lighter and heavier, need only be stable
                nearest = min(nearest, back * back + loop.imag * loop.imag)
            if frequency[i] > QUIET_FROM:
                loudest = max(loudest, size)
            if i == 0:
                first[j] = np.angle(1 + loop)
            else:
                last = before[j]
                if (loop.imag > 0) != (last.imag > 0):
                    through = last.real * loop.imag - loop.real * last.imag  # times what its imaginary part rises by
                    rise = loop.imag - last.imag
                    if (through + rise) * rise < 0:
                        passed[j] += 1.0 if rise < 0 else -1.0
                    if j < drifts and loop.real < 0 and last.real < 0:
                        crossed = max(crossed, size)
                if j < drifts and (size > 1) != (last.real * last.real + last.imag * last.imag > 1):
                    for one in (loop, last):
                        worst_phase = min(worst_phase, abs(math.pi - abs(np.angle(one))))
            before[j] = loop
    missed = 0.0
    for j in range(m):
        if abs(np.angle(1 + before[j]) + 2 * math.pi * passed[j]) > 0.5 * math.pi or first[j] > 0:
            missed += 3.0
    missed += max(-math.log(math.sqrt(nearest) * peak), 0.0) + max(margin - worst_phase, 0.0)
    missed += max(math.log(max(math.sqrt(max(crossed, loudest)), 1e-9) * gain_margin), 0.0)
    if noise > 0.0:
        missed += max(math.log(noise * _amplified(x, warped, at[n:], period) / noise_torque), 0.0)
    return missed


@numba.njit(cache=True, error_model="numpy")
def _scores(many, frequency, at, plants, drifts, peak, margin, gain_margin, noise, noise_torque, period):  # type: ignore[no-untyped-def]
    found = np.empty(many.shape[1])
    for k in range(many.shape[1]):
        x = np.exp(many[:, k])
        missed = _violation(x, frequency, at, plants, drifts, peak, margin, gain_margin, noise, noise_torque, period)
        for q in (3, 7):
            missed += max(many[q + 2, k] - many[q, k] - MOST_LEAD, 0.0)
        found[k] = 30.0 * missed - math.log(x[11] / x[0]) - WEIGHT * math.log(x[11])
    return found


def rigs_of_spread(truth: RigTruth, asked: Robustness) -> tuple[list[RigTruth], list[RigTruth]]:
    """Return the rig with its resonances as they are and drifted, and at every corner of drift and inertia."""

    def drifted(share: float) -> RigTruth:
        factor = (1 + share) ** 2
        return replace(truth, stiffness=truth.stiffness * factor, stiffness_third=truth.stiffness_third * factor)

    def weighing(rig: RigTruth, factor: float) -> RigTruth:
        whole = rig.inertia_motor + rig.inertia_load + rig.inertia_third
        return replace(rig, inertia_load=max(rig.inertia_load + (factor - 1) * whole, 0.05 * rig.inertia_load))

    drifts = [drifted(share) for share in (-asked.resonance_drift, 0.0, asked.resonance_drift)]
    return drifts, [weighing(rig, f) for rig in drifts for f in (asked.inertia_least, 1.0, asked.inertia_most)]


def best_known(
    truth: RigTruth, values: Mapping[str, float], asked: Robustness, *, noise: float, noise_torque: float,
    inertia: float, speed_of_run: float, tuned: Gains | None = None, with_sections: bool = True, softest: float = 1.0,
) -> Known | None:  # fmt: skip
    """Return the stiffest loop on the true plant with its resonances where they are and at both ends of their drift.

    None where the search finds none that keeps what is asked and is stable at every corner.

    Parameters
    ----------
    values : mapping
        The drive's, for its current loop.
    noise, noise_torque : float
        Raw speed at rest [rad/s] and what it may make of torque [N·m], both rms: the tuner's own budget.
    inertia : float
        About where the gain is looked for. [kg·m²]
    tuned : Gains, optional
        The tuner's own loop: a second search begins at it, and the better of both counts. One who knows the plant is
        not beaten by luck of the draws.
    with_sections : bool
        Or PI and the two filters alone.
    softest : float
        Share of the closed shaft's stiffness that it has where a small swing hardly closes its play: what is asked is
        kept there as well.
    """
    drifts, corners = rigs_of_spread(truth, asked)
    if softest < 1.0:
        more, and_corners = rigs_of_spread(replace(truth, stiffness=softest * truth.stiffness), asked)
        drifts, corners = drifts + more, corners + and_corners
    rigs = [*drifts, *(c for c in corners if c not in drifts)]
    parts = [np.geomspace(LOWEST, HIGHEST, COARSE)]
    for rig in rigs:  # also of those that need only be stable: on a grid too coarse for its circle none is seen to turn
        antiresonance = math.sqrt(rig.stiffness / rig.inertia_load) / (2 * math.pi)
        across = np.linspace(-1, 1, ACROSS if rig in drifts else ACROSS_CORNERS) ** 3
        for centre in (*resonances(rig), antiresonance):
            if centre < HIGHEST:
                parts.append(centre * (1 + 0.15 * across))
    f = np.unique(np.concatenate(parts))
    f = f[f < HIGHEST]
    at = _at(np.concatenate([f, EVENLY]))
    plants = np.stack([true_velocity_plant(rig, values, f, speed_of_run=speed_of_run) for rig in rigs], axis=1)
    free = np.arange(12) if with_sections else np.array([0, 1, 2, 11])
    box = np.log([*BOX, (0.3 * inertia, 1e4 * inertia)])[free]

    def whole(figures: FloatArray) -> FloatArray:
        """Return all figures of many shapes, those that are searched as columns; the sections left do nothing."""
        rows = np.repeat(np.log([[1.0, 1.0, 1.0, *IDLE, *IDLE, 1.0]]).T, figures.shape[1], axis=1)
        rows[free] = figures
        return rows

    found = [
        differential_evolution(
            lambda many: _scores(
                whole(many), f, at, plants, len(drifts), asked.sensitivity_peak, asked.phase_margin,
                10 ** (asked.gain_margin_db / 20), noise, noise_torque, TV,
            ),
            box, popsize=CROWD, maxiter=GENERATIONS, tol=1e-5, mutation=(0.3, 0.9), recombination=0.85,
            rng=np.random.default_rng(SEED), vectorized=True, updating="deferred", polish=False, x0=begun,
        )
        for begun in (None, *(() if tuned is None else (_within(_figures(tuned)[free], box),)))
    ]  # fmt: skip
    # Of six digits: a logarithm of what a drive takes at the most comes back as a hair more.
    best = np.exp(whole(min(found, key=lambda one: one.fun).x[:, None])[:, 0])
    x = np.array([float(f"{figure:.6g}") for figure in best])
    kept = _violation(
        x, f, at, plants, len(drifts), asked.sensitivity_peak, asked.phase_margin, 10 ** (asked.gain_margin_db / 20),
        noise, noise_torque, TV,
    )  # fmt: skip
    if kept >= 0.01:
        return None
    for share in LESS ** np.arange(TRIES):  # what eigenvalues find unstable that no point of the grid showed
        known = Known(float(share * x[11]), float(share**2 * x[11] / x[0]), (float(x[0] / share), *x[1:11].tolist()))
        told = {**values, **known.to_drive()}
        if all(true_loops(rig, told)["velocity"].is_stable for rig in corners):
            return known
    return None


def _within(figures: FloatArray, box: FloatArray) -> FloatArray:
    """Figures inside of a box; on its very edge rounding would have them outside."""
    low, high = box.T
    edge = 1e-9 * (high - low)
    return np.clip(figures, low + edge, high - edge)


def _figures(gains: Gains) -> FloatArray:
    """Logarithms of a loop's figures, as the search has them; sections that it does not have do nothing."""
    sections = [(s.zero_hz, s.zero_damping, s.pole_hz, s.pole_damping) for s in gains.sections]
    first, second = (*sections, IDLE, IDLE)[:2]
    shape = (gains.velocity_reset, gains.torque_filter_hz, gains.feedback_filter_hz, *first, *second)
    return np.log([*shape, gains.velocity_gain])
