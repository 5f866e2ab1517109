"""Runs that outlive their database, ends that are asked of the drive, and starts that are refused at once."""

import os
import re
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import Group, User
from django.core.exceptions import PermissionDenied
from django.db import OperationalError
from django.test import Client
from django.utils import timezone

from cadrel.core.simulation import SimulatedDrive
from cadrel.procedures import Finding, Outcome, RunRecord
from cadrel.web.jobs import patience, recording, spool
from cadrel.web.jobs.models import Job, WorkerSign
from cadrel.web.jobs.patience import GaveUp, patiently
from cadrel.web.jobs.running import Ending
from cadrel.web.projects.models import Axis
from cadrel.web.rig import actions
from cadrel.web.rig.errors import NotReady
from cadrel.web.rig.settling import job_of
from cadrel.web.runs.models import Event
from tests.web.conftest import again, client_of, text_of

pytestmark = pytest.mark.django_db(transaction=True)
LONG_AGO = timedelta(minutes=2)


@pytest.fixture
def job(led: Axis, engineer: User) -> Job:
    return actions.queue_job(led, "commutation", who=engineer, consented=True)


def ending_of(job: Job) -> Ending:
    """A finished run with a recording and a finding."""
    record = RunRecord(
        kind="check", title="As recorded", period=1e-3, channels={"position": np.arange(5.0)}, excitation={}
    )
    found = Finding(kind="commutation", label="Offset", value=1.0, unit="rad", std=0.01, run=0)
    return Ending(job=job.pk, state="done", outcome=Outcome(runs=[record], findings=[found], summary="found"))


def go_silent(job: Job) -> None:
    Job.objects.filter(pk=job.pk).update(state="running", heartbeat=timezone.now() - LONG_AGO)


def test_an_ending_waits_on_disk_until_the_database_has_it(job: Job, monkeypatch: pytest.MonkeyPatch) -> None:
    Job.objects.filter(pk=job.pk).update(state="running")
    real, fails = recording.record, iter([True, True, False])

    def record(ending: Ending) -> None:
        if next(fails):
            assert spool.holds(job.pk)  # nothing rests on memory alone
            raise OperationalError("server closed the connection unexpectedly")
        real(ending)

    monkeypatch.setattr(recording, "record", record)
    recording.keep(ending_of(job))
    job.refresh_from_db()
    assert (job.state, job.summary) == ("done", "found")
    assert job.axis.runs.get().title == "As recorded"
    assert not spool.holds(job.pk)


def test_a_second_recording_of_one_ending_changes_nothing(job: Job) -> None:
    Job.objects.filter(pk=job.pk).update(state="running")
    for _ in range(2):
        recording.record(ending_of(job))
    assert job.axis.runs.count() == 1


def test_the_one_who_ran_it_knows_better_than_a_guess(job: Job) -> None:
    Job.objects.filter(pk=job.pk).update(state="interrupted", happened="The worker was lost during the run.")
    recording.record(ending_of(job))
    job.refresh_from_db()
    assert (job.state, job.happened) == ("done", "")


def test_an_ending_that_cannot_be_recorded_is_set_aside_and_said(job: Job, monkeypatch: pytest.MonkeyPatch) -> None:
    Job.objects.filter(pk=job.pk).update(state="running")
    bad = ending_of(job)
    bad.value_set = 10**9  # of another project
    recording.keep(bad)
    job.refresh_from_db()
    assert job.state == "interrupted"
    assert "could not be kept" in job.happened
    assert "Traceback" not in job.happened + job.means + job.remedy
    assert [p.suffix for p in spool.folder().iterdir()] == [".unusable"]


def test_endings_of_an_earlier_worker_come_back_whole_and_a_damaged_one_stops_nothing(job: Job) -> None:
    spool.put(ending_of(job))
    (spool.folder() / "job-0.ending").write_bytes(b"\x80\x05half")
    (found,) = spool.waiting()
    assert found.job == job.pk
    np.testing.assert_array_equal(found.outcome.runs[0].channels["position"], np.arange(5.0))
    assert (spool.folder() / "job-0.unusable").exists()
    assert (spool.folder() / f"job-{job.pk}.ending").stat().st_mode & 0o077 == 0


def test_a_full_disk_leaves_no_half_ending(job: Job, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(fd: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    assert not spool.put(ending_of(job))
    assert list(spool.folder().iterdir()) == []


def test_patience_ends_when_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(patience.time, "sleep", lambda seconds: None)

    def away() -> None:
        raise OperationalError

    with pytest.raises(GaveUp):
        patiently(away, is_over=lambda: True)


def test_a_silent_run_that_the_drive_is_still_on_goes_on(job: Job, bench: tuple[int, SimulatedDrive]) -> None:
    go_silent(job)
    bench[1].check_lease(bench[1].lease, consent=job.consent["token"])  # its worker beats, but reaches no database
    found = job_of(again(job.axis))
    assert found is not None
    assert found.state == "running"
    assert "goes on, says the drive" in found.doubt


def test_a_silent_run_is_ended_with_what_the_drive_says_and_cannot_enable_any_more(
    job: Job, bench: tuple[int, SimulatedDrive]
) -> None:
    go_silent(job)
    bench[1].advance(5.0)  # nothing was heard of it
    assert job_of(again(job.axis)) is None
    job.refresh_from_db()
    assert job.state == "interrupted"
    assert "The drive says: power stage off." in job.means
    assert bench[1].status()["consent"] is None


def test_what_became_of_a_silent_run_is_not_known_where_nobody_answers(job: Job) -> None:
    go_silent(job)
    job.axis.drive.port = 1
    job.axis.drive.save()
    found = job_of(again(job.axis))
    assert found is not None
    assert found.state == "running"
    assert found.doubt.startswith("Not known:")


def test_a_finished_run_that_waits_for_the_database_is_not_called_lost(job: Job) -> None:
    go_silent(job)
    spool.put(ending_of(job))
    found = job_of(again(job.axis))
    assert found is not None
    assert "waits to be written" in found.doubt


def test_a_run_that_no_worker_takes_is_said_and_its_consent_ends(job: Job, bench: tuple[int, SimulatedDrive]) -> None:
    Job.objects.filter(pk=job.pk).update(created=timezone.now() - LONG_AGO)
    assert job_of(again(job.axis)) is None
    job.refresh_from_db()
    assert job.happened == "No worker took the run."
    assert bench[1].status()["consent"] is None


def test_without_a_worker_a_start_is_refused_at_once(led: Axis, engineer: User) -> None:
    WorkerSign.objects.update(heard=timezone.now() - LONG_AGO)
    with pytest.raises(NotReady, match="No worker is there"):
        actions.queue_job(led, "commutation", who=engineer, consented=True)
    assert not Job.objects.exists()


def test_a_consent_ticked_long_ago_starts_nothing(led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]) -> None:
    bench[1].advance(60.0)
    answer = client_of(engineer).post(
        f"/axis/{led.pk}/start/commutation/", {"consent": "1", "ticked_at": str(bench[1].time - 45.0)}, follow=True
    )
    said = re.search(r"the consent is (\d+) s old", answer.content.decode())
    assert said and int(said[1]) >= 45  # the bench's clock goes on while the page asks
    assert not Job.objects.exists()


def test_abort_is_told_to_the_drive_at_once(job: Job, engineer: User, bench: tuple[int, SimulatedDrive]) -> None:
    actions.abort_run(again(job.axis), who=engineer)
    assert bench[1].status()["consent"] is None
    job.refresh_from_db()
    assert job.abort


def test_who_took_control_from_whom_is_in_the_log(led: Axis, engineer: User, bench: tuple[int, SimulatedDrive]) -> None:
    bench[1].take_control("service laptop", force=True)
    actions.take_control(again(led), who=engineer, force=True)
    assert Event.objects.filter(text="Took control from service laptop.").exists()


def test_every_action_on_the_rig_checks_the_right_itself(led: Axis) -> None:
    observer = User.objects.create_user("vera", password="a-long-password")
    observer.groups.add(Group.objects.get_or_create(name="observer")[0])
    calls: list[Callable[[], Any]] = [
        lambda: actions.connect(led, who=observer),
        lambda: actions.disconnect(led, who=observer),
        lambda: actions.take_control(led, who=observer),
        lambda: actions.power_switch(led, who=observer, on=False),
        lambda: actions.set_switch(led, who=observer, name="safe_torque_off", closed=False),
        lambda: actions.turn_by_hand(led, who=observer, turns=1, seconds=2),
        lambda: actions.abort_run(led, who=observer),
    ]
    for call in calls:
        with pytest.raises(PermissionDenied):
            call()


@pytest.mark.parametrize("value", ["nan", "inf", "-inf", "1e308", "x", "1" * 400])
def test_no_command_takes_what_is_no_number(
    led: Axis, engineer: User, bench: tuple[int, SimulatedDrive], value: str
) -> None:
    client = client_of(engineer)
    before = bench[1].status()
    for path, field in (("jog/", "share"), ("vector/", "by"), ("do/set_position/", "value"), ("do/turn/", "turns")):
        assert client.post(f"/axis/{led.pk}/{path}", {field: value}).status_code in (302, 409, 422)
    client.post(f"/axis/{led.pk}/do/enable_jog/", {"ticked_at": value})
    after = bench[1].status()
    assert (after["position"], after["mode"]) == (before["position"], "off")


def test_next_leads_nowhere_else(led: Axis, engineer: User) -> None:
    client = client_of(engineer)
    for elsewhere in ("https://elsewhere.example/", "//elsewhere.example/", "/\\elsewhere.example", "javascript:1"):
        assert client.post(f"/axis/{led.pk}/do/store/", {"next": elsewhere}).url == f"/axis/{led.pk}/drive/"
    assert client.post(f"/axis/{led.pk}/do/store/", {"next": f"/axis/{led.pk}/load/"}).url == f"/axis/{led.pk}/load/"


def test_a_database_that_is_away_is_said_on_a_page_with_a_stop(
    led: Axis, engineer: User, monkeypatch: pytest.MonkeyPatch
) -> None:
    client = client_of(engineer)
    client.get("/")  # brings the pass

    def away(*args: Any, **kwargs: Any) -> None:
        raise OperationalError("connection refused")

    monkeypatch.setattr("cadrel.web.pages.route.page_of", away)
    answer = client.get(f"/axis/{led.pk}/load/")
    assert answer.status_code == 503
    text = text_of(answer)
    assert "The database does not answer." in text
    assert 'id="stop"' in text
    assert "connection refused" not in text  # that is for the log


def test_untidy_text_is_refused_everywhere_with_a_sentence(engineer: User, axis: Axis) -> None:
    client = client_of(engineer)
    for path in ("/library/?q=%00", "/library/?q=" + "x" * 30_000, "/axis/99999999999999999999/motor/"):
        assert client.get(path).status_code in (400, 404)
    for value in ("a\0b", "x" * 30_000):
        answer = client.post("/new/", {"name": value, "drive": "D", "axis": "A", "remote": "R", "port": "1"})
        assert answer.status_code == 400
        assert "Nothing was changed." in answer.content.decode()
    assert Client().post("/login/", {"username": "a\0b", "password": "x"}).status_code == 400


def test_an_address_that_tries_many_names_is_kept_out(settings: Any, db: None) -> None:
    settings.ADDRESS_FAILURE_LIMIT = 5
    client = Client()
    for k in range(5):
        client.post("/login/", {"username": f"name{k}", "password": "wrong"})
    answer = client.post("/login/", {"username": "another", "password": "wrong"})
    assert answer.status_code == 429
    assert "Login rests" in answer.content.decode()


def test_the_known_axes_are_on_disk_for_a_stop_without_a_database(led: Axis, settings: Any) -> None:
    from cadrel.web.live.facts import read_known, write_known
    from cadrel.web.rig.strip import facts_of

    assert read_known() == []
    write_known([facts_of(again(led))])
    assert [(a["name"], a["remote"]) for a in read_known()] == [("A", "tile-pusher")]
    Path(settings.KNOWN_AXES).write_text("[{]")
    assert read_known() == []
