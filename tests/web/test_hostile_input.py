"""Whatever is typed, sent or loaded: a sentence, and never a failure page or a wrong state."""

import asyncio
import io
import json
from typing import Any

import pytest
from django.conf import settings
from django.contrib.auth.models import Group, User
from django.test import Client
from hypothesis import HealthCheck, given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st

from cadrel.web.asgi import application
from cadrel.web.changes.projects import create_project
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from tests.conftest import values_of
from tests.web.conftest import client_of

pytestmark = pytest.mark.django_db
PIECES = [
    "\0",
    "\ud800",
    "'",
    "%00",
    "1e308",
    "nan",
    "-inf",
    "9" * 400,
    "\u202e",
    "<b>",
    "{}",
    "",
    " ",
    "x" * 3000,
    "−1",
]
TEXT = st.one_of(st.text(max_size=30), st.sampled_from(PIECES), st.tuples(*[st.sampled_from(PIECES)] * 2).map("".join))
PATHS = (
    "do/connect/ do/take/ do/send/ do/fetch/ do/switch/ do/power/ do/set_position/ do/turn/ do/set_phasing/ do/rewire/ "
    "do/note_angle/ do/take_offset/ do/enable_jog/ do/enable_vector/ jog/ vector/ start/commutation/ start/nonsense/ "
    "abort/ relabel/ source/ gains/velocity/ predict/velocity/ motor/save/ motor/preview/ limits/save/ keep/motor/"
).split()
FIELDS = (
    "name value share way by target speed holder tab ticked_at turns current power_up closed on key source consent "
    "next change asked sheet.resistance sheet.resistance.unit sheet.kind velocity.gain fault coulomb_load take force"
).split()


@pytest.fixture(scope="module")
def client(django_db_setup: None, django_db_blocker: Any) -> Any:
    """An engineer with an axis that is connected to nothing; kept over all examples."""
    with django_db_blocker.unblock():
        user, _ = User.objects.get_or_create(username="hostile")
        user.groups.add(Group.objects.get_or_create(name="engineer")[0])
        axis = Axis.objects.filter(name="Hostile").first() or create_project(
            name="P", machine="", drive="D", host="127.0.0.1", port=1, axis="Hostile", remote="x", author=user
        )
        save_entries(axis, values_of("tile-pusher"), author=user, cause="entered")
        made = client_of(user)
        yield made, axis.pk
        axis.drive.project.delete()
        user.delete()


@hypothesis_settings(max_examples=250, deadline=None, suppress_health_check=list(HealthCheck))
@given(path=st.sampled_from(PATHS), form=st.dictionaries(st.sampled_from(FIELDS), TEXT, max_size=6))
def test_any_form_is_answered(client: tuple[Client, int], path: str, form: dict[str, str]) -> None:
    body = {k: v.encode("utf-8", "surrogatepass") for k, v in form.items()}
    from urllib.parse import urlencode

    answer = client[0].post(
        f"/axis/{client[1]}/{path}", urlencode(body), content_type="application/x-www-form-urlencoded"
    )
    assert answer.status_code < 500, (path, form)


@hypothesis_settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck))
@given(text=TEXT, name=st.sampled_from(["q", "kind", "axis", "revision", "next", "tab"]))
def test_any_query_and_any_id_is_answered(client: tuple[Client, int], text: str, name: str) -> None:
    from urllib.parse import quote

    piece = quote(text.encode("utf-8", "surrogatepass"))
    for path in (f"/library/?{name}={piece}", f"/axis/{piece}/motor/", f"/axis/{client[1]}/run/{piece}/"):
        assert client[0].get(path).status_code < 500, path


@hypothesis_settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(body=st.binary(max_size=400), name=TEXT)
def test_any_file_is_answered(client: tuple[Client, int], body: bytes, name: str) -> None:
    for path in (f"/axis/{client[1]}/load-file/", "/library/load/"):
        upload = io.BytesIO(body)
        upload.name = "".join(c for c in name if c.isprintable() and not 0xD800 <= ord(c) <= 0xDFFF)[:80] or "file"
        assert client[0].post(path, {"file": upload}).status_code < 500


def test_an_axis_file_cannot_claim_that_its_values_were_identified(client: tuple[Client, int]) -> None:
    values = {"motor.resistance": {"value": 0.01, "unit": "ohm", "source": "identified"}}
    upload = io.BytesIO(json.dumps({"format": "cadrel-axis", "version": 1, "name": "x", "values": values}).encode())
    upload.name = "axis.json"
    client[0].post(f"/axis/{client[1]}/load-file/", {"file": upload})
    client[0].post(f"/axis/{client[1]}/load-file/", {"sure": "1"})
    assert Axis.objects.get(pk=client[1]).values["motor.resistance"]["source"] == "elsewhere"


def exchange(headers: dict[str, str], chunks: list[bytes]) -> tuple[int, int]:
    """POST to the web process's entry point; status, and how many pieces of the body it took."""
    waiting, taken, sent = list(chunks), 0, []

    async def receive() -> dict[str, Any]:
        nonlocal taken
        if not waiting:
            return {"type": "http.disconnect"}
        taken += 1
        return {"type": "http.request", "body": waiting.pop(0), "more_body": bool(waiting)}

    async def send(message: Any) -> None:
        sent.append(message)

    scope = {
        "type": "http", "method": "POST", "path": "/login/", "query_string": b"", "root_path": "", "scheme": "http",
        "http_version": "1.1", "server": ("127.0.0.1", 8460), "client": ("127.0.0.1", 1),
        "headers": [(k.encode(), v.encode()) for k, v in ({"host": "127.0.0.1"} | headers).items()],
    }  # fmt: skip
    asyncio.run(application(scope, receive, send))
    return (sent[0]["status"] if sent else 0), taken


def test_a_body_that_is_too_long_is_refused_unread_and_one_that_hides_its_length_is_cut_off() -> None:
    assert exchange({"content-length": "200000000"}, [b"x"]) == (413, 0)
    assert exchange({"content-length": "9" * 30}, [b"x"]) == (413, 0)
    piece = b"x" * 1_000_000
    _, taken = exchange({"transfer-encoding": "chunked"}, [piece] * 200)
    assert taken <= settings.LARGEST_REQUEST // len(piece) + 1
