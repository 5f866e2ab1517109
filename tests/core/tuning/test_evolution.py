"""Differential evolution of several crowds, beside SciPy's and on functions whose minimum is known."""

import numpy as np
import pytest
from scipy.optimize import differential_evolution, rosen

from cadrel.core.tuning import evolution
from cadrel.core.tuning.evolution import Evolution, FloatArray

BOX = [(-2.0, 2.0)] * 4


def rosenbrock(many: FloatArray, _beaten: FloatArray) -> FloatArray:
    """H. H. Rosenbrock, Computer Journal 3 (1960) 175, as SciPy has it: the least is 0, at ones."""
    return np.asarray(rosen(many))


def strewn(crowds: int, *, low: float = -2.0, high: float = 2.0) -> FloatArray:
    return np.random.default_rng(4).uniform(low, high, size=(crowds, 40, len(BOX)))


def evolve(crowds: FloatArray, generations: int = 400) -> Evolution:
    evolving = Evolution(crowds, BOX, rosenbrock)
    evolving.go_on(generations, np.random.default_rng(5))
    evolving.keep(1)
    return evolving


def test_the_least_of_a_known_function_is_found_as_scipy_finds_it() -> None:
    found = evolve(strewn(2)).crowds[0, 0]
    other = differential_evolution(rosen, BOX, popsize=10, maxiter=400, polish=False, rng=5)
    assert rosen(found) < 1e-6
    assert found == pytest.approx(np.ones(4), abs=1e-2)
    assert found == pytest.approx(other.x, abs=2e-2)


def two_wells(many: FloatArray, _beaten: FloatArray) -> FloatArray:
    """A wide well at -1, and one at 1 that is deeper by a half."""
    return np.asarray(
        np.minimum(((many + 1) ** 2).sum(0), ((many - 1) ** 2).sum(0) - 0.5),
    )


def test_each_crowd_stays_in_its_well_and_the_deeper_one_is_kept() -> None:
    apart = np.stack([strewn(1, low=-1.4, high=-0.6)[0], strewn(1, low=0.6, high=1.4)[0]])
    evolving = Evolution(apart, BOX, two_wells)
    evolving.go_on(60, np.random.default_rng(6))
    assert evolving.crowds[0].mean() == pytest.approx(-1.0, abs=0.05)
    assert evolving.crowds[1].mean() == pytest.approx(1.0, abs=0.05)
    evolving.keep(1)
    assert evolving.crowds.shape == (1, 40, 4)
    assert evolving.crowds[0, 0] == pytest.approx(np.ones(4), abs=0.02)


def test_how_many_cores_share_the_scores_changes_nothing(monkeypatch: pytest.MonkeyPatch) -> None:
    found = []
    for cores in (1, 3):
        monkeypatch.setattr(evolution, "CORES", cores)
        found.append(evolve(strewn(2), generations=30).crowds)
    assert np.array_equal(*found)


def test_no_member_leaves_the_box_and_none_takes_the_place_of_a_better_one() -> None:
    asked: list[FloatArray] = []

    def watched(many: FloatArray, beaten: FloatArray) -> FloatArray:
        asked.append(many)
        return rosenbrock(many, beaten)

    evolving = Evolution(3.0 * strewn(1), BOX, watched)  # begun beyond it
    rng, least = np.random.default_rng(7), np.inf
    for generation in range(1, 12):
        evolving.go_on(generation, rng)
        now = rosen(evolving.crowds[0].T)
        assert now.min() <= least
        least = now.min()
    assert max(np.abs(many).max() for many in asked) <= 2.0
    assert least < 30.0


def test_it_ends_where_all_members_are_alike() -> None:
    scored = 0

    def flat(many: FloatArray, _beaten: FloatArray) -> FloatArray:
        nonlocal scored
        scored += many.shape[1]
        return np.full(many.shape[1], 7.0)

    Evolution(strewn(1), BOX, flat).go_on(500, np.random.default_rng(8))
    assert scored == 40  # the beginning, and no generation after it
