"""Friction over speed, measured on rigs whose friction is known."""

import math
from dataclasses import replace

import numpy as np
import pytest

from cadrel.core.identification import IdentifiedPlant, RubbedLoad, viscous_of_sampling
from cadrel.core.identification.load import SAMPLED_WITHIN
from cadrel.link import Recording
from cadrel.procedures import friction
from cadrel.procedures.errors import NotAllowed
from tests.conftest import rig_of
from tests.procedures.test_stops import Ready

LIFT = rig_of("kiln-car-lift")


def test_sliding_viscous_breakaway_and_where_it_fades_are_found_within_their_doubt() -> None:
    truth = replace(LIFT, breakaway_ratio=1.5, stribeck_speed=3.0, cogging=((24, 0.05, 20),))
    ready = Ready(truth)
    outcome, session = ready.run("friction")
    found = {f.kind.removeprefix("friction_"): f for f in outcome.findings}
    sliding = truth.coulomb_motor + truth.coulomb_load
    wanted = {
        "sliding": sliding, "viscous": truth.viscous_motor + truth.viscous_load, "breakaway": 1.5 * sliding,
        "stribeck": 3.0,
    }  # fmt: skip
    for key, value in wanted.items():
        finding = found[key]
        assert finding.std is not None
        assert abs(finding.value - value) < max(3 * finding.std, 0.02 * value), key
        assert finding.value == pytest.approx(value, rel=0.1), key
    assert isinstance(outcome.plant, RubbedLoad)
    assert outcome.plant.breakaway == pytest.approx(1.5 * sliding, rel=0.05)
    assert outcome.runs[0].curves["friction"]["breakaway"] == pytest.approx(1.5 * sliding, rel=0.1)
    assert session.drive.status()["mode"] == "off"


def test_what_currents_read_beside_the_middle_make_of_friction_is_in_its_doubt() -> None:
    """The same rig, its currents read a little before the middle of the PWM period and as much behind."""
    found = []
    for skew in (-SAMPLED_WITHIN, SAMPLED_WITHIN):
        ready = Ready(replace(LIFT, sampling_skew=skew))
        outcome, session = ready.run("friction")
        found.append(next(f for f in outcome.findings if f.kind == "friction_viscous"))
        doubt = viscous_of_sampling(session.axis.motor)
    assert abs(found[1].value - found[0].value) == pytest.approx(2 * doubt, rel=0.25)
    assert all(f.std is not None and f.std >= doubt for f in found)


@pytest.mark.parametrize("share", [0.3, 1.0, 3.0])
def test_it_never_runs_into_the_travel_it_was_given(share: float) -> None:
    travel = {"value": 60.0 * share, "unit": "mm", "source": "typed"}
    ready = Ready(LIFT, **{"procedure.travel": travel})
    begun = float(ready.client.status()["position"])
    places: list[float] = []
    advance = ready.client.link.wait

    def watched(seconds: float) -> None:
        advance(seconds)
        places.append(float(ready.drive.status()["position"]) - begun)

    ready.client.link.wait = watched  # type: ignore[method-assign]
    outcome, session = ready.run("friction")
    assert max(abs(p) for p in places) < session.consent.travel
    assert outcome.findings


def test_friction_that_does_not_rise_at_rest_has_no_breakaway() -> None:
    outcome, _ = Ready(replace(LIFT, breakaway_ratio=1.0)).run("friction")
    assert {f.kind for f in outcome.findings} == {"friction_sliding", "friction_viscous"}
    assert isinstance(outcome.plant, RubbedLoad)
    assert outcome.plant.breakaway is None


def test_without_a_load_or_room_it_is_refused_and_the_remedy_works() -> None:
    ready = Ready(LIFT)
    ready.plant = IdentifiedPlant()
    with pytest.raises(NotAllowed, match="not identified"):
        ready.run("friction")
    short = Ready(LIFT, **{"procedure.travel": {"value": 0.02, "unit": "mm", "source": "typed"}})
    with pytest.raises(NotAllowed, match="no room for a curve") as refusal:
        short.run("friction")
    assert "travel" in refusal.value.parts[2].lower()


def test_a_plant_found_with_another_load_takes_its_friction_along() -> None:
    plant = Ready(LIFT).plant
    rubbed = RubbedLoad(sliding=0.3, viscous=1e-3, breakaway=0.4, stribeck_speed=2.0)
    kept = IdentifiedPlant.from_dict(plant.with_part(rubbed).as_dict())
    assert kept.rubbed == rubbed
    assert plant.total is not None
    assert kept.with_part(plant.total).rubbed is None


@pytest.mark.parametrize(("swings", "is_kept"), [(0.05, True), (0.3, False)])
def test_a_speed_that_is_not_constant_gives_no_point(swings: float, is_kept: bool) -> None:
    """Slow stretches last longest: their friction, a third above that at the mean speed, would be taken for it."""
    t, mean = 5e-4 * np.arange(4000), 4.0
    position = mean * (t + swings * math.sqrt(2) * (1 - np.cos(2 * math.pi * 2 * t)) / (4 * math.pi))
    speed = np.gradient(position, t)
    ways = [
        Recording(
            5e-4, {"position": way * (position - 4.0), "velocity": way * speed, "i_q": way * (0.1 + 0.04 / speed)}
        )
        for way in (1.0, -1.0)
    ]
    point = friction._read(ways, mean, kt=1.0, inertia=0.0)
    assert (point is not None) is is_kept
    if point is not None:
        assert point.friction.value == pytest.approx(0.1 + 0.04 / mean, rel=0.02)
