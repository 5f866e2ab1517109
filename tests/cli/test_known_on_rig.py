"""The reference on the rig: which of its loops count, by moves that are scripted here."""

import math
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import pytest

from cadrel.cli import known_on_rig
from cadrel.cli.at_the_load import Moved
from cadrel.cli.known_on_rig import MOST_MOVED, SOFTER, budget_of, references
from cadrel.cli.known_plant import IDLE, Known
from cadrel.core.axis import understand
from tests.cli.test_true_plant import TRUTH, values_with
from tests.conftest import values_of

AXIS = understand(values_of("tile-pusher"))
VALUES = values_with(velocity__notch_frequency=0.0)
RESULT: Any = SimpleNamespace(
    parameters=VALUES,
    outcomes={
        "velocity": SimpleNamespace(
            margins={"velocity": {"device_noise": 0.0, "moving_noise": 0.0, "most_change": 1.0}}, plant=None
        )
    },
)
SHAPE = (0.03, 1500.0, 1500.0, *IDLE, *IDLE)
STIFF = Known(gain=0.02, integral=0.02 / 0.03, shape=SHAPE)
NOISY = 2 * budget_of(TRUTH, RESULT, AXIS)
STILL = Moved(settling=0.0, following_error=0.0, in_window=0.0)


@pytest.fixture
def of_rig(monkeypatch: pytest.MonkeyPatch) -> Any:
    """Search for references whose second is `other`; axis and move do by their gain as `does` tells."""

    def run(does: Any, *, other: Known | None = None) -> tuple[Any, list[dict[str, float]]]:
        moves: list[dict[str, float]] = []
        left = [STIFF, other]

        def moved(self: Any, values: dict[str, float]) -> Moved:
            moves.append(values)
            return does(values)

        monkeypatch.setattr(known_on_rig, "best_known", lambda *_, **__: left.pop(0))
        monkeypatch.setattr(known_on_rig._OnRig, "_moved", moved)
        monkeypatch.setattr(known_on_rig._OnRig, "_keeps", lambda self, loop, values: True)
        drive: Any = object()
        return references(TRUTH, RESULT, AXIS, drive, with_sections=True), moves

    return run


def test_the_stiffest_counts_where_it_does_as_asked_at_once(of_rig) -> None:
    found, moves = of_rig(lambda values: STILL)
    assert found.known is STIFF and found.resting is STIFF and not found.calmed and len(moves) == 1


def test_without_a_drive_that_can_be_moved_the_linear_one_counts(monkeypatch) -> None:
    monkeypatch.setattr(known_on_rig, "best_known", lambda *_, **__: STIFF)
    found = references(TRUTH, RESULT, AXIS, None, with_sections=True)
    assert found.known is STIFF and found.resting is STIFF


def test_one_that_hunts_is_softened_by_its_own_shape_until_the_axis_rests(of_rig) -> None:
    found, _ = of_rig(lambda v: STILL if v["velocity.gain"] < 0.6 * STIFF.gain else replace(STILL, ripple=NOISY))
    share = next(s for s in SOFTER if s < 0.6)
    assert found.calmed and found.known.gain == pytest.approx(share * STIFF.gain)
    assert found.known.integral == pytest.approx(share**2 * STIFF.integral)
    assert found.known.integral == pytest.approx(found.known.gain / found.known.shape[0]), "the same shape, slower"


def test_of_two_searches_the_stiffer_that_does_as_asked_counts(of_rig) -> None:
    other = Known(gain=0.5 * STIFF.gain, integral=0.5 * STIFF.integral, shape=(0.03, 400.0, *SHAPE[2:]))
    found, _ = of_rig(lambda v: STILL if v["velocity.gain"] < 0.6 * STIFF.gain else replace(STILL, ripple=NOISY),
                      other=other)  # fmt: skip
    assert found.known is other and found.resting is other


@pytest.mark.parametrize(
    "misses", [{"in_window": math.inf}, {"following_error": 1e6}, {"sways": AXIS.goal.window}]
)  # fmt: skip
def test_one_that_rests_and_does_not_do_what_is_asked_is_moved_otherwise_and_told_as_resting(of_rig, misses) -> None:
    found, moves = of_rig(lambda values: replace(STILL, **misses))
    assert found.known is None and found.resting is STIFF and not found.calmed
    tried = {m["position.gain"] for m in moves if "position.gain" in m}
    assert len(tried) >= 4, "quicker and slower position loops"
    assert len({m["velocity.gain"] for m in moves}) == MOST_MOVED


def test_a_slower_position_loop_may_do_where_the_axis_own_does_not(of_rig) -> None:
    found, _ = of_rig(lambda v: STILL if v.get("position.gain", 1e9) < 100.0 else replace(STILL, in_window=1.0))
    assert found.known is STIFF
