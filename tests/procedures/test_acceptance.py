"""What the acceptance judges: the goal, and beside it what matters most."""

from types import SimpleNamespace

import numpy as np
import pytest

from cadrel.core.axis import understand
from cadrel.core.response import MoveMetrics
from cadrel.link import Recording
from cadrel.procedures.acceptance import FLICKER_SHARE, _why_not, judge
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


@pytest.mark.parametrize(("noise", "told"), [(0.27, True), (0.06, False)])
def test_a_device_that_flickers_beyond_the_window_once_in_a_dwell_is_named(noise: float, told: bool) -> None:
    """A twentieth of a second before the first move hardly shows what a hundred times as much time in dwells does."""
    axis = understand(values_of("glaze-table"))
    rng = np.random.default_rng(5)
    active = np.zeros(16_000)
    active[200:4000] = active[9000:12_000] = 1.0
    away = noise * axis.goal.window * rng.normal(size=active.size)
    assert np.abs(away[:200]).max() < FLICKER_SHARE * axis.goal.window, (
        "seen before the move it would seem to be allowed"
    )
    assert (np.abs(away[active < 0.5]).max() > axis.goal.window) == told
    record = Recording(
        period=250e-6, channels={"profile_active": active, "position_ref": np.zeros(active.size), "position": away}
    )
    session = SimpleNamespace(axis=axis, on_load=False, place="position")
    remarks = _why_not(session, record)  # type: ignore[arg-type]
    assert bool(remarks) == told
    assert not told or "flickers" in remarks[0]
