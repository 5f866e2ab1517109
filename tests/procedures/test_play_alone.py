"""Play asked for by itself: the gap of the stand-in's coupling, or that nothing of one is seen; nothing is changed."""

from dataclasses import replace

import numpy as np
import pytest

from cadrel.core.identification import IdentifiedPlant
from cadrel.procedures import play_alone
from cadrel.procedures.errors import NotAllowed
from tests.conftest import rig_of
from tests.procedures.test_stops import Ready

LIFT = rig_of("kiln-car-lift")


@pytest.mark.parametrize("width", [0.02, 0.045])
def test_the_gap_is_found_and_what_shows_it_is_kept(width: float) -> None:
    ready = Ready(replace(LIFT, backlash_deg=width))
    before = ready.client.read()
    outcome, session = ready.run("play")
    found = {f.kind: f for f in outcome.findings}
    assert found["play"].value == pytest.approx(width, rel=0.2)
    assert abs(found["play"].value - width) < 2 * found["play"].std
    assert outcome.summary == f"play of {found['play'].value:.2g}° at the motor"
    run = outcome.runs[found["play"].run]
    shaft = run.curves["shaft"]
    assert shaft["has_gap"] and "alone" in run.title
    # What is drawn: no torque within the gap, and beyond it the spring of the rig.
    along, spring = np.array(shaft["along_deg"]), np.array(shaft["spring"])
    within = np.abs(along) < 0.5 * found["play"].value
    assert within.any() and np.all(spring[within] == 0.0)
    slope = float(np.polyfit(np.radians(along[along > width]), spring[along > width], 1)[0])
    assert slope == pytest.approx(LIFT.stiffness, rel=0.1)
    apart = np.array(shaft["torque"]) - np.interp(shaft["twist_deg"], along, spring)  # of its damping
    assert abs(np.mean(apart)) < 0.02 * np.std(shaft["torque"])
    assert np.std(apart) < 0.25 * np.std(shaft["torque"])
    assert session.drive.status()["mode"] == "off"
    assert ready.client.read() == before


def test_a_shaft_without_has_none() -> None:
    outcome, _ = Ready(replace(LIFT, backlash_deg=0.0)).run("play")
    assert not outcome.findings
    assert "no play stands out" in outcome.summary
    assert len(outcome.runs) == 2


def test_a_resonance_that_rings_too_high_to_be_swung_is_said_to_be_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(play_alone, "swung_closed", lambda *_: None)
    outcome, _ = Ready(LIFT).run("play")
    assert not outcome.findings and len(outcome.runs) == 1
    assert outcome.summary.endswith("Hz could not be swung: play cannot be told from here")


def test_before_the_load_is_known_it_is_refused_with_what_to_run() -> None:
    ready = Ready(LIFT)
    ready.plant = IdentifiedPlant()
    with pytest.raises(NotAllowed) as refused:
        ready.run("play")
    assert "Identify the load" in refused.value.text
