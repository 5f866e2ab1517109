"""What the acceptance judges: the goal, and beside it what matters most."""

from types import SimpleNamespace

import numpy as np
import pytest

from cadrel.core.axis import understand
from cadrel.core.response import MoveMetrics
from cadrel.procedures.acceptance import judge
from tests.conftest import values_of

CHANNELS = {key: np.zeros(4) for key in ("v_bus", "voltage_limited", "current_limited")}


def _criteria(matters: str | None, *, overshoot_in_windows: float) -> dict[str, bool]:
    values = values_of("glaze-table")
    if matters is not None:
        values = values | {"tuning.matters": {"value": matters, "source": "typed"}}
    axis = understand(values)
    move = MoveMetrics(
        start=0.0, end=0.5 * axis.goal.move_time, settling_time=0.5 * axis.goal.settling_time,
        overshoot=overshoot_in_windows * axis.goal.window, following_error_peak=0.5 * axis.goal.following_error,
        following_error_rms=0.0, current_peak=1.0, current_rms=0.5,
    )  # fmt: skip
    result = judge(SimpleNamespace(axis=axis), [move], CHANNELS)  # type: ignore[arg-type]
    assert result["accepted"] == all(c["passed"] for c in result["criteria"])
    return {c["what"]: c["passed"] for c in result["criteria"]}


@pytest.mark.parametrize(("windows", "passes"), [(0.8, True), (1.2, False)])
def test_where_nothing_may_overshoot_the_move_is_judged_by_it(windows: float, passes: bool) -> None:
    assert _criteria("overshoot", overshoot_in_windows=windows)["Overshoot"] is passes


@pytest.mark.parametrize("matters", [None, "settling", "disturbance"])
def test_elsewhere_an_overshoot_counts_as_long_as_it_settles(matters: str | None) -> None:
    found = _criteria(matters, overshoot_in_windows=5.0)
    assert "Overshoot" not in found
    assert all(found.values())
