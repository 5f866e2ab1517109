"""The experts' way on the stand-in: same move, quicker gains until it squeals, two steps back."""

import pytest

from cadrel.core.identification import IdentifiedPlant
from cadrel.procedures import PROCEDURES, Aborted, Session, climb
from cadrel.procedures.climb import BACK, FORWARD, KNOB, MOST_STEPS, RAISE
from cadrel.procedures.errors import NotAllowed
from tests.conftest import rig_of
from tests.procedures.test_stops import Ready

LIFT = rig_of("kiln-car-lift")


def ready_for_its_move() -> Ready:
    """The lift's axis where its move fits between the travel limits."""
    ready = Ready(LIFT)
    values = ready.client.read()
    ready.client.set_position(
        0.5 * (values["limit.travel_min"] + values["limit.travel_max"] - ready.axis.goal.distance)
    )
    return ready


@pytest.fixture(scope="module")
def climbed():
    ready = ready_for_its_move()
    outcome, session = ready.run("climb")
    return outcome, session


def test_every_try_is_kept_and_the_last_is_two_steps_below_the_squeal(climbed) -> None:
    outcome, session = climbed
    factors = [r.metrics["factor"] for r in outcome.runs]
    assert factors[:2] == [1.0, 1.0]  # as it was, then with feedforward
    found = {f.kind: f.value for f in outcome.findings}
    assert found["climb_squeal"] == pytest.approx(found["climb_factor"] * RAISE**BACK)
    assert factors[2:-1] == pytest.approx([RAISE**k for k in range(1, len(factors) - 2)])
    assert max(factors) == pytest.approx(found["climb_squeal"] / RAISE)  # the one that squealed made no move
    quiet = session.axis.robustness.ripple
    assert all(r.metrics["ripple"] <= quiet for r in outcome.runs)
    assert any("squeals" in note or "ran away" in note for note in session.notes)
    assert len(outcome.runs) <= MOST_STEPS + 3


def test_the_same_move_is_followed_better_and_the_drive_holds_what_is_proposed(climbed) -> None:
    outcome, session = climbed
    first, forward, last = outcome.runs[0].metrics, outcome.runs[1].metrics, outcome.runs[-1].metrics
    assert forward["following_error"] < 0.5 * first["following_error"]  # the lag v / Kv is gone
    assert last["following_error"] < forward["following_error"]
    assert last["settling_time"] is not None
    held = session.drive.read()
    assert {k: held[k] for k in (*KNOB, *FORWARD)} == pytest.approx(outcome.changes)
    assert outcome.runs[0].in_force["velocity.gain"] < outcome.runs[-1].in_force["velocity.gain"]
    assert outcome.verdict is None  # no margin was measured: nothing is proven


def test_ended_on_the_way_it_puts_the_gains_back() -> None:
    ready = ready_for_its_move()
    before = ready.client.read()
    most = []

    def enough() -> bool:
        most.append(ready.client.read()["velocity.gain"])
        return most[-1] > 1.2 * before["velocity.gain"]

    declared = PROCEDURES["climb"]
    session = Session(
        drive=ready.client, axis=ready.axis, consent=declared.consent(ready.axis, before), plant=ready.plant,
        is_aborted=enough,
    )  # fmt: skip
    with pytest.raises(Aborted):
        declared.run(session)
    after = ready.client.read()
    assert {k: after[k] for k in (*KNOB, *FORWARD)} == {k: before[k] for k in (*KNOB, *FORWARD)}
    assert max(most) > 1.2 * before["velocity.gain"]


def test_without_a_load_it_is_refused() -> None:
    ready = ready_for_its_move()
    ready.plant = IdentifiedPlant()
    with pytest.raises(NotAllowed, match="not identified"):
        ready.run("climb")


def test_an_axis_that_does_not_squeal_is_left_at_the_top_and_no_squeal_is_claimed(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr(climb, "MOST_STEPS", 2)
    outcome, session = ready_for_its_move().run("climb")
    found = {f.kind: f.value for f in outcome.findings}
    assert "climb_squeal" not in found
    assert found["climb_factor"] == pytest.approx(RAISE**2)
    assert outcome.margins == {}
    assert any("did not squeal" in note for note in session.notes)
