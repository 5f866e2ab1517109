"""Runs keep what was recorded; what is shown of repeats is worked out anew from it."""

import numpy as np
import pytest
from django.contrib.auth.models import User

from cadrel.procedures import Outcome, RunRecord
from cadrel.web.changes.outcomes import keep_outcome
from cadrel.web.projects.models import Axis
from cadrel.web.runs.models import Run
from cadrel.web.runs.plots import plots_of, time_series, units_of_axis
from tests.web.test_values_and_staleness import axis  # noqa: F401 - a fixture

pytestmark = pytest.mark.django_db


def kept(on: Axis, who: User, *, point: str, repeat: int | None) -> tuple[Run, dict[str, np.ndarray]]:
    """A step of four repeats of ten samples, each a little off the others."""
    rng = np.random.default_rng(4)
    wave = np.tile(np.repeat([1.0, -1.0], 5), 4)
    channels = {
        "excitation": 0.5 * wave, point: 3.0 + wave + rng.normal(0, 0.05, 40), f"{point}_ref": np.full(40, 3.0),
    }  # fmt: skip
    record = RunRecord(
        kind=f"{point}_step", title="A step", period=250e-6, channels=channels,
        excitation={"point": point} | ({"repeat": repeat} if repeat else {}),
    )  # fmt: skip
    keep_outcome(on, point, Outcome(runs=[record]), before={}, after={}, who=who)
    return on.runs.get(), channels


def test_a_step_is_stored_whole_and_shown_as_the_mean_of_its_repeats(axis: Axis, engineer: User) -> None:  # noqa: F811
    run, channels = kept(axis, engineer, point="position", repeat=10)
    assert {k: len(v) for k, v in run.arrays().items()} == dict.fromkeys(channels, 40)
    for key, values in channels.items():
        np.testing.assert_allclose(run.arrays()[key], values, rtol=1e-6)  # float32
    shown = run.shown()
    np.testing.assert_allclose(shown["position"], channels["position"].reshape(4, 10)[1:].mean(0), rtol=1e-5)
    # What is injected at the position is no part of the recorded set-point: the command shown has both.
    np.testing.assert_allclose(shown["position_ref"], 3.0 + 0.5 * np.repeat([1.0, -1.0], 5))
    (plot,) = plots_of(axis, "position", [run], [])
    assert plot["title"] == "A step, mean of 3 repeats"
    units = units_of_axis(axis)
    assert len(time_series(run, ["position"], units)[0]["y"]) == 10
    assert len(time_series(run, ["position"], units, as_recorded=True)[0]["y"]) == 40


def test_a_run_kept_by_an_earlier_version_is_shown_as_it_was_kept(axis: Axis, engineer: User) -> None:  # noqa: F811
    run, channels = kept(axis, engineer, point="velocity", repeat=None)
    np.testing.assert_allclose(run.shown()["velocity"], channels["velocity"], rtol=1e-6)
    assert plots_of(axis, "velocity", [run], [])[0]["title"] == "A step"


@pytest.mark.parametrize("has_gap", [True, False])
def test_a_swung_shaft_is_drawn_as_torque_over_twist(axis: Axis, engineer: User, has_gap: bool) -> None:  # noqa: F811
    shaft = {
        "twist_deg": [-0.02, 0.0, 0.03], "torque": [-0.1, 0.0, 0.2], "along_deg": [-0.02, 0.03],
        "spring": [-0.11, 0.19], "has_gap": has_gap,
    }  # fmt: skip
    record = RunRecord(
        kind="plant_response", title="The resonance alone, swung strongly", period=250e-6,
        channels={"velocity": np.zeros(8)}, excitation={"point": "torque"}, curves={"shaft": shaft},
    )  # fmt: skip
    keep_outcome(axis, "load", Outcome(runs=[record]), before={}, after={}, who=engineer)
    (plot,) = plots_of(axis, "load", [axis.runs.get()], [])
    assert plot["title"] == "Torque through the shaft over its twist" and plot["x_label"] == "° of twist"
    measured, spring = plot["series"]
    assert (measured["x"], measured["y"]) == (shaft["twist_deg"], shaft["torque"])
    assert (spring["x"], spring["y"]) == (shaft["along_deg"], shaft["spring"])
    assert ("behind its play" in spring["label"]) is has_gap
    assert {s["unit"] for s in plot["series"]} == {"N·m"}
