"""Responses in the pages: asked for by name, drawn with their bands, and no proof of anything."""

import json
import re
from pathlib import Path

import numpy as np
import pytest
import pyuff
from django.contrib.auth.models import User

from cadrel.core.response import FrequencyResponse
from cadrel.core.verdict import at_most, decide
from cadrel.link import Recording
from cadrel.procedures import PROCEDURES, Outcome, RunRecord
from cadrel.procedures import Finding as Found
from cadrel.procedures.responses.measure import Measured
from cadrel.procedures.responses.run import _curves
from cadrel.web.changes.outcomes import keep_outcome
from cadrel.web.projects.models import Axis
from cadrel.web.route import page
from tests.web.conftest import client_of, text_of

pytestmark = pytest.mark.django_db
GRID = np.geomspace(4.0, 1000.0, 30)


def measured(amplitude: float, size: float) -> Measured:
    seen = FrequencyResponse(GRID, size / (1j * GRID), np.ones(30), 0.05 * size / GRID)
    return Measured(
        amplitude=amplitude, plant=seen, opened=seen, closed=seen, passes=2,
        record=Recording(1e-3, {"velocity": np.zeros(8)}),
    )  # fmt: skip


def tuned(axis: Axis, who: User) -> None:
    found = Found(kind="velocity_loop", label="Velocity-loop bandwidth", value=124.0, unit="Hz", run=0)
    verdict = decide("velocity_loop", [at_most("sensitivity peak", 1.8, 1.7)], run=0)
    run = RunRecord(kind="velocity_response", title="Velocity loop", period=1e-3, channels={}, excitation={})
    keep_outcome(
        axis, "velocity",
        Outcome(findings=[found], runs=[run], verdict=verdict, summary="124 Hz, 47°", changes={"velocity.gain": 0.3}),
        before={"velocity.gain": 0.2}, after={"velocity.gain": 0.3}, who=who,
    )  # fmt: skip


def looked_at(axis: Axis, who: User) -> None:
    run = RunRecord(
        kind="response", title="Response, velocity loop, in motion", period=1e-3, channels={"velocity": np.zeros(8)},
        excitation={"point": "torque"}, metrics={"mode_hz": 62.5, "mode_damping": 0.006, "mode_lines": 7},
        curves={"loop": "velocity", "plant_db": "dB (rad/s per N·m)",
                "responses": [_curves(measured(0.2, 1.0), "N·m"), _curves(measured(0.4, 1.1), "N·m")]},
    )  # fmt: skip
    found = Found(kind="mode_frequency", label="Resonance, looked at closely", value=62.5, unit="Hz", std=0.1, run=0)
    outcome = Outcome(findings=[found], runs=[run], summary="velocity loop, 30 of 30 lines")
    keep_outcome(
        axis, "velocity", outcome, before={}, after={}, who=who, finds=PROCEDURES["response"].finds
    )  # fmt: skip


def test_a_response_leaves_proof_and_proposal_of_its_step_as_they_stand(lift: Axis, engineer: User) -> None:
    tuned(lift, engineer)
    looked_at(lift, engineer)
    line = next(s for s in page.route_of(lift, "") if s["key"] == "velocity")
    assert "30 of 30" not in line["line"]
    assert lift.proposals.get(step="velocity").state == "open"
    kinds = set(lift.findings.filter(step="velocity").values_list("kind", flat=True))
    assert kinds == {"velocity_loop", "mode_frequency"}


def test_its_page_draws_what_is_controlled_open_and_closed_with_the_band_of_the_last_amplitude(
    lift: Axis, engineer: User
) -> None:
    looked_at(lift, engineer)
    run = lift.runs.get(kind="response")
    answer = client_of(engineer).get(f"/axis/{lift.pk}/run/{run.number}/")
    plots = [json.loads(s) for s in re.findall(r"<script[^>]*json[^>]*>(.*?)</script>", answer.content.decode(), re.S)]
    bodes = [p for p in plots if p.get("kind") == "bode"]
    assert [p["which"] for p in bodes] == ["plant", "open", "closed"]
    smaller, above, below, last = bodes[0]["series"]
    assert (smaller["style"], above["style"], below["style"], last["style"]) == ("dashed", "ghost", "ghost", "solid")
    # The band is two standard deviations: ten percent, 0.83 dB.
    assert above["db"][5] - last["db"][5] == pytest.approx(20 * np.log10(1.1 / 1.0 + 1e-12), abs=0.1)
    assert last["db"][5] - below["db"][5] == pytest.approx(above["db"][5] - last["db"][5], abs=1e-3)
    said = " ".join(re.sub(r"<[^>]+>", " ", text_of(answer)).split())
    assert "Resonance, closely 62.5 Hz" in said
    assert "Its damping 0.6 %" in said


def test_the_loops_page_offers_it_by_the_names_of_its_choices(lift: Axis, engineer: User) -> None:
    answer = client_of(engineer).get(f"/axis/{lift.pk}/velocity/").content.decode()
    form = re.search(r"<form[^>]*start/response.*?</form>", answer, re.S)
    assert form is not None
    for word in ("current", "velocity", "position", "multisine", "sweep", "at rest", "in motion"):
        assert f">{word}</option>" in form.group(0), word
    assert 'placeholder="1000"' in form.group(0)
    assert "<h2>Frequency response</h2>" in form.group(0)


def test_a_response_goes_out_as_a_universal_file_and_a_run_without_one_has_none(
    lift: Axis, engineer: User, tmp_path: Path
) -> None:
    tuned(lift, engineer)
    looked_at(lift, engineer)
    without, with_it = lift.runs.order_by("number")
    client = client_of(engineer)
    page_of_it = text_of(client.get(f"/axis/{lift.pk}/run/{with_it.number}/"))
    assert "UFF 58" in page_of_it
    assert "UFF 58" not in text_of(client.get(f"/axis/{lift.pk}/run/{without.number}/"))
    assert client.get(f"/axis/{lift.pk}/run/{without.number}/uff/").status_code == 404
    answer = client.get(f"/axis/{lift.pk}/run/{with_it.number}/uff/")
    assert answer["Content-Disposition"] == f'attachment; filename="run-{lift.pk}-{with_it.number}.uff"'
    (tmp_path / "run.uff").write_bytes(answer.content)
    functions = [f for f in pyuff.UFF(str(tmp_path / "run.uff")).read_sets() if f["func_type"] == 4]
    assert len(functions) == 6, "plant, open and closed of both amplitudes"
    last = functions[3]
    assert last["id1"].startswith("Velocity loop, what is controlled, 0.4 N m rms")
    assert last["id5"].startswith("rad/s per N m")
    np.testing.assert_allclose(last["data"], 1.1 / (1j * GRID), rtol=1e-3)  # kept to 0.00001 dB and 0.0001°
