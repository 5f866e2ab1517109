"""What a session says when the drive stops the axis by itself."""

import math
from collections.abc import Callable
from typing import Any

import pytest

from cadrel.core.axis import understand
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkedDrive
from cadrel.procedures import PROCEDURES, Consent, Session, run_commutation
from cadrel.procedures.errors import AxisStopped
from cadrel.procedures.route import load_project_values
from tests.conftest import rig_of, values_of
from tests.core.simulation.test_drive import ready  # noqa: F401 - a fixture: commutated, led from here

Ready = tuple[LinkedDrive, SimulatedDrive]


def stopped(ready: Ready, consent: Consent, act: Callable[[LinkedDrive], Any]) -> AxisStopped:  # noqa: F811
    drive, _ = ready
    session = Session(drive=drive, axis=understand(values_of("tile-pusher")), consent=consent)
    session.refresh()
    with pytest.raises(AxisStopped) as caught, session.enabled("velocity"):
        act(drive)
        session.hold(3.0)
    return caught.value


def test_a_guard_on_speed_says_how_fast_it_was_and_what_was_agreed_to(ready: Ready) -> None:  # noqa: F811
    error = stopped(ready, Consent(travel=1e3, speed=20.0), lambda drive: drive.run_at(60.0))
    # 24 mm a motor turn: 20 rad/s are 76.4 mm/s.
    assert " mm/s, 76.4 were agreed to" in error.text
    assert "It was told to run slower" in error.text
    assert "agree to more" not in error.text


def test_a_guard_on_travel_says_where_it_stood(ready: Ready) -> None:  # noqa: F811
    error = stopped(ready, Consent(travel=math.pi, speed=100.0), lambda drive: drive.run_at(20.0))
    assert "it reached 12 mm, the end of the -12 to 12 agreed to" in error.text  # half a turn is 12 mm
    assert "told to run slower" not in error.text


def test_gains_that_the_drive_halved_are_noticed_and_read(ready: Ready) -> None:  # noqa: F811
    drive, simulated = ready
    session = Session(drive=drive, axis=understand(values_of("tile-pusher")), consent=Consent(travel=1e3, speed=500.0))
    session.refresh()
    # Far beyond what one sample of delay bears, on the motor alone as on all that moves.
    wild = 2 * math.pi * 900 * simulated.truth.inertia_motor
    session.write({"velocity.gain": wild, "velocity.reset_time": 0.02, "velocity.torque_filter": 300.0})
    session.enter("a try", 0.5)
    with session.enabled("velocity"):
        drive.run_at(2.0, acceleration=1e4)
        session.hold(0.5)
    assert session.swings >= 1
    assert session.values["velocity.gain"] == pytest.approx(wild * 0.5**session.swings)
    assert session.values["velocity.gain"] == drive.read()["velocity.gain"]
    assert session.written["velocity.gain"] == wild, "what swung, and not what was left of it"
    assert any("swung ever wider" in note and note.startswith("A try") for note in session.notes)


def test_a_fault_that_the_run_brought_about_is_reset_once_the_axis_stands(ready: Ready) -> None:  # noqa: F811
    drive, simulated = ready
    session = Session(drive=drive, axis=understand(values_of("tile-pusher")), consent=Consent(travel=1e3, speed=500.0))
    session.refresh()
    session.write({
        "velocity.gain": 2 * math.pi * 900 * simulated.truth.inertia_motor, "velocity.reset_time": 0.02,
        "velocity.torque_filter": 300.0, "velocity.oscillation_reaction": 1.0,
    })  # fmt: skip
    with pytest.raises(AxisStopped) as caught, session.enabled("velocity"):
        drive.run_at(2.0, acceleration=1e4)
        session.hold(0.5)
    assert caught.value.ran_away and not caught.value.ran_too_fast
    assert "halving its gains did not end it" in caught.value.text or "swung ever wider" in caught.value.text
    assert drive.status()["fault"] == "oscillation"
    session.stand_again()
    assert not drive.status()["fault"]
    with session.enabled("vector"):
        pass


def test_an_axis_behind_a_slow_loop_is_stopped_before_its_power_is_cut(
    make_drive: Callable[..., tuple[LinkedDrive, SimulatedDrive]],
) -> None:
    rig = rig_of("tile-pusher", coulomb_motor=5e-4, coulomb_load=5e-4, cogging=())
    drive, simulated = make_drive(rig)
    axis = understand(values_of("tile-pusher"))
    sent = load_project_values(drive, values_of("tile-pusher"), owner="test")
    run_commutation(Session(drive=drive, axis=axis, consent=PROCEDURES["commutation"].consent(axis, sent)))
    session = Session(drive=drive, axis=axis, consent=Consent(travel=200.0, speed=120.0))
    session.refresh()
    inertia, lag = simulated.truth.inertia_motor + simulated.truth.inertia_load, 0.2
    session.write({"velocity.gain": inertia / lag, "velocity.reset_time": 5 * lag, "load.inertia": inertia})
    assert session.loop_lag == pytest.approx(1.2 * lag), "a fifth more, its integral being five times as slow"
    with session.enabled("velocity"):
        session.run_at(20.0)
        session.hold(1.0)
        assert session.drive.status()["velocity"] > 10.0
    here = float(session.drive.status()["position"])
    assert abs(session.standstill()["position"] - here) < 2.0  # let go at speed it runs on for a hundred times that


def test_a_drive_that_has_stopped_by_itself_is_told_a_speed_and_says_why_it_stopped(ready: Ready) -> None:  # noqa: F811
    drive, _ = ready
    session = Session(drive=drive, axis=understand(values_of("tile-pusher")), consent=Consent(travel=1e3, speed=20.0))
    session.refresh()
    with pytest.raises(AxisStopped, match=r"76\.4 were agreed to"), session.enabled("velocity"):
        drive.run_at(60.0)
        drive.wait(0.5)  # nobody looked
        session.command_speed(5.0, acceleration=100.0)
