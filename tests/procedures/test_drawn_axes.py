"""Axes of the evidence's draws that once were refused wrongly, or ran into what a procedure chose itself."""

import math

import numpy as np
import pytest

from cadrel.bench import DriveService
from cadrel.cli.true_angle import true_error
from cadrel.cli.unkind_draws import draw_unkind
from cadrel.core.axis import understand
from cadrel.core.simulation import SimulatedDrive
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
    ],
)
def test_the_angle_is_found_and_lies_within_its_doubt(seed: int, number: int, device: str) -> None:
    truth, values = draw_unkind(np.random.default_rng([seed, number]))
    assert truth.device == device
    simulated = SimulatedDrive("axis", truth, seed=seed + number)
    service = DriveService({"axis": simulated})
    drive, axis = LinkedDrive(LocalLink(service.answer, service.advance), "axis"), understand(values)
    sent = load_project_values(drive, values, owner="test")
    procedure = PROCEDURES["commutation"]
    outcome = procedure.run(Session(drive=drive, axis=axis, consent=procedure.consent(axis, sent)))
    assert outcome.verdict is not None and outcome.verdict.is_proven
    doubt = math.degrees(next(f.std for f in outcome.findings if f.kind == "commutation") or math.nan)
    assert abs(true_error(simulated)) <= max(2 * doubt, 0.5)
