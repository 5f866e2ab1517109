"""Pages without a drive: roles, entry forms, refusals, previews, predictions."""

import math
import re
from typing import Any

import pytest
from django.contrib.auth.models import Group, User
from django.http import HttpResponse
from django.test import Client
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cadrel.core.parameters import STEPS, Entry, check_entry, of_step, units_for
from cadrel.core.quantities import CONVENTIONS
from cadrel.procedures import Finding as Found
from cadrel.web.changes.projects import create_project
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from cadrel.web.route.entries import asked_of, fields_of, form_of, parse, with_choices
from cadrel.web.route.facts import understood_of
from cadrel.web.templatetags.cadrel import reading
from tests.conftest import values_of
from tests.web.conftest import text_of

pytestmark = pytest.mark.django_db


def user_with(role: str) -> User:
    user = User.objects.create_user(role, password="a-long-password")
    user.groups.add(Group.objects.get_or_create(name=role)[0])
    return user


@pytest.fixture
def client() -> Client:
    made = Client()
    made.force_login(user_with("engineer"), backend="django.contrib.auth.backends.ModelBackend")
    return made


@pytest.fixture
def observer() -> Client:
    made = Client()
    made.force_login(user_with("observer"), backend="django.contrib.auth.backends.ModelBackend")
    return made


@pytest.fixture
def axis() -> Axis:
    author = User.objects.create_user("author", password="a-long-password")
    author.groups.add(Group.objects.get_or_create(name="engineer")[0])
    made = create_project(
        name="P", machine="M", drive="D", host="127.0.0.1", port=1, axis="A", remote="a", author=author
    )
    save_entries(made, values_of("tile-pusher"), author=author, cause="entered")
    return made


def form_values(axis: Axis, step: str) -> dict[str, str]:
    sent: dict[str, str] = {}
    for p in fields_of(step, axis.values):
        entry: dict[str, Any] = dict(axis.values.get(p.key, {}))
        if "value" in entry:
            sent[p.key] = str(entry["value"])
            for part in ("unit", "convention"):
                if part in entry:
                    sent[f"{p.key}.{part}"] = entry[part]
    return sent


def test_without_login_every_page_leads_to_it(axis: Axis) -> None:
    for path in ("/", f"/axis/{axis.pk}/motor/", f"/axis/{axis.pk}/runs/", "/library/"):
        answer = Client().get(path)
        assert answer.status_code == 302
        assert answer.url.startswith("/login/")


def test_every_step_answers_with_a_strict_policy(client: Client, axis: Axis) -> None:
    for step in STEPS:
        answer = client.get(f"/axis/{axis.pk}/{step.key}/")
        assert answer.status_code == 200
        policy = answer.headers["Content-Security-Policy"]
        assert "script-src 'self'" in policy
        assert "unsafe" not in policy
        assert not re.search(rb"<script(?![^>]*(src=|application/json))", answer.content), "inline script"
        assert b" style=" not in answer.content


def test_an_observer_sees_but_may_not_change_or_move(observer: Client, axis: Axis) -> None:
    page = observer.get(f"/axis/{axis.pk}/motor/")
    assert page.status_code == 200
    assert b"Save values" not in page.content
    for path in ("motor/save/", "do/take/", "do/send/", "jog/", "start/commutation/", "gains/velocity/", "relabel/"):
        assert observer.post(f"/axis/{axis.pk}/{path}").status_code == 403


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ("abc", "no number stands first"),
        ("-2.6", "cannot be negative"),
        ("0", "cannot be zero"),
        ("1e9", "too large"),
        ("", "is empty"),
        ("inf", "no number stands first"),
        ("1e400", "finite"),
        ("2,600", "is it 2600 or 2.600"),
        ("2.6 V", "no unit of resistance"),
    ],
)
def test_a_bad_value_gets_its_sentence_and_nothing_typed_is_lost(
    client: Client, axis: Axis, typed: str, says: str
) -> None:
    before = axis.latest_set()
    sent = form_values(axis, "motor") | {"sheet.resistance": typed, "sheet.inertia": "1.77"}
    answer = client.post(f"/axis/{axis.pk}/motor/save/", sent)
    text = text_of(answer)
    assert answer.status_code == 422
    assert says in text
    assert 'value="1.77"' in text
    assert fresh(axis).latest_set() == before


def test_saving_good_values_makes_a_value_set(client: Client, axis: Axis) -> None:
    sent = form_values(axis, "motor") | {"sheet.inertia": "1,77"}
    assert client.post(f"/axis/{axis.pk}/motor/save/", sent).status_code == 302
    assert fresh(axis).values["sheet.inertia"]["value"] == 1.77
    assert fresh(axis).values["sheet.inertia"]["unit"] == "kg·cm²"


def test_a_cell_pasted_as_the_sheet_prints_it_brings_its_unit_and_convention(client: Client, axis: Axis) -> None:
    pasted = {
        "sheet.inertia": "1.41e-4 kgm²", "sheet.current_continuous": "5,1 A peak", "sheet.poles": "2p=8",
        "sheet.speed_max": "6,000 min-1", "sheet.resistance": "1.3 Ω per phase",
    }  # fmt: skip
    answer = client.post(f"/axis/{axis.pk}/motor/save/", form_values(axis, "motor") | pasted)
    assert answer.status_code == 302, answer.content.decode()[:400]
    kept = fresh(axis).values
    assert (kept["sheet.inertia"]["value"], kept["sheet.inertia"]["unit"]) == (1.41e-4, "kg·m²")
    assert (kept["sheet.current_continuous"]["value"], kept["sheet.current_continuous"]["convention"]) == (5.1, "peak")
    assert (kept["sheet.poles"]["value"], kept["sheet.poles"]["convention"]) == (8.0, "poles")
    assert (kept["sheet.speed_max"]["value"], kept["sheet.speed_max"]["unit"]) == (6000.0, "rpm")
    assert (kept["sheet.resistance"]["value"], kept["sheet.resistance"]["convention"]) == (1.3, "phase")


def test_a_choice_taken_back_shows_again_what_is_kept_and_the_next_question_wipes_nothing(
    client: Client, axis: Axis
) -> None:
    """Drawn anew, fields that the other choice had not asked for came back empty; the next key said they were."""
    url = f"/axis/{axis.pk}/motor/preview/"
    kept, kind = axis.values["sheet.inductance"], "rotary"

    def fields_of_answer(answer: HttpResponse) -> dict[str, str]:
        found = re.findall(r'<input[^>]*name="(sheet\.[a-z_]+)"[^>]*value="([^"]*)"', answer.content.decode())
        return dict(found)

    other = fields_of_answer(client.post(url, {"sheet.kind": "induction", "sheet.resistance": "4.7"}))
    assert "sheet.inductance" not in other and "sheet.power_factor" in other
    back = fields_of_answer(client.post(url, {**other, "sheet.kind": kind, "sheet.resistance": "4.7"}))
    assert float(back["sheet.inductance"]) == kept["value"]
    assert back["sheet.resistance"] == "4.7"
    again = client.post(url, {**back, "sheet.kind": kind, "asked": "something else"})
    assert float(fields_of_answer(again)["sheet.inductance"]) == kept["value"]
    cleared = client.post(url, {**back, "sheet.kind": kind, "sheet.inductance": "", "asked": "something else"})
    assert fields_of_answer(cleared)["sheet.inductance"] == ""


def test_preview_shows_what_was_understood_and_a_mislabelled_pair(client: Client, axis: Axis) -> None:
    sent = form_values(axis, "motor") | {"sheet.back_emf.convention": "ll_peak"}
    sent["asked"] = asked_of(form_of("motor", axis.values, {}, values=axis.values))
    text = text_of(client.post(f"/axis/{axis.pk}/motor/preview/", sent))
    assert "They agree if the back-EMF constant is line to line, rms." in text
    assert "Take “line to line, rms”" in text
    assert 'hx-swap-oob="true"' in text
    assert 'id="fields"' not in text  # the form under the hand stays as it is


def test_another_kind_of_motor_redraws_the_form_with_what_it_asks(client: Client, axis: Axis) -> None:
    sent = form_values(axis, "motor") | {"sheet.kind": "linear", "sheet.inertia": "1.5", "sheet.kind.before": "rotary"}
    sent["asked"] = asked_of(form_of("motor", axis.values, {}, values=axis.values))
    text = text_of(client.post(f"/axis/{axis.pk}/motor/preview/", sent))
    assert 'id="fields"' in text
    assert "Magnetic pitch" in text
    assert "Rotor inertia" not in text
    assert 'value="2.6"' in text  # the resistance typed for the other kind is still there


def test_one_click_takes_the_label_that_agrees_and_nothing_that_nobody_offered(client: Client, axis: Axis) -> None:
    sent = form_values(axis, "motor") | {"sheet.back_emf.convention": "ll_peak"}
    client.post(f"/axis/{axis.pk}/motor/save/", sent)
    client.post(f"/axis/{axis.pk}/relabel/", {"change": "sheet.back_emf|convention|ll_rms"})
    assert fresh(axis).values["sheet.back_emf"]["convention"] == "ll_rms"
    client.post(f"/axis/{axis.pk}/relabel/", {"change": "sheet.poles|convention|pairs"})
    assert fresh(axis).values["sheet.poles"]["convention"] == "poles"


def fresh(axis: Axis) -> Axis:
    return Axis.objects.get(pk=axis.pk)


TYPED = st.one_of(
    st.text(max_size=6),
    st.floats().map(str),
    st.floats(-1e6, 1e6).map(str),
    st.sampled_from(["0", "-1", "1e308", "1e-308"]),
)


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.sampled_from(["motor", "feedback", "mechanics", "power", "limits"]), st.booleans(), st.data())
def test_any_typed_text_is_a_value_or_a_sentence_and_never_a_failure(
    step: str, filled: bool, data: st.DataObject
) -> None:
    values = values_of("tile-pusher") if filled else {}
    typed: dict[str, str] = {}
    for p in data.draw(st.lists(st.sampled_from(of_step(step)), max_size=12)):
        if p.choices:
            typed[p.key] = data.draw(st.sampled_from([k for k, _ in p.choices] + ["nonsense"]))
            continue
        typed[p.key] = data.draw(TYPED)
        typed[f"{p.key}.unit"] = data.draw(st.sampled_from([*units_for(p), "furlong"]))
        if p.convention:
            typed[f"{p.key}.convention"] = data.draw(st.sampled_from([c.key for c in CONVENTIONS[p.convention]]))
    entries, problems = parse(step, typed, values)
    good: dict[str, Entry] = with_choices(step, values, typed)
    for key, entry in entries.items():
        assert entry is None or key in problems or isinstance(entry["value"], float | str)
        if entry is not None and key not in problems:
            good[key] = entry
            value = check_entry(key, entry, {**good, **{k: e for k, e in entries.items() if e is not None}})
            assert math.isfinite(value)
    assert form_of(step, entries, problems, values=good)
    facts = understood_of(step, good)
    assert facts.problem or facts.rows
    for row in facts.rows:
        assert all(isinstance(part, str) for part in row)


def test_a_higher_gain_is_predicted_with_less_margin(client: Client, axis: Axis) -> None:
    kept = client.post(f"/axis/{axis.pk}/predict/velocity/", {}).json()
    gain = 8 * 0.0257
    more = client.post(f"/axis/{axis.pk}/predict/velocity/", {"velocity.gain": str(gain)}).json()
    assert more["now"]["margins"]["bandwidth_hz"] > 3 * kept["now"]["margins"]["bandwidth_hz"]
    assert more["now"]["margins"]["gain_margin_db"] < kept["now"]["margins"]["gain_margin_db"]
    assert more["kept"] == kept["kept"]
    wild = client.post(f"/axis/{axis.pk}/predict/velocity/", {"velocity.gain": "40"}).json()
    assert wild["now"]["stable"] is False
    assert client.post(f"/axis/{axis.pk}/predict/velocity/", {"velocity.gain": "x"}).status_code == 422


def test_unstable_gains_are_not_kept(client: Client, axis: Axis) -> None:
    client.post(f"/axis/{axis.pk}/gains/velocity/", {"velocity.gain": "40"})
    assert "velocity.gain" not in axis.values


def test_a_procedure_does_not_start_without_consent_connection_or_control(client: Client, axis: Axis) -> None:
    for sent, says in (({}, "not consented"), ({"consent": "1"}, "not connected")):
        answer = client.post(f"/axis/{axis.pk}/start/commutation/", sent, follow=True)
        assert says in answer.content.decode()
    Axis.objects.filter(pk=axis.pk).update(connected=True)
    answer = client.post(f"/axis/{axis.pk}/start/commutation/", {"consent": "1"}, follow=True)
    assert "do not have control" in answer.content.decode()
    assert axis.jobs.count() == 0


def test_a_bench_that_is_not_there_is_said_in_words(client: Client, axis: Axis) -> None:
    answer = client.post(f"/axis/{axis.pk}/do/connect/", follow=True)
    assert "does not answer" in answer.content.decode()
    Axis.objects.filter(pk=axis.pk).update(connected=True)
    page = text_of(client.get(f"/axis/{axis.pk}/drive/"))
    assert "No contact" in page


def test_files_go_out_and_come_in_whole_or_not_at_all(client: Client, axis: Axis) -> None:
    from io import BytesIO

    text = client.get(f"/axis/{axis.pk}/export/").content
    for body, expected in (
        (text, "Nothing was changed yet."),
        (b'{"format": "cadrel-axis"}', "Nothing of it was taken"),
    ):
        upload = BytesIO(body)
        upload.name = "axis.json"
        answer = client.post(f"/axis/{axis.pk}/load-file/", {"file": upload}, follow=True)
        assert expected in answer.content.decode()


def test_wrong_passwords_are_limited() -> None:
    user_with("engineer")
    client = Client()
    for _ in range(8):
        client.post("/login/", {"username": "engineer", "password": "wrong"})
    locked = client.post("/login/", {"username": "engineer", "password": "a-long-password"})
    assert "Login rests" in locked.content.decode()


def test_unknown_pages_are_said_in_words(client: Client, axis: Axis) -> None:
    answer = client.get(f"/axis/{axis.pk}/nonsense/")
    assert answer.status_code == 404
    assert "There is no such page." in answer.content.decode()


@pytest.mark.parametrize(
    ("kind", "value", "unit", "std", "read"),
    [
        ("feedback", 16383.0, "counts", None, "16383 counts"),
        ("second_device", 39.25, "counts", None, "39.25 counts"),
        ("commutation", 1.4376, "rad", 0.0017, "82.37 ± 0.097 °"),
        ("coulomb", 0.1796, "N·m", 0.00022, "0.1796 ± 0.00022 N·m"),
        ("viscous", 5.01e-4, "N·m·s/rad", 3.6e-6, "0.501 ± 0.0036 mN·m·s"),
    ],
)
def test_a_finding_is_read_in_the_unit_of_the_trade(
    kind: str, value: float, unit: str, std: float | None, read: str
) -> None:
    assert reading(Found(kind=kind, label="", value=value, unit=unit, std=std, run=0)) == read


def test_every_page_of_someone_logged_in_says_that_it_is_open(client: Client, axis: Axis) -> None:
    for path in ("/", "/library/", "/new/", f"/axis/{axis.pk}/stand-in/"):
        assert client.get(path).content.count(b'data-module="presence"') == 1, path
    assert client.get(f"/axis/{axis.pk}/load/").content.count(b'data-module="presence"') == 0  # its strip does
