"""Two who enter values of one step at once, and files and records that are compared before they are taken."""

import json
from io import BytesIO

import pytest
from django.contrib.auth.models import Group, User
from django.test import Client

from cadrel.web.changes.projects import create_project
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from tests.conftest import values_of
from tests.web.conftest import client_of, text_of
from tests.web.test_pages import form_values

pytestmark = pytest.mark.django_db


def someone(name: str, role: str = "engineer") -> User:
    user = User.objects.create_user(name, password="a-long-password")
    user.groups.add(Group.objects.get_or_create(name=role)[0])
    return user


@pytest.fixture
def enno() -> User:
    return someone("enno")


@pytest.fixture
def axis(enno: User) -> Axis:
    made = create_project(
        name="P", machine="", drive="D", host="127.0.0.1", port=1, axis="Arm", remote="arm", author=enno
    )
    save_entries(made, values_of("tile-pusher"), author=enno, cause="entered")
    return made


@pytest.fixture
def client(enno: User) -> Client:
    return client_of(enno)


def typed(axis: Axis, **changes: str) -> dict[str, str]:
    return form_values(axis, "motor") | {"based_on": str(axis.newest_number)} | changes


def again(axis: Axis) -> Axis:
    return Axis.objects.get(pk=axis.pk)


def test_the_second_save_is_told_what_changed_and_loses_neither(client: Client, axis: Axis) -> None:
    url = f"/axis/{axis.pk}/motor/save/"
    mine = typed(axis, **{"sheet.resistance": "3.1"})
    other = client_of(someone("jona"))
    theirs = typed(axis, **{"sheet.resistance": "2.9", "sheet.inertia": "2.2"})
    assert other.post(url, theirs).status_code == 302
    answer = client.post(url, mine)
    assert answer.status_code == 409
    text = text_of(answer)
    assert "jona saved other values meanwhile." in text
    assert "you typed 3.1" in text
    assert "2.2" in text
    assert "(taken into the form)" in text
    assert 'name="sheet.resistance" value="3.1"' in text
    assert 'name="sheet.inertia" value="2.2"' in text
    assert again(axis).values["sheet.resistance"]["value"] == 2.9  # nothing of mine was saved over it unseen
    newest = str(again(axis).newest_number)
    sent = mine | {"sheet.inertia": "2.2", "based_on": newest}
    assert client.post(url, sent).status_code == 302
    assert again(axis).values["sheet.resistance"]["value"] == 3.1
    assert again(axis).values["sheet.inertia"]["value"] == 2.2


def test_what_another_saved_in_another_step_or_said_the_same_is_no_conflict(client: Client, axis: Axis) -> None:
    mine = typed(axis, **{"sheet.resistance": "3.1"})
    save_entries(
        again(axis), {"sheet.resistance": mine_entry(axis, 3.1)}, author=axis.value_sets.first().author, cause="x"
    )
    save_entries(
        again(axis),
        {"limit.velocity": {"value": 100.0, "unit": "mm/s", "source": "typed"}},
        author=axis.value_sets.first().author,
        cause="y",
    )
    assert client.post(f"/axis/{axis.pk}/motor/save/", mine).status_code == 302


def mine_entry(axis: Axis, value: float) -> dict[str, object]:
    return {**axis.values["sheet.resistance"], "value": value}


def test_saving_goes_on_to_the_next_step_if_asked_and_names_the_form_that_was_kept(client: Client, axis: Axis) -> None:
    sent = typed(axis, draft="a1b2", save="next")
    answer = client.post(f"/axis/{axis.pk}/motor/save/", sent)
    assert answer.url == f"/axis/{axis.pk}/feedback/"
    assert 'data-saved="a1b2"' in text_of(client.get(answer.url))  # whichever page comes next
    # And the one after it: a page that is left before its scripts run has told nobody. Until another form is kept.
    assert 'data-saved="a1b2"' in text_of(client.get(f"/axis/{axis.pk}/power/"))
    client.post(f"/axis/{axis.pk}/motor/save/", typed(axis, draft="c3d4", save="1"))
    assert 'data-saved="c3d4"' in text_of(client.get(answer.url))


def test_a_bad_field_is_marked_and_gets_the_focus(client: Client, axis: Axis) -> None:
    text = text_of(client.post(f"/axis/{axis.pk}/motor/save/", typed(axis, **{"sheet.inertia": "-1"})))
    field = text[text.index('id="f-sheet-inertia"') :][:400]
    assert 'aria-invalid="true"' in field
    assert "autofocus" in field
    assert text.count("autofocus") == 1


def axis_file(axis: Axis, **more: object) -> BytesIO:
    body = {
        "format": "cadrel-axis", "version": 1, "name": "Sister", "comment": "from the north line",
        "values": {**axis.values, **more},
    }  # fmt: skip
    made = BytesIO(json.dumps(body).encode())
    made.name = "sister.json"
    return made


def test_a_file_of_a_sister_axis_is_compared_first_and_its_evidence_is_not_ours(client: Client, axis: Axis) -> None:
    evidence = {
        "commutation.valid": {"value": "1", "source": "computed"},
        "motor.resistance": {"value": 1.2, "unit": "ohm", "source": "identified"},
        "sheet.inertia": {**axis.values["sheet.inertia"], "value": 3.3},
    }
    held = dict(axis.values)
    answer = client.post(f"/axis/{axis.pk}/load-file/", {"file": axis_file(axis, **evidence)}, follow=True)
    text = text_of(answer)
    assert "Nothing was changed yet." in text
    assert "Found on another axis, not proven here:" in text
    assert "3.3" in text
    assert again(axis).values == held
    done = client.post(f"/axis/{axis.pk}/load-file/", {"sure": "1", "names": "1"}, follow=True)
    assert "Taken as value set" in text_of(done)
    now = again(axis)
    assert (now.name, now.notes) == ("Sister", "from the north line")
    assert now.values["sheet.inertia"]["value"] == 3.3
    assert now.values["motor.resistance"]["source"] == "elsewhere"
    assert now.values["commutation.valid"]["value"] == "0"
    page = text_of(client.get(f"/axis/{axis.pk}/load-file/", follow=True))
    assert "Choose a file first." in page  # it is taken once


def test_a_file_can_be_left_and_an_observer_takes_none(client: Client, axis: Axis) -> None:
    client.post(f"/axis/{axis.pk}/load-file/", {"file": axis_file(axis)})
    assert again(axis).newest_number == axis.newest_number
    looker = client_of(someone("lotte", "observer"))
    assert looker.post(f"/axis/{axis.pk}/load-file/", {"file": axis_file(axis)}).status_code == 403
    assert looker.post(f"/axis/{axis.pk}/load-file/", {"sure": "1"}).status_code == 403
