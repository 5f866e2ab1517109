"""Robust or quick on the velocity loop's page: the line that is drawn, and what dragging on it keeps."""

import math

import pytest
from django.contrib.auth.models import User

from cadrel.core.parameters import Entry
from cadrel.web.changes.values import save_entries
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import wanted_values
from tests.web.conftest import client_of

pytestmark = pytest.mark.django_db


def test_the_page_has_the_line_once_a_plant_is_measured_and_not_before(engineer: User, axis: Axis) -> None:
    client = client_of(engineer)
    assert 'data-module="front"' not in client.get(f"/axis/{axis.pk}/velocity/").content.decode()
    answer = client.get(f"/axis/{axis.pk}/front/")
    assert answer.status_code == 409
    assert "not measured yet" in answer.json()["problem"]


def test_the_line_goes_through_the_gains_kept_in_the_units_of_the_page(engineer: User, measured: Axis) -> None:
    client = client_of(engineer)
    shown = client.get(f"/axis/{measured.pk}/velocity/").content.decode()
    assert 'data-module="front"' in shown
    assert 'name="position.gain"' in shown  # moves along, without a slider on this page
    body = client.get(f"/axis/{measured.pk}/front/").json()
    values = wanted_values(measured)
    around = [p for p in body["points"] if 0.85 < p["factor"] < 1.15]
    assert around
    for p in around:
        assert p["gains"]["velocity.gain"] == pytest.approx(p["factor"] * values["velocity.gain"], rel=1e-3)
        assert p["gains"]["velocity.reset_time"] == pytest.approx(
            1e3 * values["velocity.reset_time"] / p["factor"], rel=1e-3
        )
        assert p["gains"]["position.gain"] == pytest.approx(p["factor"] * values["position.gain"], rel=1e-3)
        assert p["ripple"] > 0
    assert math.degrees(body["asked"]["phase_margin"]) == pytest.approx(45)


def test_a_point_dragged_to_is_kept_whole_the_position_gain_too(engineer: User, measured: Axis) -> None:
    client = client_of(engineer)
    slower = client.get(f"/axis/{measured.pk}/front/").json()["points"][4]
    client.post(f"/axis/{measured.pk}/gains/velocity/", {k: str(v) for k, v in slower["gains"].items()})
    kept = wanted_values(Axis.objects.get(pk=measured.pk))
    assert kept["velocity.gain"] == pytest.approx(slower["velocity_gain"], rel=1e-3)
    assert kept["velocity.reset_time"] == pytest.approx(slower["velocity_reset"], rel=1e-3)
    assert kept["position.gain"] == pytest.approx(slower["position_gain"], rel=1e-3)


def test_a_lag_goes_along_and_the_prediction_knows_it(engineer: User, measured: Axis) -> None:
    client = client_of(engineer)
    lag = {"zero": (100.0, "Hz"), "zero_damping": (0.45, ""), "pole": (62.0, "Hz"), "pole_damping": (1.0, "")}
    entries: dict[str, Entry] = {
        f"velocity.section2_{name}": {"value": value, "unit": unit, "source": "typed"}
        for name, (value, unit) in lag.items()
    }
    save_entries(measured, entries, author=engineer, cause="velocity loop by hand")
    shown = client.get(f"/axis/{measured.pk}/velocity/").content.decode()
    assert 'name="velocity.section2_pole" value="62" data-kept="62"' in shown
    slower = client.get(f"/axis/{measured.pk}/front/").json()["points"][4]
    assert slower["gains"]["velocity.section2_pole"] == pytest.approx(62.0 * slower["factor"], rel=1e-3)
    sent = {k: str(v) for k, v in slower["gains"].items()}
    stays = {k: v for k, v in sent.items() if "section" not in k}
    goes, left = (
        client.post(f"/axis/{measured.pk}/predict/velocity/", one).json()["now"]["margins"]["sensitivity_peak"]
        for one in (sent, stays)
    )
    assert goes != pytest.approx(left, rel=0.02)
