"""What is asked of a loop is typed on its own page."""

import pytest
from django.contrib.auth.models import User

from cadrel.core.parameters import EntryProblem, check_entry
from cadrel.web.projects.models import Axis
from cadrel.web.route.asked import asked_keys, set_asked
from tests.web.conftest import client_of, text_of

pytestmark = pytest.mark.django_db


def test_every_value_of_a_loop_has_a_slider_or_a_field() -> None:
    assert asked_keys("current")[0] == "current.bandwidth"
    assert {"current.dead_voltage", "current.dead_current", "current.offset_a"} <= set(asked_keys("current"))
    assert {"tuning.phase_margin", "tuning.gain_margin", "tuning.sensitivity_peak"} <= set(asked_keys("velocity"))
    assert "velocity.notch_width" in asked_keys("velocity")
    assert {"position.velocity_feedforward", "position.acceleration_feedforward"} <= set(asked_keys("position"))
    assert asked_keys("load") == []


def test_margins_are_typed_kept_and_asked_from_then_on(lift: Axis, engineer: User) -> None:
    client = client_of(engineer)
    page = text_of(client.get(f"/axis/{lift.pk}/velocity/"))
    assert "Asked for" in page
    assert "Phase margin, at least" in page
    answer = client.post(f"/axis/{lift.pk}/asked/velocity/", {"tuning.phase_margin": "52,5", "tuning.gain_margin": "9"})
    assert answer.status_code == 302
    lift = Axis.objects.get(pk=lift.pk)
    assert lift.values["tuning.phase_margin"]["value"] == 52.5
    assert round(57.29578 * lift.understood.robustness.phase_margin, 3) == 52.5
    assert 'value="52.5"' in text_of(client.get(f"/axis/{lift.pk}/velocity/"))


def test_a_choice_is_kept_as_its_key_and_understood(lift: Axis, engineer: User) -> None:
    client = client_of(engineer)
    for step, key, option in (
        ("velocity", "velocity.oscillation_reaction", "1"), ("current", "current.dead_shape", "1"),
    ):  # fmt: skip
        assert client.post(f"/axis/{lift.pk}/asked/{step}/", {key: option}).status_code == 302
        lift = Axis.objects.get(pk=lift.pk)
        assert lift.values[key]["value"] == option
        page = text_of(client.get(f"/axis/{lift.pk}/{step}/"))
        assert f'<option value="{option}" selected' in page
    assert check_entry("current.dead_shape", {"value": 1.0}) == 1.0, "as it was kept before"
    with pytest.raises(EntryProblem, match="not one of the choices"):
        set_asked(lift, "velocity", {"velocity.oscillation_reaction": "7"}, who=engineer)


def test_what_matters_most_is_chosen_by_name_and_asked_from_then_on(lift: Axis, engineer: User) -> None:
    client = client_of(engineer)
    assert '<option value="settling" selected' in text_of(client.get(f"/axis/{lift.pk}/velocity/"))
    client.post(f"/axis/{lift.pk}/asked/velocity/", {"tuning.matters": "overshoot"})
    lift = Axis.objects.get(pk=lift.pk)
    assert lift.values["tuning.matters"]["value"] == "overshoot"
    asked = lift.understood.robustness
    assert asked.matters == "overshoot" and asked.load_peak_db == 0.5
    assert '<option value="overshoot" selected' in text_of(client.get(f"/axis/{lift.pk}/velocity/"))
    with pytest.raises(EntryProblem, match="not one of the choices"):
        set_asked(lift, "velocity", {"tuning.matters": "speed"}, who=engineer)


@pytest.mark.parametrize("typed", ["much", "-3", "1e400", ""])
def test_what_cannot_be_asked_is_refused_whole(lift: Axis, engineer: User, typed: str) -> None:
    before = lift.newest_number
    if typed:
        with pytest.raises(EntryProblem, match="Peak sensitivity"):
            set_asked(lift, "velocity", {"tuning.phase_margin": "50", "tuning.sensitivity_peak": typed}, who=engineer)
    else:
        assert set_asked(lift, "velocity", {"tuning.sensitivity_peak": typed}, who=engineer) == []
    assert Axis.objects.get(pk=lift.pk).newest_number == before


def test_an_observer_asks_nothing(lift: Axis) -> None:
    looker = User.objects.create_user("looker", password="a-long-password")
    answer = client_of(looker).post(f"/axis/{lift.pk}/asked/velocity/", {"tuning.phase_margin": "60"})
    assert answer.status_code == 403
    assert "tuning.phase_margin" not in Axis.objects.get(pk=lift.pk).values
