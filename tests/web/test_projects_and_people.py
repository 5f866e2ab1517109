"""Projects, drives and axes made, named, copied, laid aside and deleted; users and their passwords."""

import pytest
from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from django.core.exceptions import PermissionDenied
from django.test import Client

from cadrel.web.accounts import people
from cadrel.web.changes import projects as changes
from cadrel.web.changes.values import save_entries
from cadrel.web.jobs.models import Job
from cadrel.web.projects.models import Axis, Drive, Project
from cadrel.web.runs.models import Event
from tests.conftest import values_of
from tests.web.conftest import client_of, text_of
from tests.web.test_two_at_once import someone

pytestmark = pytest.mark.django_db


@pytest.fixture
def enno() -> User:
    return someone("enno")


@pytest.fixture
def ada() -> User:
    return someone("ada", "administrator")


@pytest.fixture
def axis(enno: User) -> Axis:
    made = changes.create_project(
        name="Line 2", machine="Glazing", drive="D1", host="", port="8462", axis="Arm", remote="arm", author=enno
    )
    save_entries(made, values_of("tile-pusher"), author=enno, cause="entered")
    found = {
        "motor.resistance": {"value": 1.3, "unit": "ohm", "source": "identified"},
        "commutation.valid": {"value": "1", "source": "computed"},
    }
    save_entries(made, found, author=enno, cause="found", proven_step="current")  # type: ignore[arg-type]
    return Axis.objects.get(pk=made.pk)


def test_a_drive_has_several_axes_but_none_twice(axis: Axis, enno: User) -> None:
    second = changes.add_axis(axis.drive, name="Table", remote="table", author=enno)
    assert {a.name for a in axis.drive.axes.all()} == {"Arm", "Table"}
    with pytest.raises(changes.NotPossible, match="Arm is the drive's axis arm already"):
        changes.add_axis(axis.drive, name="Again", remote="arm", author=enno)
    with pytest.raises(changes.NotPossible, match="already"):
        changes.describe_axis(second, name="Table", notes="", remote="arm", author=enno)


@pytest.mark.parametrize(
    ("given", "says"),
    [
        ({"name": "  "}, "Give the project a name"),
        ({"name": "x" * 61}, "too long"),
        ({"port": "0"}, "whole number"),
        ({"port": "99999"}, "whole number"),
        ({"port": "²"}, "whole number"),
        ({"port": "8 0"}, "whole number"),
        ({"host": "h" * 101}, "too long"),
        ({"machine": "m" * 201}, "too long"),
        ({"remote": ""}, "Give the axis in the drive a name"),
    ],
)
def test_what_cannot_be_named_is_refused_whole(enno: User, given: dict[str, str], says: str) -> None:
    fields = {"name": "P", "machine": "", "drive": "D", "host": "", "port": "1", "axis": "A", "remote": "a"} | given
    answer = client_of(enno).post("/new/", fields)
    assert answer.status_code == 422
    assert says in text_of(answer)
    assert not Project.objects.exists()
    assert not Axis.objects.exists()


def test_a_copy_has_the_values_and_none_of_the_proofs(axis: Axis, enno: User) -> None:
    made = changes.copy_project(axis.drive.project, name="Line 3", author=enno)
    copy = Axis.objects.get(drive__project=made)
    assert copy.values["sheet.resistance"] == axis.values["sheet.resistance"]
    assert copy.values["motor.resistance"]["source"] == "elsewhere"
    assert copy.values["commutation.valid"]["value"] == "0"
    assert not copy.findings.exists()
    assert not copy.connected
    assert axis.values["motor.resistance"]["source"] == "identified"


def test_what_is_laid_aside_leaves_the_list_and_comes_back(axis: Axis, enno: User) -> None:
    client = client_of(enno)
    project = axis.drive.project
    client.post(f"/change/project/{project.pk}/archive/")
    client.get("/")  # which says what was done
    listed = f'href="/project/{project.pk}/"'
    assert listed not in text_of(client.get("/"))
    assert "1 laid aside" in text_of(client.get("/"))
    assert listed in text_of(client.get("/?archived=1"))
    client.post(f"/change/project/{project.pk}/restore/")
    assert listed in text_of(client.get("/"))


def test_what_is_connected_or_runs_is_neither_laid_aside_nor_deleted(axis: Axis, enno: User, ada: User) -> None:
    Axis.objects.filter(pk=axis.pk).update(connected=True)
    with pytest.raises(changes.NotPossible, match="connected"):
        changes.lay_aside(axis.drive.project, True, author=enno)
    Axis.objects.filter(pk=axis.pk).update(connected=False)
    Job.objects.create(axis=axis, procedure="load", who=enno)
    with pytest.raises(changes.NotPossible, match="in progress"):
        changes.delete(axis.drive.project, typed="Line 2", author=ada)


def test_only_an_administrator_deletes_and_only_what_is_named(axis: Axis, enno: User, ada: User) -> None:
    project = axis.drive.project
    assert client_of(enno).post(f"/change/project/{project.pk}/delete/", {"typed": "Line 2"}).status_code == 403
    client = client_of(ada)
    client.post(f"/change/project/{project.pk}/delete/", {"typed": "Line 3"})
    assert Project.objects.filter(pk=project.pk).exists()
    client.post(f"/change/project/{project.pk}/delete/", {"typed": "Line 2"})
    for kind in (Project, Drive, Axis, Event):
        assert not kind.objects.exists(), kind


def test_renaming_is_logged_and_unknown_actions_are_not_found(axis: Axis, enno: User) -> None:
    client = client_of(enno)
    client.post(f"/change/axis/{axis.pk}/describe/", {"name": "Upper arm", "remote": "arm", "notes": "new belt"})
    assert Axis.objects.get(pk=axis.pk).notes == "new belt"
    assert axis.events.filter(text="Arm is Upper arm now.").exists()
    for path in ("axis/1/fly/", "drive/1/archive/", "moon/1/copy/", f"axis/{axis.pk}999/copy/"):
        assert client.post(f"/change/{path}").status_code == 404


def test_the_projects_page_says_what_comes_next_and_what_asks_for_a_look(axis: Axis, enno: User) -> None:
    page = text_of(client_of(enno).get("/"))
    assert "not connected" in page
    assert f'href="/axis/{axis.pk}/drive/"' in page
    wrong = {"sheet.back_emf": {**axis.values["sheet.back_emf"], "convention": "phase_peak"}}
    save_entries(axis, wrong, author=enno, cause="x")
    page = text_of(client_of(enno).get("/"))
    assert "urgent-1" in page
    assert "wrong" in page


def test_an_administrator_adds_and_shuts_out_and_nobody_else_does(enno: User, ada: User) -> None:
    made = people.add_person("kim", "a-long-password", "observer", who=ada)
    assert people.role_of(made) == "observer"
    with pytest.raises(PermissionDenied):
        people.add_person("mo", "a-long-password", "observer", who=enno)
    for name, password, says in (("kim", "a-long-password", "already"), ("x y", "a-long-password", "letters")):
        with pytest.raises(people.NotPossible, match=says):
            people.add_person(name, password, "observer", who=ada)
    with pytest.raises(people.NotPossible, match="too short"):
        people.add_person("mo", "short", "observer", who=ada)
    with pytest.raises(people.NotPossible, match="shut yourself out"):
        people.set_active(ada, False, who=ada)
    assert client_of(enno).get("/people/").status_code == 403
    assert "kim" in text_of(client_of(ada).get("/people/"))


def logged_in(name: str, password: str = "a-long-password") -> Client:
    client = Client()
    client.post("/login/", {"username": name, "password": password})
    return client


def is_in(client: Client) -> bool:
    return client.get("/").status_code == 200


def test_shutting_out_another_role_and_another_password_end_the_sessions(enno: User, ada: User) -> None:
    admin = client_of(ada)
    for action, sent in (
        ("role", {"role": "observer"}),
        ("password", {"password": "another-password"}),
        ("disable", {}),
    ):
        password = "another-password" if action == "disable" else "a-long-password"
        client = logged_in("enno", password)
        assert is_in(client), action
        admin.post(f"/people/{enno.pk}/{action}/", sent)
        assert not is_in(client), action
    assert not is_in(logged_in("enno", "another-password"))
    admin.post(f"/people/{enno.pk}/enable/")
    assert is_in(logged_in("enno", "another-password"))
    assert is_in(admin)


def test_ones_own_password_keeps_this_session_and_ends_the_others(enno: User) -> None:
    here, there = logged_in("enno"), logged_in("enno")
    wrong = {"old": "no", "new": "another-password", "again": "another-password"}
    assert "The present password is another one." in text_of(here.post("/account/", wrong))
    apart = {"old": "a-long-password", "new": "another-password", "again": "other-password"}
    assert "differ" in text_of(here.post("/account/", apart))
    assert is_in(there)
    here.post("/account/", wrong | {"old": "a-long-password"})
    assert is_in(here)
    assert not is_in(there)
    own = [s for s in Session.objects.all() if s.get_decoded().get("_auth_user_id") == str(enno.pk)]
    assert [s.session_key for s in own] == [here.session.session_key]
    assert is_in(logged_in("enno", "another-password"))
