"""The planned move on the twin, on the acceptance page."""

import json
import re

import pytest
from django.contrib.auth.models import User

from cadrel.core.motion import move_profile
from cadrel.core.twin import Twin
from cadrel.procedures.real_move import gentlest_limits
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import wanted_values
from cadrel.web.runs.plant import plant_of
from tests.web.conftest import client_of, text_of

pytestmark = pytest.mark.django_db


def test_without_an_identified_load_it_says_what_is_missing(engineer: User, axis: Axis) -> None:
    page = text_of(client_of(engineer).get(f"/axis/{axis.pk}/acceptance/"))
    assert "Identify the load first" in page
    assert "nothing has moved" not in page


def test_figures_and_plot_are_those_of_the_twin_in_the_axis_unit(engineer: User, measured: Axis) -> None:
    page = text_of(client_of(engineer).get(f"/axis/{measured.pk}/acceptance/"))
    model, wanted = measured.understood, wanted_values(measured)
    twin = Twin.of_identified(model, wanted, plant_of(measured), measured.rates)
    alone = twin.run(move_profile(model.goal.distance, **gentlest_limits(model.goal, wanted)))
    lag = abs(alone.position_ref - alone.position)[alone.moving > 0.5].max() * model.mechanism.unit_per_rad
    row = re.search(r"Following error</th><td><b>([\d.e-]+) mm</b>", page)
    assert row is not None
    assert float(row[1]) == pytest.approx(lag, rel=0.01)
    plot = next(json.loads(s) for s in re.findall(r"<script[^>]*json[^>]*>(.*?)</script>", page) if "on the twin" in s)
    shown = {s["key"]: s for s in plot["series"]}
    assert max(shown["following_error"]["y"]) == pytest.approx(lag, rel=0.02)
    highest = alone.position.max() * model.mechanism.unit_per_rad
    assert max(shown["position"]["y"]) == pytest.approx(highest, rel=0.01)
    assert shown["i_q"]["unit"] == "A peak"


def test_room_tells_with_which_inertia_the_goal_is_still_met(engineer: User, measured: Axis) -> None:
    page = text_of(client_of(engineer).get(f"/axis/{measured.pk}/acceptance/"))
    assert re.search(r"with (more than )?[\d.]+ times the inertia|it would not meet the goal", page)


def test_an_observer_sees_the_twin_too(measured: Axis) -> None:
    watcher = User.objects.create_user("vera", password="a-long-password")
    assert "The move on the twin" in text_of(client_of(watcher).get(f"/axis/{measured.pk}/acceptance/"))
