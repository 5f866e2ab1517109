"""A form saved as it stands changes nothing; one value changed is the one that is named."""

from html.parser import HTMLParser
from typing import Any

import pytest
from django.contrib.auth.models import User

from cadrel.core.parameters import REGISTRY
from cadrel.procedures import Finding as Found
from cadrel.procedures import Outcome, RunRecord
from cadrel.web.changes.outcomes import keep_outcome
from cadrel.web.projects.models import Axis
from cadrel.web.route.sheets import ENTRY_STEPS
from tests.web.conftest import client_of

pytestmark = pytest.mark.django_db


class Form(HTMLParser):
    """What a browser would send of the form of entries, untouched."""

    def __init__(self) -> None:
        super().__init__()
        self.fields: dict[str, str] = {}
        self._inside, self._select = False, ""

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        a = dict(attrs)
        if tag == "form":
            self._inside = a.get("id") == "entries"
        if not self._inside:
            return
        if tag == "input" and a.get("name"):
            self.fields[a["name"]] = a.get("value") or ""
        elif tag == "select":
            self._select = a.get("name") or ""
        elif tag == "option" and self._select:
            value = a.get("value", "")
            if "selected" in a or self._select not in self.fields:
                self.fields[self._select] = value
            self._text = self._select if "value" not in a and "selected" in a else ""

    def handle_data(self, data: str) -> None:
        if self._inside and self._select and getattr(self, "_text", ""):
            self.fields[self._text], self._text = data.strip(), ""

    def handle_endtag(self, tag: str) -> None:
        if tag == "select":
            self._select = ""
        if tag == "form":
            self._inside = False


def form_of(axis: Axis, who: User, step: str) -> dict[str, str]:
    page = Form()
    page.feed(client_of(who).get(f"/axis/{axis.pk}/{step}/").content.decode())
    assert page.fields
    return page.fields


def proven_everywhere(axis: Axis, who: User) -> None:
    for step in ("commutation", "current", "velocity"):
        run = RunRecord(kind=step, title=step, period=1e-3, channels={}, excitation={})
        found = Found(kind=step, label=step, value=1.0, unit="", run=0)
        keep_outcome(axis, step, Outcome(findings=[found], runs=[run], summary="1"), before={}, after={}, who=who)


@pytest.mark.parametrize("step", sorted(ENTRY_STEPS))
def test_a_form_saved_as_it_stands_makes_nothing_stale(lift: Axis, engineer: User, step: str) -> None:
    proven_everywhere(lift, engineer)
    sent = form_of(lift, engineer, step)
    answer = client_of(engineer).post(f"/axis/{lift.pk}/{step}/save/", {**sent, "save": "1"})
    assert answer.status_code == 302
    assert list(lift.findings.filter(state="stale").values_list("step", "stale_because")) == []
    assert not lift.events.filter(kind="values", text__startswith=f"{step} saved").exists()


def test_one_value_changed_is_the_one_that_is_named(lift: Axis, engineer: User) -> None:
    proven_everywhere(lift, engineer)
    sent = form_of(lift, engineer, "motor")
    sent["sheet.inductance"] = str(1.2 * float(sent["sheet.inductance"]))
    client_of(engineer).post(f"/axis/{lift.pk}/motor/save/", {**sent, "save": "1"})
    because = dict(lift.findings.filter(state="stale").values_list("step", "stale_because"))
    assert because["current"] == f"{REGISTRY['sheet.inductance'].label} changed"
    assert set(because.values()) == {because["current"]}
