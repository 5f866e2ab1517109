"""Axes of the evidence's draws that once were refused wrongly, or ran into what a procedure chose itself."""

import math
from dataclasses import replace

import numpy as np
import pytest

from cadrel.bench import DriveService
from cadrel.cli.commission import commission_in_process
from cadrel.cli.phasing_draws import with_fault
from cadrel.cli.phasing_evidence import bench_that_can, try_bench
from cadrel.cli.true_angle import true_error
from cadrel.cli.true_plant import resonances, true_loops
from cadrel.cli.unkind_draws import draw_unkind
from cadrel.core.axis import understand
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures import PROCEDURES, Session
from cadrel.procedures.route import load_project_values


@pytest.mark.parametrize(
    ("seed", "number", "device"),
    [
        pytest.param(7771, 31, "halls", id="a light shaft is pushed no faster than agreed to, by what Halls let pass"),
        pytest.param(7771, 16, "resolver", id="a salient rotor behind a brake is no coupling with play"),
        pytest.param(8882, 91, "incremental", id="of one pole pair, pushed within one Hall sector"),
        pytest.param(30303, 149, "resolver", id="a motor that swings on its shaft is confirmed by strokes"),
        pytest.param(30303, 166, "incremental", id="another one, of faint current"),
        pytest.param(30303, 6, "halls", id="of much inductance, whose flux voltages hardly tell"),
        pytest.param(262626, 8, "sincos", id="a heavy hanging load on one pole pair is not thrown from angle to angle"),
        pytest.param(515151, 34, "incremental", id="of 500 lines, its shaft hardly damped: it swings as it spins"),
    ],
)
def test_the_angle_is_found_and_lies_within_its_doubt(seed: int, number: int, device: str) -> None:
    truth, values = draw_unkind(np.random.default_rng([seed, number]))
    assert truth.device == device
    _finds_the_angle(truth, values, seed=seed + number)


def test_two_turns_with_the_only_current_there_is_tell_no_doubt_of_their_own() -> None:
    """Behind a brake, Halls alone: the limit leaves no more than the continuous current for the second turn."""
    truth, values = draw_unkind(np.random.default_rng([30303, 6]))
    assert truth.brake_torque and truth.device == "halls"
    _finds_the_angle(truth, values | {"limit.current": values["sheet.current_continuous"]}, seed=30309)


def _finds_the_angle(truth: RigTruth, values: dict[str, Entry], *, seed: int) -> None:
    simulated = SimulatedDrive("axis", truth, seed=seed)
    service = DriveService({"axis": simulated})
    drive, axis = LinkedDrive(LocalLink(service.answer, service.advance), "axis"), understand(values)
    sent = load_project_values(drive, values, owner="test")
    procedure = PROCEDURES["commutation"]
    outcome = procedure.run(Session(drive=drive, axis=axis, consent=procedure.consent(axis, sent)))
    assert outcome.verdict is not None and outcome.verdict.is_proven
    doubt = math.degrees(next(f.std for f in outcome.findings if f.kind == "commutation") or math.nan)
    assert abs(true_error(simulated)) <= max(2 * doubt, 0.5)


def test_play_shows_on_a_shaft_that_rings_near_the_highest_line() -> None:
    """A resonance of 927 Hz as a small swing meets it, 1040 Hz closed: a loop made for the soft one had a peak of 2."""
    truth, values = draw_unkind(np.random.default_rng([120240, 33]))
    assert truth.backlash_deg == pytest.approx(0.002, abs=5e-4)
    result, _ = commission_in_process(values, truth, seed=120273)
    assert result.status == "proven", result.reason
    found = {f.kind: f for f in result.outcomes["velocity"].findings}
    assert found["play"].value == pytest.approx(truth.backlash_deg, rel=0.2)
    assert "shaft" in result.outcomes["velocity"].runs[found["play"].run].curves, "it points at the run that shows it"
    assert found["closed_resonance"].value == pytest.approx(resonances(truth)[0], rel=0.03)
    for drift in (0.95, 1.0, 1.05):
        rig = replace(truth, stiffness=drift**2 * truth.stiffness)
        loop = true_loops(rig, result.parameters)["velocity"]
        assert loop.is_stable and loop.margins.sensitivity_peak < 1.8


@pytest.mark.parametrize("number", [2, 8, 19, 25, 31])
def test_a_stop_on_one_side_is_named_by_halls_alone(number: int) -> None:
    """They show sectors: the shaft went along, stood, and was pulled back by the vector that turned on."""
    bench = bench_that_can(np.random.default_rng([4242, number]), "stop_on_one_side", "halls")
    assert bench is not None
    outing = try_bench(with_fault(bench, "stop_on_one_side"), seed=number)
    assert outing.codes == ("end_stop",)


@pytest.mark.parametrize("number", [0, 1, 2])
@pytest.mark.parametrize("fault", ["low_current", "brake_closed", "stiction"])
def test_what_is_held_back_by_halls_alone_is_no_stop(fault: str, number: int) -> None:
    bench = bench_that_can(np.random.default_rng([5151, sum(map(ord, fault)), number]), fault, "halls")
    assert bench is not None
    outing = try_bench(with_fault(bench, fault), seed=number)
    assert outing.codes == ("did_not_follow",)
