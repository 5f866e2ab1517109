"""The library: search, keep, take, copy, revise with history, files; and nothing half-imported."""

import json
from collections.abc import Iterator

import pytest
from django.contrib.auth.models import Group, User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from cadrel.web.changes.projects import create_project
from cadrel.web.changes.values import save_entries
from cadrel.web.library.actions import add_record, is_altered, keep_from_axis, revise_from_axis, take_into_axis
from cadrel.web.library.models import Record, Revision, Use
from cadrel.web.projects.models import Axis
from cadrel.web.runs.models import Run
from tests.conftest import values_of
from tests.exchange.test_records import TYPED, record_of
from tests.web.conftest import text_of

pytestmark = pytest.mark.django_db


@pytest.fixture
def engineer() -> User:
    user = User.objects.create_user("enno", password="a-long-password")
    user.groups.add(Group.objects.get_or_create(name="engineer")[0])
    return user


@pytest.fixture
def client(engineer: User) -> Client:
    made = Client()
    made.force_login(engineer, backend="django.contrib.auth.backends.ModelBackend")
    return made


@pytest.fixture
def axes(engineer: User) -> Iterator[list[Axis]]:
    made = [
        create_project(name=n, machine="", drive="D", host="127.0.0.1", port=1, axis=n, remote="a", author=engineer)
        for n in ("Pusher", "Table")
    ]
    save_entries(made[0], values_of("tile-pusher"), author=engineer, cause="entered")
    yield made


def keep(axis: Axis, engineer: User) -> Record:
    return keep_from_axis(axis, "motor", name="QS-6208", maker="Fernhag", part="F-62", author=engineer)


def test_a_motor_kept_from_one_axis_starts_another(axes: list[Axis], engineer: User) -> None:
    record = keep(axes[0], engineer)
    take_into_axis(record, axes[1], author=engineer)
    kept = Axis.objects.get(pk=axes[1].pk).values
    assert kept["sheet.resistance"] == axes[0].values["sheet.resistance"]
    assert "limit.velocity" not in kept  # the motor's sheet, not the axis
    assert [u.axis.name for u in Use.objects.filter(revision__record=record).order_by("pk")] == ["Pusher", "Table"]


def test_taking_replaces_the_whole_motor_and_leaves_the_rest(axes: list[Axis], engineer: User) -> None:
    before = axes[0].values
    linear = add_record(record_of("Pell L10"), author=engineer, cause="typed")
    take_into_axis(linear, axes[0], author=engineer)
    after = Axis.objects.get(pk=axes[0].pk).values
    assert after["sheet.kind"]["value"] == "linear"
    assert "sheet.inertia" not in after
    assert after["feedback.lines"] == before["feedback.lines"]


def test_a_correction_becomes_a_revision_and_the_old_one_stays(axes: list[Axis], engineer: User) -> None:
    record = keep(axes[0], engineer)
    take_into_axis(record, axes[1], author=engineer)
    corrected = {"value": 2.7, "unit": "ohm", "convention": "line_to_line", "source": "sheet"}
    save_entries(axes[0], {"sheet.resistance": corrected}, author=engineer, cause="measured at the clamps")
    use = Use.objects.get(axis=axes[0])
    assert is_altered(use)
    revision = revise_from_axis(record, axes[0], author=engineer)
    assert revision is not None and revision.number == 2
    assert record.revisions.get(number=1).entries["sheet.resistance"]["value"] == 2.6
    assert not is_altered(Use.objects.get(axis=axes[0]))
    assert Use.objects.get(axis=axes[1]).revision.number == 1  # nobody's axis changes behind his back
    assert revise_from_axis(record, axes[0], author=engineer) is None
    with pytest.raises(ValueError, match="immutable"):
        revision.save()


def some_run(axis: Axis, who: User) -> Run:
    return Run.objects.create(
        axis=axis, number=1, kind="x", step="commutation", title="x", value_set=axis.latest_set(), drive_values={},
        period=1.0, channels=[], data=b"", who=who,
    )  # fmt: skip


def test_changing_the_motor_makes_what_rested_on_it_stale(axes: list[Axis], engineer: User) -> None:
    axes[0].findings.create(
        step="commutation", kind="commutation", label="Offset", value=1.0, unit="rad", state="measured",
        value_set=axes[0].latest_set(), run=some_run(axes[0], engineer),
    )  # fmt: skip
    take_into_axis(add_record(record_of("Arlo R100"), author=engineer, cause="typed"), axes[0], author=engineer)
    assert axes[0].findings.get().state == "stale"


@pytest.mark.parametrize(
    ("search", "found"), [("", 2), ("fernhag", 2), ("QS fern", 1), ("arlo", 1), ("nothing like it", 0)]
)
def test_search_finds_every_word(client: Client, axes: list[Axis], engineer: User, search: str, found: int) -> None:
    keep(axes[0], engineer)
    add_record(record_of("Arlo R100"), author=engineer, cause="typed")
    assert Record.objects.found_by(search).count() == found
    page = client.get("/library/", {"q": search}, headers={"HX-Request": "true"}).content.decode()
    assert page.count('scope="row"') == found
    assert "<html" not in page


def test_pages_show_values_history_and_users(client: Client, axes: list[Axis], engineer: User) -> None:
    record = keep(axes[0], engineer)
    page = text_of(client.get(f"/library/{record.pk}/"))
    for text in ("Fernhag QS-6208", "line to line", "kept from Pusher", "as taken", "1.3", "Copy"):
        assert text in page, text
    motor = text_of(client.get(f"/axis/{axes[0].pk}/motor/"))
    assert "Fernhag QS-6208" in motor
    assert "From the library" in motor


def test_copy_take_and_keep_by_the_page(client: Client, axes: list[Axis], engineer: User) -> None:
    client.post(f"/axis/{axes[0].pk}/keep/motor/", {"name": "QS", "maker": "Fernhag", "part": ""})
    record = Record.objects.get()
    client.post(f"/library/{record.pk}/copy/")
    copied = Record.objects.exclude(pk=record.pk).get()
    assert copied.copied_from == record
    assert copied.newest().entries == record.newest().entries
    compared = text_of(client.post(f"/library/{copied.pk}/take/", {"axis": axes[1].pk}))
    assert "Nothing was changed yet." in compared
    assert "sheet.resistance" not in Axis.objects.get(pk=axes[1].pk).values
    answer = client.post(f"/library/{copied.pk}/take/", {"axis": axes[1].pk, "sure": "1"})
    assert answer.headers["Location"] == f"/axis/{axes[1].pk}/motor/"
    answer = client.post(f"/axis/{axes[1].pk}/keep/feedback/", {"name": "nothing entered"}, follow=True)
    assert "has no value of the feedback yet" in answer.content.decode()


@pytest.mark.parametrize("form", ["json", "csv"])
def test_a_record_goes_out_and_comes_in_the_same(client: Client, axes: list[Axis], engineer: User, form: str) -> None:
    record = keep(axes[0], engineer)
    text = client.get(f"/library/{record.pk}/file.{form}").content
    client.post("/library/load/", {"file": SimpleUploadedFile(f"motor.{form}", text)})
    loaded = Record.objects.exclude(pk=record.pk).get()
    assert (loaded.name, loaded.maker, loaded.part) == (record.name, record.maker, record.part)
    stripped = {k: {n: v for n, v in e.items() if n != "source"} for k, e in loaded.newest().entries.items()}
    assert stripped == {k: {n: v for n, v in e.items() if n != "source"} for k, e in record.newest().entries.items()}


@pytest.mark.parametrize(
    ("name", "text", "says"),
    [
        ("motor.json", b"{", "line 1"),
        ("motor.json", json.dumps({"format": "cadrel-motor", "version": 9, "values": {}}).encode(), "newer"),
        ("motor.csv", (TYPED + "Shoe size;43\n").encode(), "line 12"),
        ("motor.csv", b"\xff\xfe\x00", "not UTF-8"),
        ("huge.json", b"x" * 2_000_001, "larger than 2 MB"),
    ],
)
def test_a_bad_file_is_refused_whole(client: Client, name: str, text: bytes, says: str) -> None:
    page = client.post("/library/load/", {"file": SimpleUploadedFile(name, text)}, follow=True).content.decode()
    assert says in page
    assert not Record.objects.exists()
    assert not Revision.objects.exists()


def test_an_observer_looks_and_changes_nothing(axes: list[Axis], engineer: User) -> None:
    record = keep(axes[0], engineer)
    user = User.objects.create_user("vera", password="a-long-password")
    user.groups.add(Group.objects.get_or_create(name="observer")[0])
    observer = Client()
    observer.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    assert observer.get(f"/library/{record.pk}/").status_code == 200
    for path in (f"/library/{record.pk}/copy/", f"/library/{record.pk}/take/", "/library/load/"):
        assert observer.post(path, {"axis": axes[1].pk}).status_code == 403
    assert Record.objects.count() == 1
