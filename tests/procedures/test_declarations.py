"""What procedures declare of themselves is enough for page, worker and command line."""

import pytest

from cadrel.core.axis import drive_values, understand
from cadrel.core.parameters import STEPS
from cadrel.procedures import PROCEDURES, Argument, Procedure, in_order
from cadrel.procedures.declaration import declare, plan_within_travel
from cadrel.procedures.errors import NotAllowed
from tests.conftest import values_of

ROUTE = ["commutation", "current", "load", "velocity", "position", "acceptance"]


def test_the_route_runs_them_in_working_order_and_each_belongs_to_a_step() -> None:
    assert [p.key for p in in_order()] == ROUTE
    assert {p.step for p in PROCEDURES.values()} <= {s.key for s in STEPS}


def test_a_second_one_of_the_same_name_is_refused() -> None:
    with pytest.raises(ValueError, match="two procedures load"):
        declare(PROCEDURES["load"])


@pytest.mark.parametrize("key", sorted(PROCEDURES))
def test_each_says_in_words_what_it_will_do_and_asks_consent_for_just_that(key: str) -> None:
    values = values_of("glaze-arm")
    axis, held = understand(values), drive_values(values)
    plan, consent = PROCEDURES[key].plan(axis, held), PROCEDURES[key].consent(axis, held)
    assert (consent.travel, consent.speed) == (plan.travel, plan.speed)
    assert plan.text.endswith(".")
    assert plan.seconds > 0
    assert (plan.travel > 0) is PROCEDURES[key].moves
    if key == "acceptance":
        assert plan.travel > axis.goal.distance
        assert f"{axis.goal.repeats} times" in plan.text


def test_a_blocker_hinders_all_but_what_is_there_to_clear_it() -> None:
    angle = {"step": "commutation", "code": "angle"}
    door = {"step": "drive", "code": "safe_torque_off"}
    assert not PROCEDURES["commutation"].hinders(angle)
    assert not PROCEDURES["power_up"].hinders(angle)
    assert PROCEDURES["velocity"].hinders(angle)
    assert PROCEDURES["commutation"].hinders(door)
    assert not PROCEDURES["feedback"].hinders(door)  # nothing is switched on


def made(**bounds: float) -> Procedure:
    how_often = Argument(
        key="repeats", label="How often", unit="", low=1, high=200, whole=True, preset=lambda axis: 3.0
    )
    return Procedure(
        key="a move", step="acceptance", does="Go", run=PROCEDURES["load"].run, plan=plan_within_travel("x", 1.0),
        arguments=(how_often,),
    )  # fmt: skip


def test_arguments_are_checked_by_what_was_declared_and_what_is_empty_keeps_its_preset() -> None:
    assert made().given({"repeats": "12", "other": "7"}) == {"repeats": 12.0}
    assert made().given({"repeats": " "}) == made().given({}) == {}
    for text in ("0", "201", "2.5", "nan", "inf", "many", "1e999"):
        with pytest.raises(NotAllowed, match="whole number from 1 to 200"):
            made().given({"repeats": text})
