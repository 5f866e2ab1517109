"""What the acceptance judges: the goal, and beside it what matters most."""

import math
from types import SimpleNamespace

import numpy as np
import pytest

from cadrel.core.axis import AxisModel, understand
from cadrel.core.response import MoveMetrics
from cadrel.link import Recording
from cadrel.procedures.acceptance import FLICKER_SHARE, _why_not, judge, ripple_at_rest
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


def _dwells(axis: AxisModel, trembles: tuple[float, float]) -> tuple[SimpleNamespace, Recording, list[MoveMetrics]]:
    """Two moves, after each of which the current trembles by so much, rms, of what was asked. It decays as well."""
    period, moving, resting = 250e-6, 1000, 2000
    asked = axis.robustness.ripple * axis.motor.current_continuous
    current, moves = [], []
    for k, size in enumerate(trembles):
        t = period * np.arange(resting)
        tremble = math.sqrt(2) * size * asked * np.sin(2 * np.pi * 60.0 * t)
        current += [np.full(moving, 5 * asked), 3 * asked * np.exp(-t / 0.1) + tremble]
        begin = k * (moving + resting) * period
        moves.append(
            MoveMetrics(
                start=begin, end=begin + moving * period, settling_time=0.0, overshoot=0.0, following_error_peak=0.0,
                following_error_rms=0.0, current_peak=1.0, current_rms=0.5,
            )
        )  # fmt: skip
    session = SimpleNamespace(axis=axis, current_continuous=axis.motor.current_continuous)
    return session, Recording(period=period, channels={"i_q_ref": np.concatenate(current)}), moves


@pytest.mark.parametrize(("trembles", "passes"), [((0.02, 0.5), True), ((0.02, 1.3), False), ((1.3, 0.02), False)])
def test_a_move_after_which_the_current_trembles_is_not_accepted(trembles: tuple[float, float], passes: bool) -> None:
    """After one of them is enough; what friction lets go of in a curve is none."""
    axis = understand(values_of("glaze-table"))
    session, record, moves = _dwells(axis, trembles)
    ripple = ripple_at_rest(session, record, moves)  # type: ignore[arg-type]
    assert ripple is not None
    asked = axis.robustness.ripple * axis.motor.torque_constant * axis.motor.current_continuous
    assert ripple / asked == pytest.approx(max(trembles), rel=0.05)
    result = judge(session, moves, CHANNELS, ripple=ripple)  # type: ignore[arg-type]
    row = next(c for c in result["criteria"] if c["what"] == "Current ripple at rest")
    assert row["passed"] is passes and result["accepted"] is passes
    assert row["limit"] == pytest.approx(100 * axis.robustness.ripple) and row["unit"] == "%"


def test_dwells_too_short_to_tell_are_not_judged_for_ripple() -> None:
    axis = understand(values_of("glaze-table"))
    session, record, moves = _dwells(axis, (1.0, 1.0))
    thin = Recording(period=0.02, channels={"i_q_ref": record["i_q_ref"][::80]})
    assert ripple_at_rest(session, thin, moves) is None  # type: ignore[arg-type]
