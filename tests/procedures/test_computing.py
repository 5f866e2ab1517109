"""A computation that takes long: the drive hears of its run meanwhile, and STOP ends the waiting."""

import threading

import pytest

from cadrel.core.axis import understand
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkedDrive
from cadrel.procedures import Consent, Session
from cadrel.procedures.computing import computed
from cadrel.procedures.errors import Aborted, StoppedByHand
from tests.conftest import values_of
from tests.core.simulation.test_drive import ready

__all__ = ["ready"]


def session_on(drive: LinkedDrive) -> Session:
    return Session(drive=drive, axis=understand(values_of("tile-pusher")), consent=Consent(travel=1.0, speed=10.0))


def test_what_it_gives_and_what_it_raises_come_to_the_one_who_waits() -> None:
    assert computed(lambda: 6 * 7, meanwhile=lambda: None) == 42
    with pytest.raises(ZeroDivisionError):
        computed(lambda: 1 // 0, meanwhile=lambda: None)


def test_meanwhile_goes_on_until_it_has_ended() -> None:
    enough, looks = threading.Event(), []

    def look() -> None:
        looks.append(threading.current_thread())
        if len(looks) == 5:
            enough.set()

    assert computed(enough.wait, meanwhile=look, every=0.001)
    assert len(looks) >= 5
    assert set(looks) == {threading.current_thread()}, "who waits looks, not a thread beside"


def test_a_consent_outlives_a_computation_of_any_length(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    """A search took 27 s on a busy machine: for 20 s the drive had heard nothing, and it refused the next word."""
    drive, simulated = ready
    drive.consent = drive.give_consent("run", until=drive.status()["time"] + 20.0)
    enough, looks = threading.Event(), []
    link_call = drive.link.call

    def call(method: str, params: dict[str, object]) -> object:
        simulated.advance(8.0)  # of drive time, between two words of the run
        looks.append(method)
        if len(looks) == 6:
            enough.set()
        return link_call(method, params)

    drive.link.call = call  # type: ignore[method-assign]
    session_on(drive).computed(enough.wait)
    drive.link.call = link_call  # type: ignore[method-assign]
    assert simulated.time > 40.0
    consent = simulated.status()["consent"]
    assert consent is not None and consent["label"] == "run"


def test_stop_and_abort_end_the_waiting(ready: tuple[LinkedDrive, SimulatedDrive]) -> None:
    drive, _ = ready
    never = threading.Event()
    session = session_on(drive)
    session.is_aborted = lambda: True
    with pytest.raises(Aborted):
        session.computed(never.wait)
    session = session_on(drive)
    session.seen(drive.status())
    LinkedDrive(drive.link, "axis").stop("vera (observer) pressed STOP", press="p1", by="vera (observer)")
    with pytest.raises(StoppedByHand):
        session.computed(never.wait)
