"""What the acceptance judges: the goal, and beside it what matters most."""

import math
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from cadrel.core.axis import AxisModel, understand
from cadrel.core.control import Gains
from cadrel.core.identification.plant import IdentifiedPlant, Unrest
from cadrel.core.response import MoveMetrics, measure_moves
from cadrel.core.tuning import noise_behind, quicker
from cadrel.core.twin import Twin
from cadrel.link import Recording
from cadrel.procedures import PROCEDURES, Session, acceptance
from cadrel.procedures.acceptance import (
    FLICKER_SHARE,
    _why_not,
    averaged_over,
    judge,
    place_of,
    ripple_at_rest,
    slow_for_it,
)
from cadrel.procedures.chance import MOST_REPEATS, may_be_woken, repeats_judged, settled_by_chance
from cadrel.procedures.judging import RIPPLE, SWUNG, position_values
from cadrel.procedures.real_move import plan_stroke
from cadrel.procedures.velocity.report import velocity_values
from cadrel.procedures.velocity.seen import FIRMLY, WITHIN, budget, unrest_with
from tests.conftest import values_of
from tests.procedures.test_stops import Ready, typed
from tests.procedures.velocity.test_rest_foreseen import EASY

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


def _at_rest(noise: float) -> tuple[SimpleNamespace, Recording]:
    """An axis that stands wherever it is told to while its device shows so much noise, in windows, rms."""
    axis = understand(values_of("glaze-table"))
    rng = np.random.default_rng(5)
    active = np.zeros(16_000)
    active[200:4000] = active[9000:12_000] = 1.0
    away = noise * axis.goal.window * rng.normal(size=active.size)
    record = Recording(
        period=250e-6, channels={"profile_active": active, "position_ref": np.zeros(active.size), "position": away}
    )
    return SimpleNamespace(axis=axis, on_load=False, place="position"), record


@pytest.mark.parametrize(("noise", "told"), [(1.5, True), (0.27, False), (0.06, False)])
def test_a_device_that_flickers_beyond_the_window_whatever_is_averaged_is_named(noise: float, told: bool) -> None:
    session, record = _at_rest(noise)
    remarks = _why_not(session, record)  # type: ignore[arg-type]
    assert bool(remarks) == told
    assert not told or "flickers" in remarks[0]


@pytest.mark.parametrize(("noise", "averages"), [(0.27, True), (0.06, False)])
def test_what_leaves_the_window_is_the_axis_and_not_its_device(noise: float, averages: bool) -> None:
    """A twentieth of a second before the first move hardly shows what a hundred times as much time in dwells does."""
    session, record = _at_rest(noise)
    goal, dwells = session.axis.goal, record["profile_active"] < 0.5
    assert np.abs(record["position"][:200]).max() < FLICKER_SHARE * goal.window, "it would seem to be allowed"
    assert (np.abs(record["position"][dwells]).max() > goal.window) == averages
    position, n = place_of(session, record), averaged_over(session, record)  # type: ignore[arg-type]
    assert (n > 0) == averages
    assert np.abs(position[dwells]).max() < goal.window
    if not averages:
        np.testing.assert_array_equal(position, record["position"])
        return
    # Independent samples: the mean of n scatters by 1 / sqrt(n) of them.
    assert n >= 4 and n * record.period <= goal.settling_time / 30
    assert position.std() == pytest.approx(record["position"].std() / math.sqrt(n), rel=0.15)


def test_where_settling_may_take_long_no_more_is_averaged() -> None:
    session, record = _at_rest(0.27)
    session.axis = replace(session.axis, goal=replace(session.axis.goal, settling_time=5.0))
    assert averaged_over(session, record) * record.period == pytest.approx(5e-3)  # type: ignore[arg-type]
    assert not _why_not(session, record)  # type: ignore[arg-type]


def test_an_average_reads_no_settling_off_by_more_than_half_of_itself() -> None:
    """The same noise about an axis that comes to its target like exp(-t / 20 ms) from ten windows away."""
    session, record = _at_rest(0.27)
    window = session.axis.goal.window
    since = record.period * (np.arange(16_000) - 4000.0)
    lag = 10 * window * np.exp(-np.maximum(since, 0.0) / 0.02) * (since < 1.0)
    moved = Recording(
        period=record.period,
        channels={**record.channels, "position": record["position"] - np.where(since >= 0, lag, 0.0)},
    )
    position, averaged = place_of(session, moved), averaged_over(session, moved) * moved.period  # type: ignore[arg-type]
    at_once, time = np.zeros(16_000), record.period * np.arange(16_000.0)
    raw, read = (
        measure_moves(time, at_once, x, record["profile_active"], at_once, window=window)[0].settling_time
        for x in (moved["position"], position)
    )
    # It passes the window after 46 ms, 20 ln 10; what is left of the noise puts that off by little.
    assert read is not None and 0.046 < read < 0.046 + 0.02 * 0.3 + averaged
    assert raw is None or raw > 1.4 * read, "read off every sample it is the device's doing"


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


def test_gains_that_the_drive_had_to_halve_in_a_move_are_told_and_borne_from_then_on(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """The lift's own move, in the midst of which the drive halves gains once."""
    ready = Ready()
    ready.client.set_position(0.2 * ready.axis.mechanism.motor_rad_per_load)  # [m] with the whole move above it
    run = acceptance.moved

    def halved(session: Session, *how: Any) -> Any:
        found = run(session, *how)
        session.swings += 1
        return found

    monkeypatch.setattr(acceptance, "moved", halved)
    outcome, session = ready.run("acceptance", repeats=1)
    assert outcome.verdict is not None and not outcome.verdict.is_proven
    assert SWUNG in outcome.verdict.missed and PROCEDURES["acceptance"].again([SWUNG]) == "velocity"
    assert any("the drive halved its gains" in remark for remark in outcome.verdict.remarks)
    assert isinstance(outcome.plant, Unrest)
    gains = Gains.from_drive(session.values, session.rates)
    assert outcome.plant.noise == pytest.approx(FIRMLY * noise_behind(WITHIN * budget(session), gains))


def _after(asked: int, unrest: Unrest | None, *, decays: float, matters: str = "settling") -> Any:
    """An axis before its move; its position loop has so many time constants in the settling time asked for."""
    entries = {"goal.repeats": {"value": float(asked)}, "tuning.matters": {"value": matters, "source": "typed"}}
    axis = understand(values_of("tile-pusher") | entries)
    gain = decays / axis.goal.settling_time
    return SimpleNamespace(axis=axis, plant=IdentifiedPlant(unrest=unrest), values={"position.gain": gain})


@pytest.mark.parametrize(
    ("asked", "unrest", "decays", "repeats"),
    [
        (3, None, 4.0, 3), (3, Unrest(noise=1.0), 4.0, 12), (MOST_REPEATS, Unrest(noise=1.0), 4.0, MOST_REPEATS),
        (3, Unrest(late=True), 4.0, 12), (3, None, 2.9, 3),
    ],
)  # fmt: skip
def test_where_it_is_chance_how_a_move_ends_it_is_run_so_often_that_it_hardly_passes_by_chance(
    asked: int, unrest: Unrest | None, decays: float, repeats: int
) -> None:
    assert repeats_judged(_after(asked, unrest, decays=decays)) == repeats
    moves, by_chance = 2 * repeats, 5 / 6  # of one that fails after one move of six
    assert repeats == asked or by_chance**moves < 0.02


@pytest.mark.parametrize(
    ("settled", "decays", "matters", "is_told"),
    [
        (0.9, 1.0, "settling", False), (1.1, 1.0, "settling", True), (None, 1.0, "settling", True),
        (1.1, 4.0, "settling", False), (1.1, 1.0, "disturbance", False),
    ],
)  # fmt: skip
def test_a_move_that_settles_late_with_a_slow_position_loop_goes_back_for_a_quicker_one(
    settled: float | None, decays: float, matters: str, is_told: bool
) -> None:
    session = _after(3, None, decays=decays, matters=matters)
    goal = session.axis.goal
    row = slow_for_it(session, None if settled is None else settled * goal.settling_time)
    assert (row is not None) is is_told
    if row is not None:
        assert row["value"] == pytest.approx(goal.settling_time) and row["limit"] < row["value"] and not row["passed"]
        assert PROCEDURES["acceptance"].again([row["what"].lower()]) == "velocity"


@pytest.mark.parametrize(
    ("settled", "decays", "by_chance"),
    [
        ((0.0, 0.9), 1.0, True), ((0.0, 0.2), 1.0, False), ((0.3, 0.1), 1.0, True), ((0.3, 1.1), 1.0, False),
        ((0.3, None), 1.0, False), ((0.0, 0.9), 4.0, False),
    ],
)  # fmt: skip
def test_moves_that_settled_within_a_slow_loops_time_are_repeated_more_often_and_others_not(
    settled: tuple[float | None, ...], decays: float, by_chance: bool
) -> None:
    """One that has failed needs no more to show it, and what is in the window at once settles by no chance."""
    session = _after(3, None, decays=decays)
    most = session.axis.goal.settling_time
    moves: list[Any] = [SimpleNamespace(settling_time=None if s is None else s * most) for s in settled]
    assert settled_by_chance(session, moves) is by_chance


def test_what_trembles_later_is_still_known_to_have_been_late() -> None:
    late = Unrest(late=True)
    assert Unrest.from_dict(late.as_dict()) == late
    assert Unrest.from_dict({"noise": 2.0}) == Unrest(noise=2.0, late=False), "as projects from before have it"
    ready = Ready()
    ready.plant = ready.plant.with_part(late)
    session: Any = SimpleNamespace(
        plant=ready.plant, axis=ready.axis, current_continuous=ready.axis.motor.current_continuous
    )
    both = unrest_with(session, Gains.from_drive(ready.client.read()))
    assert both.late and both.noise > 0.0


@pytest.mark.parametrize(("lines", "times", "woken"), [(500, 4.0, True), (500, 1.0, False), (25_000, 4.0, False)])
def test_an_axis_is_taken_to_pass_by_chance_where_a_move_wakes_its_twin(lines: int, times: float, woken: bool) -> None:
    """Coarse counts under a stiff loop; a soft one, or fine counts, leave the twin at rest wherever it ends."""
    entries = {"feedback.kind": typed("incremental"), "feedback.lines": typed(lines)}
    ready = Ready(replace(EASY, encoder_lines=lines), **entries)
    consent = PROCEDURES["acceptance"].consent(ready.axis, ready.client.read())
    session = Session(drive=ready.client, axis=ready.axis, consent=consent, plant=ready.plant)
    session.refresh()
    gains = quicker(Gains.from_drive(session.values, session.rates).with_(position_gain=30.0), times)
    session.write({**velocity_values(gains), **position_values(gains)})
    assert may_be_woken(session) is woken
    session.plant = IdentifiedPlant()
    assert not may_be_woken(session), "of an axis that was not identified there is no twin"


@pytest.mark.parametrize(("longest", "made"), [(1.5, 1), (3.5, 3), (100.0, 4), (0.5, None)])
def test_of_more_moves_than_a_twin_keeps_it_makes_as_many_as_it_does(
    longest: float, made: int | None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As many of four strokes as fit, `longest` being told in strokes; it is said where it makes fewer."""
    ready = Ready(**{"goal.repeats": {"value": 4.0}})
    consent = PROCEDURES["acceptance"].consent(ready.axis, ready.client.read())
    session = Session(drive=ready.client, axis=ready.axis, consent=consent, plant=ready.plant)
    session.refresh()
    ready.client.set_position(0.2 * ready.axis.mechanism.motor_rad_per_load)
    profile = plan_stroke(session)
    stroke = 2 * (profile.duration + ready.axis.goal.dwell)
    monkeypatch.setattr(Twin, "longest", property(lambda twin: longest * stroke))
    foreseen = acceptance._foreseen(session, profile, 4)
    assert (foreseen is None) is (made is None)
    if foreseen is not None:
        assert foreseen.record.time[-1] / stroke == pytest.approx(made, rel=1e-3)
    assert any("too long" in note for note in session.notes) is (made != 4)


def test_after_moves_in_which_the_drive_halved_its_gains_half_is_owed_of_what_swung(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """And not of what is in force then: that is half already."""
    ready = Ready(**{"goal.repeats": {"value": 1.0}})
    ready.client.set_position(0.2 * ready.axis.mechanism.motor_rad_per_load)  # [m] with the whole move above it
    swung, run = Gains.from_drive(ready.client.read()), acceptance.moved

    def halved(session: Session, profile: Any, repeats: int) -> Any:
        found = run(session, profile, repeats)
        session.write({"velocity.gain": 0.5 * swung.velocity_gain})
        session.swings += 1
        return found

    monkeypatch.setattr(acceptance, "moved", halved)
    outcome, session = ready.run("acceptance")
    assert outcome.verdict is not None and SWUNG in outcome.verdict.missed
    assert isinstance(outcome.plant, Unrest)
    assert outcome.plant.noise == pytest.approx(FIRMLY * noise_behind(WITHIN * budget(session), swung))


@pytest.mark.parametrize("by", ["settled_by_chance", "may_be_woken"])
@pytest.mark.parametrize(("trembles", "runs"), [(False, 2), (True, 1)])
def test_what_missed_in_its_first_moves_gets_no_second_chance(
    trembles: bool, runs: int, by: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Repeated more often is what passed, and may have by chance; what trembled after one of its moves has missed."""
    ready = Ready(**{"goal.repeats": {"value": 1.0}})
    ready.client.set_position(0.2 * ready.axis.mechanism.motor_rad_per_load)  # [m] with the whole move above it
    run, ran = acceptance.moved, []

    def counted(session: Session, profile: Any, repeats: int) -> Any:
        ran.append(repeats)
        return run(session, profile, repeats)

    ripples = [10 * ready.axis.motor.torque_constant * ready.axis.motor.current_peak if trembles else 0.0, 0.0]
    monkeypatch.setattr(acceptance, "moved", counted)
    for why in ("settled_by_chance", "may_be_woken"):
        monkeypatch.setattr(acceptance, why, lambda *_, told=why == by: told)
    monkeypatch.setattr(acceptance, "ripple_at_rest", lambda *_: ripples[len(ran) - 1])
    if not trembles:  # on careful gains the lift's move misses its goal: what is asked here is what follows a pass
        judged = acceptance.judge
        monkeypatch.setattr(acceptance, "judge", lambda *a, **k: judged(*a, **k) | {"accepted": True})
    outcome, _ = ready.run("acceptance")
    assert ran == [1, 4][:runs]
    assert outcome.verdict is not None and (RIPPLE in outcome.verdict.missed) is trembles
