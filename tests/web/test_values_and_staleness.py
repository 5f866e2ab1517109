"""Value sets, staleness, proposals, jobs: what the database keeps."""

from typing import Any

import numpy as np
import pytest
from django.contrib.auth.models import Group, User
from django.db import IntegrityError, transaction

from cadrel.core.axis import drive_values
from cadrel.core.control import TwoMass
from cadrel.core.identification import SpringyLoad, TotalLoad
from cadrel.core.parameters import STEPS, Entry, invalidated_by, steps_after
from cadrel.core.response import FrequencyResponse
from cadrel.core.tuning import load_of
from cadrel.core.verdict import at_most, decide
from cadrel.procedures import Finding as Found
from cadrel.procedures import Outcome, RunRecord
from cadrel.web.changes.outcomes import keep_outcome, keep_unfinished, take_proposal
from cadrel.web.changes.projects import create_project
from cadrel.web.changes.values import save_entries
from cadrel.web.jobs.models import Job
from cadrel.web.projects.models import Axis
from cadrel.web.route.sheets import route_of
from cadrel.web.route.sources import choose_source, sources_of
from cadrel.web.runs.models import Event, Finding, PlantPart
from cadrel.web.runs.plant import plant_of
from cadrel.web.runs.shape import miniature, reduce_min_max
from tests.conftest import values_of

pytestmark = pytest.mark.django_db


@pytest.fixture
def engineer() -> User:
    user = User.objects.create_user("tester", password="a-long-password")
    user.groups.add(Group.objects.get_or_create(name="engineer")[0])
    return user


@pytest.fixture
def axis(engineer: User) -> Axis:
    made = create_project(
        name="P", machine="M", drive="D", host="127.0.0.1", port=1, axis="A", remote="a", author=engineer
    )
    save_entries(made, values_of("tile-pusher"), author=engineer, cause="entered")
    return made


def outcome(gain: float = 0.2, *, peak: float = 1.6) -> Outcome:
    """A tuned velocity loop whose measured sensitivity peak was asked to stay under 1.7."""
    time = np.arange(100.0)
    return Outcome(
        findings=[Found(kind="velocity_loop", label="Bandwidth", value=80.0, unit="Hz", run=0)],
        verdict=decide("velocity_loop", [at_most("sensitivity peak", 1.7, peak)], run=0),
        changes={"velocity.gain": gain, "velocity.reset_time": 0.01},
        runs=[
            RunRecord(
                kind="velocity_step", title="Step", period=1e-3, channels={"velocity": np.sin(time)}, excitation={}
            )
        ],
        summary="80 Hz",
    )


def keep(axis: Axis, who: Any, gain: float = 0.2) -> Any:
    return keep_outcome(
        axis,
        "velocity",
        outcome(gain),
        before={"velocity.gain": 0.05, "velocity.reset_time": 0.05},
        after={"velocity.gain": gain, "velocity.reset_time": 0.01},
        who=who,
    )


def test_a_value_set_is_numbered_linked_and_immutable(axis: Axis, engineer: User) -> None:
    before = axis.latest_set()
    made = save_entries(axis, {"position.gain": {"value": 55.0, "unit": "1/s"}}, author=engineer, cause="by hand")
    assert made is not None
    assert made.number == before.number + 1
    assert made.parent == before
    with pytest.raises(ValueError, match="immutable"):
        made.save()


def test_saving_the_same_again_makes_no_new_set(axis: Axis, engineer: User) -> None:
    assert save_entries(axis, values_of("tile-pusher"), author=engineer, cause="again") is None


def test_every_step_rests_only_on_steps_before_it() -> None:
    order = [s.key for s in STEPS]
    for step in STEPS:
        assert all(order.index(n) < order.index(step.key) for n in step.needs)
        assert step.key not in steps_after(step.key)
    assert invalidated_by("motor")[:3] == ("commutation", "current", "load")
    assert "commutation" not in invalidated_by("velocity")


def test_a_changed_inductance_makes_what_rested_on_it_stale_and_says_which(axis: Axis, engineer: User) -> None:
    take_proposal(keep(axis, engineer), ["velocity.gain", "velocity.reset_time"], who=engineer)
    assert axis.findings.get().state == "proven"
    save_entries(
        axis,
        {"sheet.inductance": {"value": 12.0, "unit": "mH", "convention": "line_to_line"}},
        author=engineer,
        cause="sheet read again",
    )
    found = axis.findings.get()
    assert found.state == "stale"
    assert found.stale_because == "Winding inductance changed"


def test_a_changed_position_gain_leaves_the_velocity_loop_proven(axis: Axis, engineer: User) -> None:
    take_proposal(keep(axis, engineer), ["velocity.gain", "velocity.reset_time"], who=engineer)
    save_entries(axis, {"position.gain": {"value": 60.0, "unit": "1/s"}}, author=engineer, cause="by hand")
    assert axis.findings.get().state == "proven"


def test_a_run_keeps_its_samples_and_the_values_in_force(axis: Axis, engineer: User) -> None:
    keep(axis, engineer)
    run = axis.runs.get()
    np.testing.assert_allclose(run.arrays()["velocity"], np.sin(np.arange(100.0)), atol=1e-6)
    assert run.value_set == axis.latest_set()
    assert run.drive_values["velocity.gain"] == 0.2
    assert run.thumbnail


def test_findings_wait_for_the_decision_and_partly_taken_is_not_proven(axis: Axis, engineer: User) -> None:
    proposal = keep(axis, engineer)
    assert axis.findings.get().state == "measured"
    left = take_proposal(proposal, ["velocity.gain"], who=engineer)
    assert [c["key"] for c in left] == ["velocity.reset_time"]
    assert proposal.state == "partly"
    assert axis.values["velocity.gain"]["value"] == pytest.approx(0.2)
    assert "velocity.reset_time" not in axis.values
    assert axis.findings.get().state == "stale"


def test_taking_a_proposal_takes_values_and_proves_nothing(axis: Axis, engineer: User) -> None:
    missed = keep_outcome(
        axis, "velocity", outcome(peak=1.9), before={"velocity.gain": 0.05}, after={"velocity.gain": 0.2}, who=engineer
    )
    take_proposal(missed, ["velocity.gain", "velocity.reset_time"], who=engineer)
    assert axis.findings.get().state == "measured"
    verdict = axis.verdicts.get()
    assert (verdict.state, verdict.reason) == ("not proven", "sensitivity peak measured 1.9, asked at most 1.7")
    assert verdict.run == axis.runs.get()
    row = next(r for r in route_of(axis, "") if r["key"] == "velocity")
    assert (row["state"], row["line"]) == ("missed", f"not proven: {verdict.reason}")


def test_gains_that_went_back_are_offered_apart_and_change_nothing(axis: Axis, engineer: User) -> None:
    found = outcome(peak=1.9)
    found.withheld, found.changes = found.changes, {}
    before = axis.latest_set()
    assert keep_outcome(axis, "velocity", found, before={"velocity.gain": 0.05}, after={}, who=engineer) is None
    assert axis.proposals.get().state == "withheld"
    assert axis.latest_set() == before


def test_a_claim_without_a_run_cannot_be_stored(axis: Axis, engineer: User) -> None:
    bare = outcome()
    bare.runs = []
    with pytest.raises(IndexError), transaction.atomic():
        keep_outcome(axis, "velocity", bare, before={}, after={}, who=engineer)
    with pytest.raises(IntegrityError), transaction.atomic():
        Finding.objects.create(
            axis=axis, step="velocity", kind="x", label="x", value=1.0, unit="", value_set=axis.latest_set(),
            state="measured",
        )  # fmt: skip
    assert not axis.findings.exists()


def test_a_load_run_retires_the_plant_found_before(axis: Axis, engineer: User) -> None:
    two = TwoMass(inertia_motor=1e-4, inertia_load=2e-4, stiffness=300.0, damping=0.02, viscous=1e-4, viscous_load=1e-4)
    one = np.ones(3)
    springy = SpringyLoad(load=two, small_signal_resistance=9.0, measured=FrequencyResponse(one, one + 0j, one, one))
    keep_outcome(axis, "velocity", Outcome(plant=springy, runs=outcome().runs), before={}, after={}, who=engineer)
    assert load_of(plant_of(axis), {"load.inertia": 3e-4}) == (two, "identified model")
    heavier = Outcome(plant=TotalLoad(inertia=9e-4, viscous_total=5e-4, coulomb=0.1), runs=outcome().runs)
    keep_outcome(axis, "load", heavier, before={}, after={}, who=engineer)
    plant = plant_of(axis)
    load, origin = load_of(plant, {"load.inertia": 9e-4})
    assert origin == "identified inertia, rigid"
    assert (load.inertia, load.viscous, load.stiffness) == (9e-4, 5e-4, None)
    assert plant.springy is None
    gone = axis.plant_parts.get(part="springy")  # kept as history, with the run that showed it
    assert gone.retired_because == f"found anew by {axis.plant_parts.get(part='total').run}"


def test_a_part_of_the_plant_without_a_run_cannot_be_stored(axis: Axis) -> None:
    with pytest.raises(IntegrityError), transaction.atomic():
        PlantPart.objects.create(axis=axis, part="total", values={}, value_set=axis.latest_set())
    assert not axis.plant_parts.exists()


def test_a_refused_proposal_changes_nothing_in_the_project(axis: Axis, engineer: User) -> None:
    before = axis.latest_set()
    take_proposal(keep(axis, engineer), [], who=engineer)
    assert axis.latest_set() == before
    assert axis.proposals.get().state == "refused"


def test_the_card_of_a_run_says_what_changed_since_the_run_before(axis: Axis, engineer: User) -> None:
    keep(axis, engineer, 0.2)
    keep(axis, engineer, 0.3)
    assert axis.runs.order_by("-number").first().changed == ["Velocity loop: gain"]


def test_a_step_before_the_proposal_keeps_the_values_it_ran_with(axis: Axis, engineer: User) -> None:
    found = outcome(0.2)
    first = RunRecord(
        kind="velocity_step", title="Before", period=1e-3, channels={"velocity": np.ones(9)}, excitation={},
        in_force={"velocity.gain": 0.05},
    )  # fmt: skip
    found.runs.insert(0, first)
    after = {"velocity.gain": 0.2, "velocity.reset_time": 0.01}
    keep_outcome(axis, "velocity", found, before={"velocity.gain": 0.05}, after=after, who=engineer)
    before, step = axis.runs.order_by("number")
    assert (before.drive_values["velocity.gain"], step.drive_values["velocity.gain"]) == (0.05, 0.2)
    assert step.changed == ["Velocity loop: gain"]


def test_an_interrupted_run_keeps_what_it_had_and_is_not_proof(axis: Axis, engineer: User) -> None:
    take_proposal(keep(axis, engineer), ["velocity.gain", "velocity.reset_time"], who=engineer)
    partial = RunRecord(kind="x", title="pass 2", period=1e-3, channels={"velocity": np.ones(10)}, excitation={})
    keep_unfinished(axis, "velocity", partial, after={}, who=engineer, kind="interrupted", why="The line went dead.")
    assert axis.runs.order_by("-number").first().title == "Interrupted: pass 2"
    assert axis.findings.get().state == "stale"


def test_a_refused_tuning_run_is_kept_and_leaves_what_was_proven(axis: Axis, engineer: User) -> None:
    take_proposal(keep(axis, engineer), ["velocity.gain", "velocity.reset_time"], who=engineer)
    partial = RunRecord(kind="x", title="plant", period=1e-3, channels={"velocity": np.ones(10)}, excitation={})
    keep_unfinished(
        axis, "velocity", partial, after={}, who=engineer, kind="refused", why="No gains honour the margins."
    )
    kept = axis.runs.order_by("-number").first()
    assert (kept.title, kept.notes) == ("Refused: plant", "No gains honour the margins.")
    assert axis.findings.get().state == "proven"
    keep_unfinished(axis, "velocity", None, after={}, who=engineer, kind="refused", why="Nothing was recorded.")
    assert axis.runs.order_by("-number").first() == kept


def test_only_one_job_of_an_axis_is_active(axis: Axis, engineer: User) -> None:
    Job.objects.create(axis=axis, procedure="load", who=engineer)
    with pytest.raises(IntegrityError), transaction.atomic():
        Job.objects.create(axis=axis, procedure="velocity", who=engineer)


def test_what_changes_values_is_in_the_event_log_with_its_author(axis: Axis, engineer: User) -> None:
    save_entries(axis, {"position.gain": {"value": 61.0, "unit": "1/s"}}, author=engineer, cause="by hand")
    event = Event.objects.filter(axis=axis, kind="values").first()
    assert event.who == engineer
    assert "Position gain" in event.text


def test_reducing_keeps_every_extreme() -> None:
    rng = np.random.default_rng(2)
    y = rng.normal(size=100_003).astype(np.float32)
    y[50_001] = 40.0
    index, reduced = reduce_min_max(y, pairs=500)
    assert len(reduced) == 1000
    assert reduced.max() == 40.0
    assert reduced.min() == y.min()
    assert np.all(np.diff(index) > 0)
    assert len(miniature({"position": np.sin(np.arange(5000.0) / 300)}, {}).split()) == 120


FOUND: dict[str, Entry | None] = {
    "motor.resistance": {"value": 1.36, "unit": "ohm", "source": "identified"},
    "motor.flux_linkage": {"value": 100.0, "unit": "mWb", "source": "identified"},
    "current.gain": {"value": 17.0, "unit": "V/A", "source": "identified"},
    "load.inertia": {"value": 3.65, "unit": "kg·cm²", "source": "identified"},
    "position.gain": {"value": 55.0, "unit": "1/s", "source": "typed"},
}


def test_a_new_sheet_retires_what_was_identified_on_the_old_motor(axis: Axis, engineer: User) -> None:
    save_entries(axis, FOUND, author=engineer, cause="identified")
    found = Outcome(plant=TotalLoad(inertia=3.65e-4, viscous_total=0.0, coulomb=0.1), runs=outcome().runs)
    keep_outcome(axis, "load", found, before={}, after={}, who=engineer)
    sheet: dict[str, Entry | None] = {
        "sheet.resistance": {"value": 7.8, "unit": "ohm", "convention": "line_to_line", "source": "sheet"}
    }
    save_entries(axis, sheet, author=engineer, cause="another motor")
    sent = drive_values(axis.values)
    assert sent["motor.resistance"] == pytest.approx(3.9)  # what was typed goes out, not the 1.36 of the motor before
    assert not set(FOUND) - {"position.gain"} & set(axis.values)
    assert axis.values["position.gain"]["value"] == 55.0  # typed by hand: the engineer's own
    assert plant_of(axis).as_dict() == {}
    text = Event.objects.get(kind="retired").text
    assert text.startswith("Found on another motor or load, and no longer sent: ")
    assert "Phase resistance" in text


def test_another_load_retires_its_inertia_and_leaves_the_motors_values(axis: Axis, engineer: User) -> None:
    save_entries(axis, FOUND, author=engineer, cause="identified")
    heavier: dict[str, Entry | None] = {"mechanics.load_mass": {"value": 40.0, "unit": "kg", "source": "typed"}}
    save_entries(axis, heavier, author=engineer, cause="another load")
    assert "load.inertia" not in axis.values
    assert axis.values["motor.resistance"]["source"] == "identified"


def test_sheet_and_found_stand_side_by_side_and_one_action_changes_what_is_sent(axis: Axis, engineer: User) -> None:
    found = Outcome(
        findings=[Found(kind="resistance", label="Phase resistance", value=1.36, unit="ohm", std=0.01, run=0)],
        runs=outcome().runs,
    )
    keep_outcome(axis, "current", found, before={}, after={}, who=engineer)
    (row,) = sources_of(axis)
    assert (row["source"], row["sent"]) == ("sheet", row["sheet"])
    choose_source(axis, "motor.resistance", "found", who=engineer)
    (row,) = sources_of(axis)
    assert (row["source"], row["sent"]) == ("identified", row["found"])
    assert drive_values(axis.values)["motor.resistance"] == pytest.approx(1.36)
    choose_source(axis, "motor.resistance", "sheet", who=engineer)
    assert "motor.resistance" not in axis.values
