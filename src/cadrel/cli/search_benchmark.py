"""What the search for a velocity loop costs: its scores, and the evolution around them."""

import math

import numpy as np
from scipy.optimize import differential_evolution, rosen

from cadrel.cli.timing import median_time
from cadrel.core.control import Gains, TwoMass, Winding, read_margins, velocity_open, velocity_plant
from cadrel.core.tuning.evolution import ALIKE, AMPLIFIED, CROSSED, Evolution
from cadrel.core.tuning.gain_kernel import scores
from cadrel.core.tuning.search import as_gains
from cadrel.core.tuning.shape import Bounds, Kept, Plants
from cadrel.core.verdict.spread import Spread


def shape_times(load: TwoMass, winding: Winding, gains: Gains) -> tuple[float, float, float]:
    """Seconds for the highest gain of 110 shapes of a velocity loop: of each, and of those that beat most others.

    Last, to read the margins of every shape at one gain, on the same plants, as a search by trying would at each step.
    """
    grid = np.geomspace(0.5, 1999.0, 300)
    kept = Kept(sensitivity_peak=1.8, phase_margin=math.radians(45), gain_margin=2.5)
    loads = Spread(resonance_drift=0.05, inertia_least=0.7, inertia_most=1.5).corners(load)[:9]
    plants = Plants.of(grid, [(velocity_plant(one, winding, gains, grid), kept) for one in loads], None)
    box = np.log([(2e-3, 0.3), (150, 1900), (200, 1900), *([(60, 1850), (0.01, 1.5), (60, 1850), (0.1, 1.0)] * 2)])
    many = np.random.default_rng(1).uniform(box[:, :1], box[:, 1:], size=(len(box), 110))
    fixed = (grid, plants.values, plants.models, plants.kept, gains.rates.velocity, Bounds().noises, 1999.0, 1e3)
    nothing = np.full(110, -np.inf)
    most = np.full(110, np.quantile(-scores(many, *fixed, nothing), 0.8))
    shaped = [g for g in (as_gains(x, gains, plants, Bounds(gain=1e3)) for x in many.T) if g is not None]

    def judge() -> None:
        for one in shaped:
            for j in range(len(loads)):
                read_margins(velocity_open(plants.values[:, j], one, grid), grid)

    each = len(many.T) / len(shaped)
    return (
        median_time(lambda: scores(many, *fixed, nothing), 20),
        median_time(lambda: scores(many, *fixed, most), 20),
        each * median_time(judge, 2),
    )


def evolution_times() -> tuple[float, float]:
    """Seconds of five crowds of 110 members with eleven figures through 60 generations, scored by next to nothing."""
    box = [(-2.0, 2.0)] * 11
    crowds = np.random.default_rng(2).uniform(-2.0, 2.0, size=(5, 110, len(box)))

    def own() -> None:
        Evolution(crowds, box, lambda many, _: rosen(many)).go_on(60, np.random.default_rng(3))

    def scipys() -> None:
        for crowd in crowds:
            differential_evolution(
                rosen, box, init=crowd, maxiter=60, mutation=AMPLIFIED, recombination=CROSSED, tol=ALIKE,
                vectorized=True, updating="deferred", polish=False, rng=np.random.default_rng(3),
            )  # fmt: skip

    return median_time(own, 5), median_time(scipys, 2)
