"""What a climb leaves in the project: its tries on the page, and what becomes of loops proven before it."""

import numpy as np
import pytest
from django.contrib.auth.models import User

from cadrel.core.verdict import at_most, decide
from cadrel.procedures import PROCEDURES, Finding, Outcome, RunRecord
from cadrel.web.changes.outcomes import keep_outcome, take_proposal
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import wanted_values
from cadrel.web.route.sheets import route_of
from tests.web.conftest import client_of, text_of

pytestmark = pytest.mark.django_db
KEYS = ("velocity.gain", "velocity.reset_time", "position.gain")


def _run(kind: str, title: str, **metrics: float | bool | None) -> RunRecord:
    channels = {name: np.zeros(8) for name in ("position", "position_ref", "i_q", "following_error")}
    return RunRecord(kind=kind, title=title, period=1e-3, channels=channels, excitation={}, metrics=dict(metrics))


def _proven(axis: Axis, step: str, who: User) -> None:
    claim = f"{step}_loop"
    outcome = Outcome(
        runs=[_run(claim, claim)], verdict=decide(claim, [at_most("sensitivity peak", 1.8, 1.5)], run=0),
        findings=[Finding(kind=claim, label=claim, value=1.0, unit="Hz", run=0)],
    )  # fmt: skip
    keep_outcome(axis, step, outcome, before={}, after={}, who=who)


@pytest.fixture
def climbed(axis: Axis, engineer: User) -> Axis:
    """The axis with both loops proven, then a climb whose gains wait for a decision."""
    _proven(axis, "velocity", engineer)
    _proven(axis, "position", engineer)
    before = {key: wanted_values(axis)[key] for key in KEYS}
    tries = [
        _run("climb", "Move, gains in hand", factor=1.0, ripple=0.001, settling_time=None, following_error=0.02,
             baseline=True),
        _run("climb", "Move, gains × 1.25", factor=1.25, ripple=0.0012, settling_time=0.031, following_error=0.002),
    ]  # fmt: skip
    outcome = Outcome(
        runs=tries, changes={key: 1.25 * value for key, value in before.items()},
        findings=[Finding(kind="climb_factor", label="Gains, times those in hand", value=1.25, unit="", run=1)],
    )  # fmt: skip
    keep_outcome(
        axis, "position", outcome, before=before, after={}, who=engineer, finds=PROCEDURES["climb"].finds
    )  # fmt: skip
    return axis


def states(axis: Axis) -> dict[str, str]:
    return dict(axis.findings.values_list("kind", "state"))


def test_the_tries_are_told_in_a_table_each_with_its_run(climbed: Axis, engineer: User) -> None:
    page = text_of(client_of(engineer).get(f"/axis/{climbed.pk}/position/"))
    assert "The same move, try by try" in page
    assert "<td>never</td>" in page
    assert "<td>31</td>" in page
    assert "Climb until it squeals" in page
    assert "proves nothing" in page


def test_while_its_gains_wait_nothing_around_them_is_proven(climbed: Axis) -> None:
    assert states(climbed)["position_loop"] == "measured"


def test_taken_it_retires_what_was_proven_with_the_gains_before(climbed: Axis, engineer: User) -> None:
    proposal = climbed.proposals.get(state="open")
    take_proposal(proposal, KEYS, who=engineer)
    assert states(climbed) == {"velocity_loop": "stale", "position_loop": "stale", "climb_factor": "measured"}
    assert "position step" in climbed.findings.get(kind="velocity_loop").stale_because
    assert {r["key"]: r["state"] for r in route_of(climbed, "")}["position"] == "stale"


def test_refused_it_leaves_the_proof_as_it_was(climbed: Axis, engineer: User) -> None:
    take_proposal(climbed.proposals.get(state="open"), [], who=engineer)
    assert states(climbed) == {"velocity_loop": "proven", "position_loop": "proven", "climb_factor": "stale"}
    assert {r["key"]: r["state"] for r in route_of(climbed, "")}["position"] == "proven"
