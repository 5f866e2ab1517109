"""Whole routes on axes that are harder than the usual: what is found is held against what the bench is.

The bounds are those the product states for itself (docs/evidence/accuracy.md); the truth is the bench's, which the
procedures cannot see.
"""

import functools
import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from cadrel.bench import DriveService
from cadrel.cli.commission import commission_in_process
from cadrel.cli.draws import draw_bench
from cadrel.cli.evidence import score
from cadrel.cli.true_angle import true_error
from cadrel.cli.unkind_draws import draw_at_ends, draw_unkind
from cadrel.core.axis import understand
from cadrel.core.identification import IdentifiedPlant, SpringyLoad
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive, rated_torque
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures import PROCEDURES, Outcome, Session
from cadrel.procedures.errors import HallEdgesMoved
from cadrel.procedures.phasing.faults import WiredWrongly
from cadrel.procedures.route import RouteResult, load_project_values
from tests.conftest import rig_of, values_of


def springy(truth: RigTruth, *, ratio: float, anti_hz: float, damping: float = 0.03) -> dict[str, Any]:
    """A load of that ratio to the motor on a spring, with the anti-resonance where it is said."""
    load = ratio * truth.inertia_motor
    stiffness = load * (2 * math.pi * anti_hz) ** 2
    return {
        "inertia_load": load, "stiffness": stiffness,
        "damping": 2 * damping * math.sqrt(stiffness * load * truth.inertia_motor / (load + truth.inertia_motor)),
    }  # fmt: skip


def rubbing(truth: RigTruth) -> dict[str, Any]:
    """Viscous friction on the load that fills an anti-resonance at 55 Hz."""
    spring = springy(truth, ratio=1.0, anti_hz=55.0, damping=0.015)
    return spring | {"viscous_load": 2 * 0.015 * math.sqrt(spring["stiffness"] * spring["inertia_load"])}


def bench_of(number: int, change: Any) -> tuple[RigTruth, dict[str, Entry]]:
    """A drawn bench, changed, and the sheet of the changed one as far as an engineer would know it."""
    truth, values = draw_bench(np.random.default_rng([31, number]))
    truth = replace(truth, **change(truth))
    values["mechanics.load_inertia"] = {**values["mechanics.load_inertia"], "value": 0.8e4 * truth.inertia_load}
    values["goal.following_error"] = {**values["goal.following_error"], "value": 30}
    values["goal.settling_time"] = {**values["goal.settling_time"], "value": 400}
    values["tuning.matters"] = {"value": "disturbance", "source": "typed"}  # what is found is asked, not how it settles
    return truth, values


@functools.cache
def commissioned(number: int, change: Any) -> tuple[RigTruth, RouteResult, float]:
    """The bench, its route, and the drive's time at the end; run once for all that look at it."""
    truth, values = bench_of(number, change)
    result, drive = commission_in_process(values, truth, seed=number)
    return truth, result, drive.time


def test_an_awkward_axis_is_found_as_it_is() -> None:
    truth, result, time = commissioned(1, rubbing)
    assert set(result.outcomes) >= {"commutation", "current", "load", "velocity", "position"}, result.reason
    found = score(1, truth, result, drive_time=time)
    assert found.within(), found
    by_kind = {f.kind: f.value for o in result.outcomes.values() for f in o.findings}
    assert by_kind["resistance"] == pytest.approx(truth.resistance, rel=0.01)
    assert by_kind["inductance_q"] == pytest.approx(truth.inductance_q, rel=0.02)
    assert by_kind["flux"] == pytest.approx(truth.flux_linkage, rel=0.01)


def test_what_rubs_on_the_load_is_identified_apart_from_the_shafts_damping() -> None:
    truth, result, _ = commissioned(1, rubbing)
    found = result.outcomes["velocity"].plant
    assert isinstance(found, SpringyLoad)
    model = found.load
    assert model.viscous_load == pytest.approx(truth.viscous_load, rel=0.35)
    assert model.damping == pytest.approx(truth.damping, rel=0.35)
    assert model.stiffness == pytest.approx(truth.stiffness, rel=0.04)


def found_on(seed: int, number: int, steps: tuple[str, ...]) -> tuple[RigTruth, SimulatedDrive, dict[str, Outcome]]:
    """A bench as unkind as machines are, and what some steps of the route found on it."""
    truth, values = draw_unkind(np.random.default_rng([seed, number]))
    simulated = SimulatedDrive("axis", truth, seed=seed + number)
    service = DriveService({"axis": simulated})
    drive, axis = LinkedDrive(LocalLink(service.answer, service.advance), "axis"), understand(values)
    sent = load_project_values(drive, values, owner="test")
    plant, outcomes = IdentifiedPlant(), {}
    for key in steps:
        session = Session(drive=drive, axis=axis, consent=PROCEDURES[key].consent(axis, sent), plant=plant)
        outcomes[key] = PROCEDURES[key].run(session)
        plant = plant.with_part(outcomes[key].plant)
    return truth, simulated, outcomes


def test_a_heavy_hanging_load_goes_along_with_the_vector_and_does_not_fall() -> None:
    # Thirty times the motor, a third of the rated torque hanging: turned from a jump it was slung past the vector.
    truth, simulated, outcomes = found_on(77, 27, ("commutation",))
    assert truth.torque_load > 0.3 * rated_torque(truth) and truth.inertia_load > 25 * truth.inertia_motor
    assert outcomes["commutation"].verdict is not None and outcomes["commutation"].verdict.is_proven
    assert abs(true_error(simulated)) < 6.0
    assert "guard" not in {e["kind"] for e in simulated.events}, "it never left the room agreed to"


def test_a_shaft_that_friction_held_where_the_vector_began_has_lost_no_counts() -> None:
    # One pole pair, a load that hangs, breakaway half again of sliding: 11 degrees apart, before and after one turn.
    truth, simulated, outcomes = found_on(8228, 9, ("commutation",))
    assert truth.torque_load != 0.0 and truth.pole_pairs == 1
    assert outcomes["commutation"].verdict is not None and outcomes["commutation"].verdict.is_proven
    assert abs(true_error(simulated)) < 3.0


def test_halls_that_two_turns_put_far_apart_are_turned_past_once_more_with_more_current() -> None:
    # A hanging load and friction of a fifth of the torque: 4 and 6.6 A put the edges 9 degrees apart.
    _, simulated, outcomes = found_on(70707, 3, ("commutation",))
    assert outcomes["commutation"].verdict is not None and outcomes["commutation"].verdict.is_proven
    assert abs(true_error(simulated)) < 6.0


def test_where_no_more_current_may_be_had_the_halls_are_refused_for_what_holds_the_shaft(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("cadrel.procedures.phasing.halls_alone.STRONGER", 1.0)
    with pytest.raises(HallEdgesMoved) as refusal:
        found_on(70707, 3, ("commutation",))
    assert refusal.value.facts["apart"] == pytest.approx(9.0, abs=1.0)
    assert "raise “Current limit" in refusal.value.text and "unloaded" in refusal.value.text


@pytest.mark.parametrize("slip", [0.03, 0.05])
def test_a_coupling_that_slips_loses_as_much_on_every_turn(slip: float) -> None:
    truth, values = rig_of("tile-pusher", coupling_slip=slip), values_of("tile-pusher")
    simulated = SimulatedDrive("axis", truth, seed=4)
    service = DriveService({"axis": simulated})
    drive, axis = LinkedDrive(LocalLink(service.answer, service.advance), "axis"), understand(values)
    sent = load_project_values(drive, values, owner="test")
    procedure = PROCEDURES["commutation"]
    with pytest.raises(WiredWrongly, match=r"Counts are lost, or the coupling"):
        procedure.run(Session(drive=drive, axis=axis, consent=procedure.consent(axis, sent), plant=IdentifiedPlant()))


def test_friction_that_changes_along_the_travel_leaves_an_inertia_with_its_doubt() -> None:
    truth, _, outcomes = found_on(77, 34, ("commutation", "current", "load"))
    whole = truth.inertia_motor + truth.inertia_load + truth.inertia_third
    (load,) = [f for f in outcomes["load"].findings if f.kind == "load"]
    assert outcomes["load"].verdict is not None and outcomes["load"].verdict.is_proven
    assert load.std is not None
    assert load.value == pytest.approx(whole, rel=0.08)
    assert abs(load.value - whole) < 3 * load.std


def test_a_heavy_shaft_slung_on_the_long_way_is_turned_again_more_slowly() -> None:
    # Twenty-two times its motor: it went along for a turn and a half, and was thrown past the quicker vector after it.
    truth, simulated, outcomes = found_on(92417, 169, ("commutation",))
    assert outcomes["commutation"].verdict is not None and outcomes["commutation"].verdict.is_proven
    assert (truth.inertia_load + truth.inertia_third) / truth.inertia_motor > 20
    assert abs(true_error(simulated)) < 1.0


def test_a_shaft_slung_by_the_first_vector_is_begun_with_again_from_where_it_rests() -> None:
    # One pole pair and a fifth of the torque in friction: let go beside the vector it swings faster than agreed to.
    truth, values = draw_at_ends(np.random.default_rng([717, 17]))
    simulated = SimulatedDrive("axis", truth, seed=734)
    service = DriveService({"axis": simulated})
    drive, axis = LinkedDrive(LocalLink(service.answer, service.advance), "axis"), understand(values)
    sent = load_project_values(drive, values, owner="test")
    procedure = PROCEDURES["commutation"]
    session = Session(drive=drive, axis=axis, consent=procedure.consent(axis, sent), plant=IdentifiedPlant())
    outcome = procedure.run(session)
    assert any("begun again from where it came to rest" in note for note in session.notes)
    assert outcome.verdict is not None and outcome.verdict.is_proven
    assert abs(true_error(simulated)) < 3.0


def test_a_load_that_swings_back_while_it_is_pushed_is_not_taken_for_one_that_sticks() -> None:
    # A spring of 42 Hz behind a small motor: the shortest push is half its period, the motor runs ahead of its load.
    truth, simulated, outcomes = found_on(90125, 10, ("commutation",))
    assert truth.stiffness < 1.0
    assert outcomes["commutation"].verdict is not None and outcomes["commutation"].verdict.is_proven
    assert abs(true_error(simulated)) < 3.0
