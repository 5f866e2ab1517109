"""Asked against measured: what decides, and what cannot."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from cadrel.core.control import Gains, TwoMass, Winding, read_margins, velocity_open, velocity_plant
from cadrel.core.verdict import AskedOfLoop, Verdict, at_least, at_most, decide, judge_loop, refined_margins, told

LOAD = TwoMass(inertia_motor=1.4e-4, inertia_load=1.1e-3, stiffness=1500.0, damping=3e-3, viscous=5e-4)
WINDING = Winding(resistance=1.36, inductance=4.6e-3, emf=0.236)
GAINS = Gains(
    current_gain=17.0, current_reset=3.4e-3, velocity_gain=0.03, velocity_reset=33e-3, feedback_filter_hz=800,
    torque_filter_hz=1500,
)  # fmt: skip
ASKED = AskedOfLoop(phase_margin=math.radians(45), gain_margin_db=6.0, sensitivity_peak=1.7)


@given(asked=st.floats(0.1, 1e3), found=st.floats(0.1, 1e3))
def test_proven_means_every_criterion_holds_and_a_run_shows_it(asked: float, found: float) -> None:
    holds = found <= 1.05 * asked
    criteria = [at_most("sensitivity peak", asked, found)]
    assert decide("velocity_loop", criteria, run=0).is_proven is (holds or math.isclose(found, 1.05 * asked))
    assert not decide("velocity_loop", criteria, run=None).is_proven
    assert not decide("velocity_loop", [], run=0).is_proven


def test_what_was_missed_is_said_with_both_figures() -> None:
    verdict = decide("velocity_loop", [at_most("sensitivity peak", 1.7, 1.9)], run=2)
    assert verdict.state == "not proven"
    assert verdict.reason == "sensitivity peak measured 1.9, asked at most 1.7"


def test_a_missing_bandwidth_is_missing_and_never_zero() -> None:
    verdict = decide("current_loop", [at_least("bandwidth", 900.0, None, unit="Hz")], run=1)
    assert not verdict.is_proven
    assert "could not be had" in verdict.reason


@pytest.mark.parametrize("value", [math.nan, math.inf])
def test_a_figure_that_is_none_passes_nothing(value: float) -> None:
    assert not at_least("phase margin", 45, value).passed
    assert not at_most("phase margin", 45, value).passed


def test_a_verdict_read_back_is_worked_out_anew() -> None:
    body = decide("load", [at_most("spread", 3.0, 9.0, unit="%")], run=0).as_dict()
    body["state"], body["criteria"][0]["passed"] = "proven", True  # as a file may claim
    assert not Verdict.from_dict(body, run=0).is_proven


def test_a_peak_narrower_than_the_lines_is_found_between_them() -> None:
    lines = np.geomspace(4, 1000, 90)
    sparse = read_margins(velocity_open(velocity_plant(LOAD, WINDING, GAINS, lines), GAINS, lines), lines)
    dense = np.unique(np.concatenate([np.geomspace(0.5, 1950, 40_000), np.linspace(500, 620, 200_000)]))
    true = read_margins(velocity_open(velocity_plant(LOAD, WINDING, GAINS, dense), GAINS, dense), dense)
    found = refined_margins("velocity", LOAD, WINDING, GAINS)
    assert found.sensitivity_peak == pytest.approx(true.sensitivity_peak, rel=0.01)
    assert true.sensitivity_peak > 1.2 * sparse.sensitivity_peak  # what the lines alone would have said


def test_the_worse_of_measurement_and_models_decides_and_is_named() -> None:
    f = np.geomspace(4, 1000, 90)
    sparse = read_margins(velocity_open(velocity_plant(LOAD, WINDING, GAINS, f), GAINS, f), f)
    rows = judge_loop("velocity", sparse, [("model", LOAD, WINDING)], GAINS, ASKED)
    peak = rows[0]
    assert peak.source == "model"
    assert peak.found is not None
    assert peak.found > sparse.sensitivity_peak
    assert not decide("velocity_loop", rows, run=0).is_proven


def test_a_counted_device_is_judged_by_old_edges_and_by_new_ones() -> None:
    calm = read_margins(np.array([10.0, 1.0, 0.1]) * -1j, np.array([1.0, 10.0, 100.0]))
    age = 2e-4
    both = {at: refined_margins("velocity", LOAD, WINDING, GAINS, edge_age=at).sensitivity_peak for at in (0.0, age)}
    peak = judge_loop("velocity", calm, [("model", LOAD, WINDING)], GAINS, ASKED, edge_age=age)[0]
    assert peak.found == pytest.approx(max(both.values()))
    assert peak.source == ("model" if both[age] > both[0.0] else "model, at high speed")
    assert both[0.0] != pytest.approx(both[age], rel=0.01), "otherwise nothing is told apart here"


def test_a_loop_that_runs_away_on_any_model_is_not_proven_whatever_was_measured() -> None:
    calm = read_margins(np.array([10.0, 1.0, 0.1]) * -1j, np.array([1.0, 10.0, 100.0]))
    wild = GAINS.with_(velocity_gain=5.0)
    rows = judge_loop("velocity", calm, [("model", LOAD, WINDING)], wild, ASKED)
    assert [r.what for r in rows if not r.passed][-1] == "spectral radius over the spread"


def test_without_a_measurement_nothing_is_proven() -> None:
    soft = TwoMass(inertia_motor=1.24e-3, viscous=5e-4)
    rows = judge_loop("velocity", None, [("model", soft, WINDING)], GAINS, ASKED)
    assert [r.what for r in rows if not r.passed] == ["measured margins"]


@pytest.mark.parametrize(
    ("value", "beside", "says"),
    [
        (0.9999731, 1.0, "0.99997"),
        (1.0000002, 1.0, "1.0000002"),
        (1.0, 1.0, "1"),
        (46.2, 45.0, "46.2"),
        (0.0, 1.0, "0"),
    ],
)
def test_a_value_next_to_what_was_asked_is_told_in_as_many_digits_as_tell_them_apart(
    value: float, beside: float, says: str
) -> None:
    assert told(value, beside) == says
