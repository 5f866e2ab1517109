"""An offset from elsewhere or by hand: confirmed by pushes both ways, or refused, before any loop is unlocked."""

import math

import pytest

from cadrel.core.axis import understand
from cadrel.core.simulation import SimulatedDrive
from cadrel.procedures import PROCEDURES, Session
from cadrel.procedures.errors import ProcedureError
from cadrel.procedures.route import load_project_values
from tests.conftest import rig_of, values_of
from tests.procedures.test_hanging_loads import MakeDrive


def prepared(make_drive: MakeDrive, name: str, *, off_deg: float) -> tuple[Session, SimulatedDrive, float]:
    """An axis whose offset was found, then set off by so much and taken as not confirmed."""
    client, drive = make_drive(rig_of(name))
    values = values_of(name)
    sent = load_project_values(client, values, owner="test")  # type: ignore[arg-type]
    axis = understand(values)
    client.set_position(0.5 * (sent["limit.travel_min"] + sent["limit.travel_max"]))  # type: ignore[attr-defined]
    for key in ("commutation", "current"):
        session = Session(drive=client, axis=axis, consent=PROCEDURES[key].consent(axis, sent))  # type: ignore[arg-type]
        PROCEDURES[key].run(session)
    true = client.read()["commutation.offset"]  # type: ignore[attr-defined]
    client.write({  # type: ignore[attr-defined]
        "commutation.offset": math.remainder(true + math.radians(off_deg), math.tau), "commutation.valid": 0.0,
    })  # fmt: skip
    again = Session(drive=client, axis=axis, consent=PROCEDURES["confirm_offset"].consent(axis, sent))  # type: ignore[arg-type]
    return again, drive, true


@pytest.mark.parametrize("name", ["glaze-arm", "kiln-car-lift"])
def test_an_offset_a_little_off_is_confirmed_and_refined(make_drive: MakeDrive, name: str) -> None:
    session, drive, true = prepared(make_drive, name, off_deg=9.0)
    outcome = PROCEDURES["confirm_offset"].run(session)
    held = drive.memory.working
    assert held["commutation.valid"] == 1.0
    assert abs(math.degrees(math.remainder(held["commutation.offset"] - true, math.tau))) < 2
    assert outcome.verdict is not None
    assert outcome.verdict.is_proven


@pytest.mark.parametrize("off", [60.0, 120.0, 180.0, -90.0])
def test_a_wrong_offset_unlocks_nothing_and_the_axis_stays_within_what_was_agreed_to(
    make_drive: MakeDrive, off: float
) -> None:
    session, drive, _ = prepared(make_drive, "glaze-arm", off_deg=off)
    begun = float(drive.running.state.theta1)
    with pytest.raises(ProcedureError):
        PROCEDURES["confirm_offset"].run(session)
    assert drive.memory.working["commutation.valid"] == 0.0
    assert drive.status()["mode"] == "off"
    assert abs(float(drive.running.state.theta1) - begun) < 1.5 * session.consent.travel
