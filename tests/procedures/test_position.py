"""The position loop around a velocity loop that swings, or trembles, once the axis is moved."""

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from cadrel.core.control import Gains, TwoMass, Winding, velocity_plant
from cadrel.core.identification import SpringyLoad, Unrest
from cadrel.core.response import FrequencyResponse
from cadrel.core.tuning import noise_behind
from cadrel.procedures import PROCEDURES, Session, position
from cadrel.procedures.errors import AxisStopped
from cadrel.procedures.judging import RIPPLE, SWUNG
from cadrel.procedures.position import EASED, LOWER
from cadrel.procedures.velocity.seen import FIRMLY, WITHIN, budget
from tests.procedures.test_stops import LIFT, Ready

Look = Callable[..., tuple[float, float]]
STIFF = TwoMass(inertia_motor=LIFT.inertia_motor + LIFT.inertia_load, viscous=LIFT.viscous_motor)


def _ready(monkeypatch: pytest.MonkeyPatch, look: Look) -> Ready:
    ready = Ready()
    frequency = np.geomspace(2.0, 900.0, 60)
    values = ready.client.read()
    plant = velocity_plant(STIFF, Winding.from_drive(values), Gains.from_drive(values), frequency)
    measured = FrequencyResponse(frequency, plant, np.ones(60), np.abs(plant) / 100)
    found = SpringyLoad(load=STIFF, small_signal_resistance=values["motor.resistance"], measured=measured, noise=0.05)
    ready.plant = ready.plant.with_part(found)
    monkeypatch.setattr(position, "at_rest_when_moved", look)
    return ready


def _swings(session: Session) -> None:
    """What a drive does of a loop that swings ever wider."""
    session.swings += 1
    session.write({k: session.values[k] / 2 for k in EASED if k != "velocity.reset_time"})


def _stopped() -> AxisStopped:
    return AxisStopped(phase="looking for hunting at rest", reason="oscillation", hint="")


def test_a_loop_that_swings_until_the_drive_stops_it_has_a_lower_position_gain_next(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    tried: list[float] = []

    def look(session: Session, *_: Any, **__: Any) -> tuple[float, float]:
        tried.append(session.values["position.gain"])
        if len(tried) == 1:
            _swings(session)
            raise _stopped()
        return 0.0, 0.0

    ready = _ready(monkeypatch, look)
    before = Gains.from_drive(ready.client.read())
    outcome, _ = ready.run("position")
    assert tried[1] == pytest.approx(LOWER * tried[0])
    assert outcome.plant is None and outcome.verdict is not None and SWUNG not in outcome.verdict.missed
    assert (outcome.changes | outcome.withheld)["position.gain"] == pytest.approx(tried[1])
    assert Gains.from_drive(ready.client.read()).velocity_gain == pytest.approx(before.velocity_gain)


def _always_stopped(session: Session, *_: Any, **__: Any) -> tuple[float, float]:
    _swings(session)
    raise _stopped()


def _always_trembling(session: Session, *_: Any, **__: Any) -> tuple[float, float]:
    return 3 * budget(session), 0.0


@pytest.mark.parametrize(("look", "missed"), [(_always_stopped, SWUNG), (_always_trembling, RIPPLE)])
def test_what_no_position_gain_ends_sends_the_route_back_to_the_velocity_loop(
    look: Look, missed: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    ready = _ready(monkeypatch, look)
    before = Gains.from_drive(ready.client.read())
    outcome, session = ready.run("position")
    assert outcome.verdict is not None and missed in outcome.verdict.missed
    assert PROCEDURES["position"].again(outcome.verdict.missed) == "velocity"
    assert any("velocity loop" in remark for remark in outcome.verdict.remarks)
    left = Gains.from_drive(ready.client.read())
    assert left.position_gain == pytest.approx(before.position_gain)
    assert left.velocity_gain == pytest.approx(before.velocity_gain)
    bears = noise_behind(WITHIN * budget(session), before)
    assert isinstance(outcome.plant, Unrest) and outcome.plant.noise == pytest.approx(FIRMLY * bears)


def test_a_stop_for_another_reason_is_told_and_leaves_the_gains_from_before(monkeypatch: pytest.MonkeyPatch) -> None:
    def look(session: Session, *_: Any, **__: Any) -> tuple[float, float]:
        session.write({"velocity.gain": session.values["velocity.gain"] / 2})
        raise _stopped()

    ready = _ready(monkeypatch, look)
    before = Gains.from_drive(ready.client.read())
    with pytest.raises(AxisStopped):
        ready.run("position")
    left = Gains.from_drive(ready.client.read())
    assert (left.velocity_gain, left.position_gain) == pytest.approx((before.velocity_gain, before.position_gain))
