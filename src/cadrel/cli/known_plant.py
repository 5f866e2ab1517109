"""The velocity loop of one who knows the plant: what PI, two filters and two second-order sections could give at most.

A calculation of its own: the gain is a figure of the search like any other, margins are read off the loop at its
crossings, and stability is the winding of 1 + L about nought. Nothing is shared with the tuner but what is asked.
"""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import OptimizeResult, differential_evolution

from cadrel.cli.known_kernel import EVENLY, amplified, by_frequency, scores
from cadrel.cli.true_plant import antiresonances, resonances, true_loops, true_velocity_plant, unstable_pairs_by_itself
from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.simulation import RigTruth
from cadrel.core.simulation.layout import TV
from cadrel.core.verdict.spread import GRIPS

FloatArray = NDArray[np.float64]
LOWEST, HIGHEST = 0.5, 0.4999 / TV  # [Hz]
COARSE, ACROSS, ACROSS_CORNERS, ACROSS_CLOSER = 240, 31, 15, 81
ROUNDS, SLACK = 3, 0.03  # of a search, each shown what the last one did not see; of what is asked
# As the tuner's, no poles damped beyond 1: with a slower lag an axis swings on for ever, once at its current's limit.
BOX = ((1e-3, 2.0), (150.0, 1900.0), (200.0, 1900.0), *(((20.0, 1850.0), (0.01, 1.5), (20.0, 1850.0), (0.1, 1.0)) * 2))
IDLE = (1850.0, 1.0, 1850.0, 1.0)  # a section that does nothing
GENERATIONS, CROWD, SEED = 260, 12, 4
STREWN = 0.15  # of the figures' logarithms
TAKEN_BACK = (1.0, 0.98, 0.96, 0.93, 0.9, 0.85)  # of a gain
_SECTION = ("zero", "zero_damping", "pole", "pole_damping")
LESS, TRIES = 0.97, 40  # of the gain, and of the integral gain twice, until all of it does after all rounds


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


def gripped(truth: RigTruth, asked: Robustness) -> list[RigTruth]:
    """Return the rig as its dry friction makes it near rest, on the motor or on the load: more and more viscous.

    A loop that is stable on the free axis alone swings where both meet (decision 48). Of a swing on the spring, one end
    of it held, friction makes no more than `asked.grip`: what it holds faster is not told by the device.
    """
    beyond = truth.inertia_load + truth.inertia_third
    held = [share * math.sqrt(truth.stiffness * truth.inertia_motor) for share in GRIPS]
    of_load, of_motor = (math.sqrt(truth.stiffness / inertia) for inertia in (beyond, truth.inertia_motor))
    return [
        *(replace(truth, viscous_motor=truth.viscous_motor + grip) for grip in held if grip * of_load <= asked.grip),
        *(replace(truth, viscous_load=truth.viscous_load + grip) for grip in held if grip * of_motor <= asked.grip),
    ]


def best_known(
    truth: RigTruth, values: Mapping[str, float], asked: Robustness, *, noises: FloatArray,
    inertia: float, speed_of_run: float, tuned: Gains | None = None, with_sections: bool = True, softest: float = 1.0,
) -> Known | None:  # fmt: skip
    """Return the stiffest loop on the true plant with its resonances where they are and at both ends of their drift.

    It is stable at every corner of drift and inertia, and as friction grips it, as the tuner's has to be.

    None where the search finds none that keeps what is asked and is stable at every corner.

    Parameters
    ----------
    values : mapping
        The drive's, for its current loop.
    noises : ndarray, shape (2, 2)
        Raw speed at rest [rad/s] and what it may make of torque [N·m]; in motion, and by how much torque may change
        from one sample to the next. All rms: the tuner's own budget.
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
    corners += gripped(replace(truth, stiffness=softest * truth.stiffness), asked)
    free = np.arange(12) if with_sections else np.array([0, 1, 2, 11])
    box = np.log([*BOX, (0.3 * inertia, 1e4 * inertia)])[free]
    started = [None] if tuned is None else [None, _within(_figures(tuned)[free], box)]
    closer: list[RigTruth] = []
    seen = values
    for _ in range(ROUNDS):
        grid = _grid(drifts, corners, closer)
        x = _searched(drifts, corners, grid, seen, asked, noises, speed_of_run, free, box, started)
        told = {**values, **_known(x).to_drive()}
        missed = [rig for rig in (*drifts, *corners) if not _does(rig, told, asked, speed_of_run, asks=rig in drifts)]
        if not missed and _is_quiet(_known(x), noises):
            return _known(x)
        # What no point of the grid showed it is shown, and the back-EMF fed forward through the filter that it found.
        closer += [rig for rig in missed if rig not in closer]
        seen = {**values, "velocity.feedback_filter": float(x[2])}
        started = [_within(np.log(x)[free], box), *started[1:]]
    for share in LESS ** np.arange(TRIES):
        known = _known(x, share)
        told = {**values, **known.to_drive()}
        if not _is_quiet(known, noises):
            continue
        if all(_does(rig, told, asked, speed_of_run, asks=rig in drifts) for rig in (*drifts, *corners)):
            return known
    return None


def _known(x: FloatArray, share: float = 1.0) -> Known:
    """Return a loop of figures, a share of its gain taken, and of its integral gain the square of it."""
    return Known(float(share * x[11]), float(share**2 * x[11] / x[0]), (float(x[0] / share), *x[1:11].tolist()))


def _is_quiet(known: Known, noises: FloatArray) -> bool:
    """Whether a loop makes no more torque of the raw speed's noise than it may. [rad/s], [N·m], both rms"""
    made = noises[:, 0] * amplified(np.array([*known.shape, known.gain]), by_frequency(EVENLY), TV)
    return bool(np.all(made <= (1 + SLACK) * noises[:, 1]))


def _does(
    rig: RigTruth, told: Mapping[str, float], asked: Robustness, speed_of_run: float, *, asks: bool
) -> bool:  # fmt: skip
    """Whether a loop is stable on a rig, by eigenvalues, and not on a condition; where it `asks`, with its margins."""
    loop = true_loops(rig, told, speed_of_run=speed_of_run, names=("velocity",))["velocity"]
    m = loop.margins
    return (
        loop.is_stable
        and not loop.is_conditional
        and (
            not asks
            or (
                m.sensitivity_peak <= (1 + SLACK) * asked.sensitivity_peak
                and (m.phase_margin is None or m.phase_margin >= (1 - SLACK) * asked.phase_margin)
                and (m.gain_margin_db is None or m.gain_margin_db >= (1 - SLACK) * asked.gain_margin_db)
            )
        )
    )


def _grid(drifts: list[RigTruth], corners: list[RigTruth], closer: list[RigTruth]) -> FloatArray:
    """Frequencies of a search, dense about what resonates, more so of the rigs that are to be looked at `closer`. [Hz]

    Also of those that need only be stable: on a grid too coarse for its circle none is seen to turn.
    """
    parts = [np.geomspace(LOWEST, HIGHEST, COARSE)]
    for rig in (*drifts, *corners):
        points = ACROSS_CLOSER if rig in closer else ACROSS if rig in drifts else ACROSS_CORNERS
        for centre in (*resonances(rig), *antiresonances(rig)):
            if centre < HIGHEST:
                parts.append(centre * (1 + 0.15 * np.linspace(-1, 1, points) ** 3))
    f = np.unique(np.concatenate(parts))
    return f[f < HIGHEST]


def _searched(
    drifts: list[RigTruth], corners: list[RigTruth], f: FloatArray, values: Mapping[str, float], asked: Robustness,
    noises: FloatArray, speed_of_run: float, free: NDArray[np.int64], box: FloatArray,
    started: Sequence[FloatArray | None],
) -> FloatArray:  # fmt: skip
    """Return the figures of the best loop on a grid. [Hz]"""
    rigs = [*drifts, *(c for c in corners if c not in drifts)]
    plants = np.stack([true_velocity_plant(rig, values, f, speed_of_run=speed_of_run) for rig in rigs], axis=1)
    on = (
        f, by_frequency(np.concatenate([f, EVENLY])), np.stack([plants.real, plants.imag]),
        np.array([unstable_pairs_by_itself(rig, values) for rig in rigs]), len(drifts),
        asked.sensitivity_peak, asked.phase_margin, 10 ** (asked.gain_margin_db / 20), noises, TV,
    )  # fmt: skip

    def whole(figures: FloatArray) -> FloatArray:
        """Return all figures of many shapes, those that are searched as columns; the sections left do nothing."""
        rows = np.repeat(np.log([[1.0, 1.0, 1.0, *IDLE, *IDLE, 1.0]]).T, figures.shape[1], axis=1)
        rows[free] = figures
        return rows

    def evolved(begun: FloatArray | None) -> OptimizeResult:
        """Evolve a crowd; of one that does not take its member's place no more is worked out than shows it."""
        beaten = np.full(CROWD * len(box), np.inf)

        def told(intermediate_result: OptimizeResult) -> None:
            beaten[:] = intermediate_result.population_energies

        return differential_evolution(
            lambda many: scores(whole(many), *on, beaten), box, popsize=CROWD, maxiter=GENERATIONS, tol=1e-5,
            mutation=(0.3, 0.9), recombination=0.85, rng=np.random.default_rng(SEED), vectorized=True, callback=told,
            updating="deferred", polish=False, init="latinhypercube" if begun is None else _about(begun, box),
        )  # fmt: skip

    found = [evolved(begun) for begun in started]
    # Of six digits: a logarithm of what a drive takes at the most comes back as a hair more.
    best = np.exp(whole(min(found, key=lambda one: one.fun).x[:, None])[:, 0])
    return np.array([float(f"{figure:.6g}") for figure in best])


def _about(begun: FloatArray, box: FloatArray) -> FloatArray:
    """Return a crowd about a loop: itself, with less and less of its gain, strewn about it, and anywhere in the box.

    A tuner's own loop misses by a hair what is asked on the true plant, and would count for nothing without the gain
    that it has to spare.
    """
    rng = np.random.default_rng(SEED)
    members = CROWD * len(box)
    crowd = rng.uniform(box[:, 0], box[:, 1], size=(members, len(box)))
    strewn = members // 2
    crowd[:strewn] = begun + STREWN * rng.normal(size=(strewn, len(box)))
    for k, share in enumerate(TAKEN_BACK):
        crowd[k] = begun
        crowd[k, [0, -1]] += np.array([-1.0, 1.0]) * math.log(share)  # the integral gain with the square of it
    return np.stack([_within(one, box) for one in crowd])


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
