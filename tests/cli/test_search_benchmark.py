"""The benchmark of the search compares like with like."""

import numpy as np
import pytest
from scipy.optimize import rosen

from cadrel.cli import search_benchmark
from cadrel.cli.benchmark import GAINS, LOAD, WINDING
from cadrel.cli.search_benchmark import evolution_times, shape_times


@pytest.fixture
def once(monkeypatch: pytest.MonkeyPatch) -> list[object]:
    """Let every call that is timed run once, and keep what it gives."""
    given: list[object] = []

    def run(call, repeats: int) -> float:
        given.append(call())
        return float(repeats)

    monkeypatch.setattr(search_benchmark, "median_time", run)
    return given


def test_what_beats_most_others_is_scored_as_among_all(once: list[object]) -> None:
    shape_times(LOAD, WINDING, GAINS)
    whole, beaten = np.asarray(once[0]), np.asarray(once[1])
    best = whole <= np.quantile(whole, 0.2)
    assert 20 <= best.sum() <= 30
    assert np.array_equal(whole[best], beaten[best])
    assert np.all(beaten[~best] > whole[best].max())


def test_both_evolutions_score_as_many_members(once: list[object], monkeypatch: pytest.MonkeyPatch) -> None:
    scored = [0]

    def counted(x: np.ndarray) -> np.ndarray:
        scored[-1] += x.shape[1] if x.ndim > 1 else 1
        return np.asarray(rosen(x))

    monkeypatch.setattr(search_benchmark, "rosen", counted)
    monkeypatch.setattr(search_benchmark, "median_time", lambda call, _: (scored.append(0), call(), 0.0)[-1])
    evolution_times()
    own, scipys = scored[1:]
    assert own == pytest.approx(5 * 110 * 61)
    assert scipys == pytest.approx(own, rel=0.02)
