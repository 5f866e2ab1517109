"""What a verdict on a page is worth: as long as its findings stand, and no longer."""

import pytest
from django.contrib.auth.models import User

from cadrel.core.verdict import at_most, decide
from cadrel.procedures import Finding as Found
from cadrel.procedures import Outcome, RunRecord
from cadrel.web.changes.outcomes import keep_outcome, take_proposal
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import wanted_values
from tests.web.conftest import client_of, text_of

pytestmark = pytest.mark.django_db


def measured(axis: Axis, who: User, *, peak: float = 1.7, changes: dict[str, float] | None = None) -> None:
    """A velocity loop that was asked for a peak of 1.8."""
    found = Found(kind="velocity_loop", label="Velocity-loop bandwidth", value=124.0, unit="Hz", run=0)
    run = RunRecord(kind="velocity_response", title="Velocity loop", period=1e-3, channels={}, excitation={})
    verdict = decide("velocity_loop", [at_most("sensitivity peak", 1.8, peak)], run=0)
    outcome = Outcome(findings=[found], runs=[run], changes=changes or {}, verdict=verdict, summary="124 Hz")
    keep_outcome(axis, "velocity", outcome, before=wanted_values(axis), after={}, who=who)


def said_on(axis: Axis, who: User) -> str:
    return " ".join(text_of(client_of(who).get(f"/axis/{axis.pk}/velocity/")).split())


def test_a_verdict_is_proven_as_long_as_its_findings_stand(lift: Axis, engineer: User) -> None:
    measured(lift, engineer)
    assert "✓ Proven" in said_on(lift, engineer)
    save_entries(lift, {"sheet.inductance": {"value": 11.0, "unit": "mH"}}, author=engineer, cause="another motor")
    page = said_on(lift, engineer)
    assert "✓ Proven" not in page
    assert "Proven once, stale now" in page
    stale = lift.findings.get(kind="velocity_loop")
    assert stale.state == "stale"
    assert f"{stale.stale_because.capitalize()}." in page.replace("Ld", "ld")


def test_what_waits_to_be_taken_is_met_and_proven_once_it_is(lift: Axis, engineer: User) -> None:
    measured(lift, engineer, changes={"velocity.gain": 0.123})
    page = said_on(lift, engineer)
    assert "✓ Met, not yet taken" in page
    assert "✓ Proven" not in page
    take_proposal(lift.proposals.get(step="velocity"), ["velocity.gain"], who=engineer)
    assert "✓ Proven" in said_on(lift, engineer)


def test_what_a_later_run_of_another_claim_took_the_place_of_is_no_longer_proven(lift: Axis, engineer: User) -> None:
    measured(lift, engineer)
    lift.findings.filter(kind="velocity_loop").delete()
    page = said_on(lift, engineer)
    assert "Proven once, replaced since" in page
    assert "✓ Proven" not in page


def test_what_misses_is_not_proven_whatever_its_findings_are(lift: Axis, engineer: User) -> None:
    measured(lift, engineer, peak=1.9)
    page = said_on(lift, engineer)
    assert "✗ Not proven" in page
    assert "✓ Proven" not in page
