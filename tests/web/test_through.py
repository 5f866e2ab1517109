"""Everything that remains in one go, under one consent: a chain of jobs that ends where something is not proven."""

from datetime import timedelta
from types import SimpleNamespace
from typing import Any

import pytest
from django.contrib.auth.models import User
from django.utils import timezone

from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkError
from cadrel.procedures import PROCEDURES
from cadrel.procedures.declaration import MOST_RETURNS, in_order
from cadrel.procedures.judging import RIPPLE
from cadrel.web.changes.values import save_entries
from cadrel.web.jobs.chain import _sent_back
from cadrel.web.jobs.models import Job
from cadrel.web.jobs.recording import run_job
from cadrel.web.projects.models import Axis
from cadrel.web.rig import actions, through
from cadrel.web.rig.errors import NotReady
from cadrel.web.route.sheets import route_of
from cadrel.web.route.through import through_of
from cadrel.web.runs.models import Proposal
from tests.web.conftest import again, client_of, text_of

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def short(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The route's first three procedures alone."""
    keys = [p.key for p in in_order()[:3]]
    monkeypatch.setattr(through, "in_order", lambda first="": [p for p in in_order(first) if p.key in keys])
    return keys


def started(axis: Axis, engineer: User, **how: Any) -> Job:
    asked: dict[str, Any] = {"consented": True, "ticked": None, "unattended": True, "here": None}
    return through.start(axis, "commutation", who=engineer, **{**asked, **how})


def worked_off(axis: Axis) -> list[Job]:
    """Do as a worker does until nothing is queued."""
    while (job := axis.jobs.active().first()) is not None:
        run_job(job.pk)
    return list(axis.jobs.order_by("pk"))


def test_from_an_unconnected_axis_to_the_last_step_with_one_start_within_what_was_consented_to(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive], short: list[str]
) -> None:
    actions.disconnect(led, who=engineer)
    started(again(led), engineer, here=0.0)
    jobs = worked_off(led)
    assert [(j.procedure, j.state) for j in jobs] == [(key, "done") for key in short]
    assert len({j.consent["label"] for j in jobs}) == 1
    for job in jobs:
        assert job.consent["travel"] <= job.consent["most_travel"]
        assert job.consent["speed"] <= job.consent["most_speed"]
    # What each step proved is the project's, and is in the drive, stored.
    assert not Proposal.objects.filter(axis=led, state="open").exists()
    drive = bench[1]
    assert actions.differences(actions.wanted_values(again(led)), drive.memory.working) == []
    assert drive.memory.not_stored == []
    assert again(led).values["motor.resistance"]["source"] == "identified"
    assert drive.status()["consent"] is None  # it ended with the last step
    page = text_of(client_of(engineer).get(f"/axis/{led.pk}/through/"))
    assert "It came through to the end" in page


def test_between_two_steps_the_page_still_says_that_it_runs(
    led: Axis, engineer: User, short: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    job = started(led, engineer)
    monkeypatch.setattr("cadrel.web.jobs.recording.go_on", lambda task: None)  # as if it were just about to
    run_job(job.pk)
    client = client_of(engineer)
    page = text_of(client.get(f"/axis/{led.pk}/through/"))
    assert "s left" in page
    assert "Go through</button>" not in page
    # The rows alone ask for the whole page once another job runs than the one they were drawn for.
    part = client.get(f"/axis/{led.pk}/through/part/?job={job.pk}")
    assert part["HX-Refresh"] == "true"
    # Where nothing follows in time, it has stopped, and can be gone on with.
    Job.objects.filter(pk=job.pk).update(ended=timezone.now() - timedelta(seconds=90))
    assert "Go through</button>" in text_of(client.get(f"/axis/{led.pk}/through/"))


def test_a_step_that_is_queued_while_the_page_is_read_is_seen_to_run(
    led: Axis, engineer: User, short: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """No job was active as it was looked for, and the next one is queued as the chain's jobs are read."""
    started(led, engineer)
    monkeypatch.setattr("cadrel.web.route.through.job_of", lambda axis: None)
    page = text_of(client_of(engineer).get(f"/axis/{led.pk}/through/"))
    assert "s left" in page and "waiting for the worker" in page
    assert "went no further" not in page and "Go through</button>" not in page


def test_what_is_not_proven_ends_it_there_and_says_why(led: Axis, engineer: User, short: list[str]) -> None:
    beyond = {"current.bandwidth": {"value": 3000.0, "unit": "Hz", "source": "typed"}}
    save_entries(led, beyond, author=engineer, cause="asked for too much")
    started(again(led), engineer)
    jobs = worked_off(led)
    assert [(j.procedure, j.state, j.happened) for j in jobs] == [("commutation", "done", ""), ("current", "done", "")]
    assert not led.verdicts.filter(step="current").first().is_proven
    client = client_of(engineer)
    page = text_of(client.get(f"/axis/{led.pk}/through/"))
    assert "Current loop</b> went no further" in page or "Current loop went no further" in page
    assert "Not proven" in page
    assert '<option value="current" selected>' in page  # from there it goes on


def test_a_move_after_which_it_trembles_sends_the_chain_back_to_the_velocity_loop_and_not_for_ever(
    led: Axis, engineer: User
) -> None:
    consent = {"label": "x", "token": "t", "travel": 1.0, "speed": 1.0, "unattended": True, "most_travel": 9.0,
               "most_speed": 9.0}  # fmt: skip
    moved = Job.objects.create(axis=led, procedure="acceptance", who=engineer, consent=consent, state="done")
    trembles: Any = SimpleNamespace(
        criteria=[{"what": "settling time", "passed": True}, {"what": RIPPLE, "passed": False}]
    )
    late: Any = SimpleNamespace(criteria=[{"what": "settling time", "passed": False}])
    assert not _sent_back(moved, late)
    assert _sent_back(moved, trembles)
    begun = led.jobs.order_by("-pk").first()
    assert begun is not None
    assert (begun.procedure, begun.chain) == ("velocity", ["position", "acceptance"])
    assert begun.consent["label"] == "x" and begun.consent["went_back"] == 1
    assert "bears it now" in led.events.order_by("-pk").first().text
    rows = {row.key: row.mark for row in through_of(again(led), route_of(again(led), "through"))["rows"]}
    assert (rows["velocity"], rows["position"], rows["acceptance"]) == ("runs", "waits", "waits")
    for returns in range(2, MOST_RETURNS + 2):
        led.jobs.update(state="done")
        moved = Job.objects.create(axis=led, procedure="acceptance", who=engineer, consent=begun.consent, state="done")
        assert _sent_back(moved, trembles) is (returns <= MOST_RETURNS)
        begun = led.jobs.order_by("-pk").first()
        assert begun is not None
        assert begun.consent["went_back"] == min(returns, MOST_RETURNS)


def test_a_wiring_fault_ends_it_and_the_consent(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive], short: list[str]
) -> None:
    drive = bench[1]
    drive.rewire({}, ["phases_swapped"])
    started(led, engineer)
    jobs = worked_off(led)
    assert [(j.procedure, j.state) for j in jobs] == [("commutation", "refused")]
    assert drive.status()["consent"] is None
    assert jobs[0].happened in text_of(client_of(engineer).get(f"/axis/{led.pk}/through/"))


def test_an_abort_ends_the_whole_of_it(led: Axis, engineer: User, short: list[str]) -> None:
    job = started(led, engineer)
    actions.abort_run(led, who=engineer)
    run_job(job.pk)
    assert [(j.procedure, j.state) for j in led.jobs.all()] == [("commutation", "aborted")]


def test_without_the_consent_nothing_is_even_sent(led: Axis, engineer: User) -> None:
    actions.disconnect(led, who=engineer)
    with pytest.raises(NotReady, match="not consented"):
        started(again(led), engineer, consented=False)
    assert not again(led).connected


def test_another_who_leads_is_not_pushed_aside(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive], short: list[str]
) -> None:
    actions.give_control(led, who=engineer)
    bench[1].take_control("somebody else")
    with pytest.raises(LinkError, match="somebody else"):
        started(again(led), engineer)
    assert not led.jobs.exists()


def test_the_page_states_what_moves_in_every_step(led: Axis, engineer: User) -> None:
    page = text_of(client_of(engineer).get(f"/axis/{led.pk}/through/"))
    model, wanted = led.understood, actions.wanted_values(led)
    for key in ("commutation", "load", "acceptance"):
        sentence = PROCEDURES[key].plan(model, wanted).text.split(",")[0]
        assert sentence.replace("'", "&#x27;") in page
