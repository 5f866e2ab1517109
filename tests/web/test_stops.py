"""Brake and stops in the browser's pages: what rests on what, the case told, the brake opened by hand."""

import numpy as np
import pytest
from django.contrib.auth.models import User

from cadrel.core.verdict import at_least, at_most, decide
from cadrel.procedures import PROCEDURES, Outcome, RunRecord
from cadrel.procedures import Finding as Found
from cadrel.procedures.phasing.run import TURN_NOT_SEEN_TEXT
from cadrel.web.changes.outcomes import keep_outcome, take_proposal
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from cadrel.web.rig import brake
from cadrel.web.rig.errors import NotConnected, NotReady
from cadrel.web.route import page
from tests.web.conftest import client_of, text_of

pytestmark = pytest.mark.django_db


def run_of(kind: str, title: str, **metrics: object) -> RunRecord:
    return RunRecord(
        kind=kind, title=title, period=1e-3, channels={"velocity": np.zeros(20), "position": np.zeros(20)},
        excitation={}, metrics=metrics,
    )  # fmt: skip


def stop(title: str, *, seen: str, predicted: str) -> RunRecord:
    return run_of("stop", title, seen=seen, predicted=predicted, bus_peak=731.0, energy=42.0, predicted_energy=40.0,
                  chopper_duty=0.25, way=1.0, planned_way=1.0)  # fmt: skip


def keep(axis: Axis, key: str, outcome: Outcome, who: User, **before: float) -> object:
    declared = PROCEDURES[key]
    return keep_outcome(axis, declared.step, outcome, before=before, after=before, who=who, finds=declared.finds)


def braked(axis: Axis, who: User) -> object:
    return keep(axis, "brake", Outcome(
        findings=[Found(kind="brake_holding", label="Brake holds at least", value=9.0, unit="N·m", run=0),
                  Found(kind="brake_release", label="Brake opens after", value=0.058, unit="s", std=3e-4, run=0)],
        changes={"brake.release_delay": 0.058}, runs=[run_of("brake_load", "Torque on the closed brake")],
        verdict=decide("brake_holding", [at_least("holding torque", 9.0, 9.0, unit="N·m")], run=0), summary="58 ms",
    ), who, **{"brake.release_delay": 0.065})  # fmt: skip


def stopped(axis: Axis, who: User) -> object:
    return keep(axis, "stops", Outcome(
        findings=[Found(kind="stop_energy", label="Into the resistor", value=42.0, unit="J", run=0)],
        runs=[stop("Stop on the ramp, away", seen="resistor", predicted="resistor"),
              stop("Quick stop", seen="stretched", predicted="resistor")],
        verdict=decide("stop_energy", [at_most("stops that failed", 0.0, 0.0, tolerance=0.0)], run=0), summary="42 J",
    ), who)  # fmt: skip


def test_each_procedure_of_the_step_replaces_its_own_findings_only(lift: Axis, engineer: User) -> None:
    braked(lift, engineer)
    stopped(lift, engineer)
    stopped(lift, engineer)
    kinds = sorted(lift.findings.filter(step="stops").values_list("kind", flat=True))
    assert kinds == ["brake_holding", "brake_release", "stop_energy"]


def test_the_page_shows_where_the_energy_went_and_what_was_not_as_predicted(lift: Axis, engineer: User) -> None:
    braked(lift, engineer)
    stopped(lift, engineer)
    shown = text_of(client_of(engineer).get(f"/axis/{lift.pk}/stops/"))
    assert "Where the energy went" in shown
    assert "the ramp was stretched" in shown
    assert 'the resistor took it <b class="missed">other</b>' in shown  # predicted, and it was another case
    assert "731 V" in shown
    assert "Test the brake" in shown
    assert "Torque it must hold" in shown
    assert shown.count("✓ Met, not yet") == 2  # of the brake and of the stops: the brake's new delay is not taken yet
    take_proposal(lift.proposals.get(step="stops"), ["brake.release_delay"], who=engineer)
    shown = text_of(client_of(engineer).get(f"/axis/{lift.pk}/stops/"))
    assert shown.count("✓ Proven") == 2


def test_an_axis_without_a_brake_is_offered_no_brake_test(lift: Axis, engineer: User) -> None:
    save_entries(lift, {"brake.fitted": {"value": "none"}}, author=engineer, cause="no brake")
    shown = text_of(client_of(engineer).get(f"/axis/{lift.pk}/stops/"))
    assert "Measure the stops" in shown
    assert "Test the brake" not in shown


def test_a_change_of_brake_or_resistor_makes_stops_stale_and_no_loop(lift: Axis, engineer: User) -> None:
    stopped(lift, engineer)
    loop = Outcome(
        findings=[Found(kind="current_loop", label="Bandwidth", value=1000.0, unit="Hz", run=0)],
        runs=[run_of("current_step", "Step")], summary="1000 Hz",
    )  # fmt: skip
    keep_outcome(lift, "current", loop, before={}, after={}, who=engineer)
    save_entries(lift, {"power.brake_resistor": {"value": 56, "unit": "ohm"}}, author=engineer, cause="another one")
    assert lift.findings.get(kind="stop_energy").state == "stale"
    assert lift.findings.get(kind="current_loop").state != "stale"
    save_entries(lift, {"power.supply_voltage": {"value": 380, "unit": "V"}}, author=engineer, cause="another supply")
    assert lift.findings.get(kind="current_loop").state == "stale"


def test_taking_a_measured_brake_time_makes_nothing_stale(lift: Axis, engineer: User) -> None:
    proposal = braked(lift, engineer)
    take_proposal(proposal, ["brake.release_delay"], who=engineer)  # type: ignore[arg-type]
    assert float(lift.values["brake.release_delay"]["value"]) == pytest.approx(58.0)
    assert not lift.findings.filter(state="stale").exists()


def test_the_brake_opens_by_hand_only_connected_and_said_to_be_safe(lift: Axis, engineer: User) -> None:
    with pytest.raises(NotConnected):
        brake.hold_open(lift, who=engineer, is_open=True, is_safe=True, holder="x")
    answer = client_of(engineer).post(f"/axis/{lift.pk}/brake/", {"share": "1", "safe": ""})
    assert answer.status_code == 409


def test_unsafe_is_said_before_anything_opens(lift: Axis, engineer: User, monkeypatch: pytest.MonkeyPatch) -> None:
    told: list[str] = []

    class Drive:
        def hold_brake_open(self, **_: object) -> None:
            told.append("open")

        def close_brake(self, **_: object) -> None:
            told.append("close")

        def status(self) -> dict[str, str]:
            return {"brake": "closed"}

    monkeypatch.setattr(brake, "leading", lambda axis, who, purpose: Drive())
    with pytest.raises(NotReady, match="not said to be safe"):
        brake.hold_open(lift, who=engineer, is_open=True, is_safe=False, holder="x")
    assert told == []
    brake.hold_open(lift, who=engineer, is_open=True, is_safe=True, holder="x")
    brake.hold_open(lift, who=engineer, is_open=False, is_safe=False, holder="x")
    assert told == ["open", "close"]
    assert lift.events.filter(kind="brake").count() == 1


def test_that_one_turn_was_not_seen_stands_beside_proven_until_it_was_turned_by_hand(
    lift: Axis, engineer: User
) -> None:
    found = Outcome(
        findings=[Found(kind="commutation", label="Offset", value=1.0, unit="rad", run=0)],
        runs=[run_of("commutation", "Turned")], summary="57°",
        verdict=decide("commutation", [at_most("doubt", 5.0, 1.0)], run=0, remarks=(TURN_NOT_SEEN_TEXT,)),
    )  # fmt: skip
    keep_outcome(lift, "commutation", found, before={}, after={}, who=engineer)
    address = f"/axis/{lift.pk}/commutation/"
    assert "Turn the marked shaft once by hand" in text_of(client_of(engineer).get(address))
    for counts, still_asked in ((2.0**18, True), (2.0**19 * 1.01, False)):
        by_hand = Outcome(
            findings=[Found(kind="hand_test", label="Counts of the marked turn", value=counts, unit="counts", run=0)],
            runs=[run_of("hand_test", "Turned by hand")], summary="turned",
        )  # fmt: skip
        keep_outcome(lift, "feedback", by_hand, before={}, after={}, who=engineer)
        shown = text_of(client_of(engineer).get(address))
        assert ("Turn the marked shaft once by hand" in shown) is still_asked


def test_what_the_drive_would_refuse_is_said_before_anybody_presses(
    lift: Axis, engineer: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    unknown = {
        "code": "angle", "step": "commutation", "text": "The rotor angle is not known since power-up.",
        "remedy": "Find the angle in the commutation step.",
    }  # fmt: skip
    real = page.strip_of
    monkeypatch.setattr(page, "strip_of", lambda axis, **more: real(axis, **more) | {"blockers": [unknown]})
    for step in ("current", "load", "velocity", "position", "stops", "acceptance"):
        shown = text_of(client_of(engineer).get(f"/axis/{lift.pk}/{step}/"))
        assert "It cannot start yet." in shown, step
        assert "The rotor angle is not known since power-up." in shown
    assert "It cannot start yet." not in text_of(client_of(engineer).get(f"/axis/{lift.pk}/commutation/"))
