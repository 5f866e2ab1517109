"""What the current-loop run finds of inverter and sensors on the stand-in, and what giving it back does."""

import math
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from cadrel.core.axis import understand
from cadrel.core.control import Gains, Winding, closed, current_open
from cadrel.core.identification import Estimated, IdentifiedPlant
from cadrel.core.response import estimate_response, log_lines, schroeder_multisine
from cadrel.procedures import PROCEDURES, Outcome, Session
from cadrel.procedures.electrical import _note_temperature
from cadrel.procedures.route import load_project_values
from tests.conftest import rig_of, values_of

AXIS = "glaze-table"


def _measured(make_drive, **changes) -> tuple[Outcome, Session]:
    """Commutation, then the current loop, on an axis with another inverter."""
    drive, _ = make_drive(rig_of(AXIS, **changes))
    values = values_of(AXIS)
    axis = understand(values)
    sent = load_project_values(drive, values, owner="test")
    plant = IdentifiedPlant()
    for key in ("commutation", "current"):
        consent = PROCEDURES[key].consent(axis, sent)
        session = Session(drive=drive, axis=axis, consent=consent, plant=plant)
        outcome = PROCEDURES[key].run(session)
        plant = plant.with_part(outcome.plant)
    return outcome, session


@pytest.mark.parametrize("law", ["hyperbola", "exponential"])
def test_dead_time_and_offsets_are_found_and_most_of_the_lost_voltage_comes_back(make_drive, law: str) -> None:
    outcome, session = _measured(
        make_drive, dead_voltage=0.6, dead_current=0.12, dead_law=law, current_offset=(0.02, -0.013)
    )
    found = {f.kind: f.value for f in outcome.findings}
    assert found["dead_voltage"] == pytest.approx(0.6, rel=0.1)
    assert found["current_offset_a"] == pytest.approx(0.02, abs=2e-3)
    assert found["current_offset_b"] == pytest.approx(-0.013, abs=2e-3)
    assert next(r for r in outcome.runs if r.kind == "current_levels").metrics["dead_time_left"] < 0.15
    assert session.drive.read()["current.dead_voltage"] == pytest.approx(found["dead_voltage"])
    assert outcome.changes["current.offset_a"] == pytest.approx(found["current_offset_a"])


def _twice_per_turn(session: Session) -> float:
    """Second harmonic of the voltage along a vector that turns once, over its mean. [1]"""
    current, rate = 0.9 * session.current_continuous, 12.0
    with session.enabled("vector", brake_closed=False):
        session.drive.vector(angle=0.0, rate=rate, current=current, rise=4 * session.current_continuous)
        session.hold(0.8)
        for turns in (1, 2):  # the first turn brings the rotor along
            session.arm(["v_d", "angle_el"], seconds=2 * math.pi / rate, divider=4)
            session.drive.vector(angle=turns * 2 * math.pi, rate=rate, current=current, rise=current)
            record = session.recorded(at_most=2.0)
            session.hold(0.2)
    wave = np.exp(-2j * record["angle_el"])
    return float(2 * abs(np.mean(record["v_d"] * wave)) / record["v_d"].mean())


@pytest.mark.parametrize(
    "error", [0.03, -0.03]
)  # of a smaller one the judge's own noise leaves too little to halve twice
def test_the_second_current_sensors_gain_is_found_and_taken_out(make_drive, error: float) -> None:
    """The judge is the voltage of a turning vector: it waves twice a turn, by error / sqrt(3) of its mean.

    Chung and Sul, "Analysis and compensation of current measurement error in vector-controlled AC motor drives", IEEE
    Trans. Ind. Appl. 34 (1998) 340-345: a scaling error ripples at twice the electrical frequency (from memory; the
    factor 1/sqrt(3) follows from alpha = i_a, beta = (i_a + 2 i_b)/sqrt(3)).
    """
    outcome, session = _measured(make_drive, current_gain_error=error, dead_voltage=0.3)
    found = {f.kind: f for f in outcome.findings}
    assert found["sensor_gain_b"].value == pytest.approx(1 + error, abs=1e-3)
    assert found["resistance"].value == pytest.approx(rig_of(AXIS).resistance, rel=4e-3)
    assert outcome.changes["current.sensor_gain_b"] == session.drive.read()["current.sensor_gain_b"]
    corrected = _twice_per_turn(session)
    session.write({"current.sensor_gain_b": 1.0})
    left_in = _twice_per_turn(session)
    assert left_in == pytest.approx(abs(error) / math.sqrt(3), rel=0.25)
    assert corrected < 0.25 * left_in


def _closed_at_rest(session: Session, size: float) -> tuple[np.ndarray, np.ndarray]:
    """Closed current loop in d about zero current, at a small amplitude. [Hz], [1]"""
    lines = log_lines(2, 60, 25)
    signal = schroeder_multisine(lines, n_samples=1024, rms=size)
    with session.enabled("vector", brake_closed=session.axis.has_brake):
        record = session.excite_and_record(["i_d", "i_d_ref"], "current_d", signal, divider=1, repeats=8)
    seen = estimate_response(
        record["excitation"], record["i_d_ref"], record["i_d"], lines=lines, period=1024,
        rate_hz=1 / session.rates.current, skip=2,
    )  # fmt: skip
    return seen.frequency, seen.value


def test_small_currents_meet_the_loop_that_was_computed_once_dead_time_is_given_back(make_drive) -> None:
    """The judge is the linear loop of winding and gains, which knows of no dead time."""
    outcome, session = _measured(make_drive, dead_voltage=0.6, dead_current=0.12, dead_law="hyperbola")
    assert outcome.verdict is not None and outcome.verdict.is_proven
    size = 0.04 * session.current_continuous
    errors = {}
    for told, voltage in (("given back", session.values["current.dead_voltage"]), ("not", 0.0)):
        session.write({"current.dead_voltage": voltage})
        f, value = _closed_at_rest(session, size)
        ideal = closed(
            current_open(Winding.from_drive(session.values), Gains.from_drive(session.values, session.rates), f)
        )
        errors[told] = float(np.abs(value - ideal).max())
    assert errors["not"] > 0.2
    assert errors["given back"] < 0.4 * errors["not"]


def test_an_inverter_without_dead_time_is_left_alone(make_drive) -> None:
    outcome, session = _measured(make_drive, dead_voltage=0.0)
    assert session.drive.read()["current.dead_voltage"] == 0.0
    assert "dead_voltage" not in {f.kind for f in outcome.findings}
    assert any("dead time" in note for note in session.notes)


@pytest.mark.parametrize(("factor", "said"), [
    (1.0, "stands at 20 °C"), (1.2, "stands at 71 °C"),
    (2.0, "100 % above the sheet's"), (0.5, "50 % below the sheet's"),
])  # fmt: skip
def test_the_current_loop_says_how_warm_its_winding_was_or_that_no_winding_is(factor: float, said: str) -> None:
    """Copper, 0.393 % a kelvin; twice the sheet's resistance is no temperature but a sheet of two phases."""
    axis = understand(values_of("kiln-car-lift"))
    notes: list[str] = []
    session: Any = SimpleNamespace(axis=axis, note=notes.append)
    _note_temperature(session, Estimated(factor * axis.motor.resistance, 0.01))
    assert len(notes) == 1 and said in notes[0]
