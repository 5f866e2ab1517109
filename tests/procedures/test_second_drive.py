"""Procedures know nothing of a drive but what the protocol says: another implementation will do."""

import inspect
from collections.abc import Callable
from typing import Any

import pytest

from cadrel.core.axis import understand
from cadrel.link import Capabilities, Drive, LinkBroken, LinkedDrive
from cadrel.procedures import PROCEDURES, Session
from cadrel.procedures.route import consent_for, load_project_values
from tests.conftest import values_of

NAMES = {n for n, _ in inspect.getmembers(Drive, inspect.isfunction) if not n.startswith("_")}
KEPT = {"axis", "lease", "consent", "unattended"}


class OtherBus:
    """A drive behind some other bus: it has what `Drive` has, and not a name more."""

    def __init__(self, behind: LinkedDrive) -> None:
        object.__setattr__(self, "_behind", behind)

    def __getattr__(self, name: str) -> Any:
        if name not in NAMES | KEPT:
            raise AttributeError(f"a drive has no {name}")
        return getattr(object.__getattribute__(self, "_behind"), name)

    def __setattr__(self, name: str, value: Any) -> None:
        assert name in KEPT, name
        setattr(object.__getattribute__(self, "_behind"), name, value)


def test_a_procedure_runs_on_a_drive_that_has_only_what_the_protocol_says(
    make_drive: Callable[..., tuple[LinkedDrive, Any]],
) -> None:
    linked, _ = make_drive()
    drive: Drive = OtherBus(linked)  # type: ignore[assignment]
    with pytest.raises(AttributeError):
        drive.link  # type: ignore[attr-defined]  # noqa: B018
    values = values_of("tile-pusher")
    axis = understand(values)
    sent = load_project_values(drive, values, owner="test")
    for key in ("commutation", "current"):
        session = Session(drive=drive, axis=axis, consent=consent_for(key, axis, sent))
        outcome = PROCEDURES[key].run(session)
        assert outcome.verdict is not None
        assert outcome.verdict.is_proven, outcome.verdict.reason


def test_a_drive_tells_what_it_can_do_and_is_asked_once(make_drive: Callable[..., tuple[LinkedDrive, Any]]) -> None:
    drive, _ = make_drive()
    told = drive.capabilities()
    assert (told.rates.current, told.rates.velocity, told.rates.ticks) == (62.5e-6, 250e-6, 4)
    assert {"velocity", "i_q", "position"} <= set(told.signals)
    assert {"torque", "velocity", "voltage_d"} <= set(told.injection)
    assert told.memories == ("working", "permanent")
    assert drive.capabilities() is told


def test_an_identity_that_makes_no_sense_is_a_broken_link(
    make_drive: Callable[..., tuple[LinkedDrive, Any]], monkeypatch: pytest.MonkeyPatch
) -> None:
    drive, _ = make_drive()
    identity = drive.identity()
    with pytest.raises(ValueError, match="whole number"):
        Capabilities.from_identity({**identity, "velocity_period": 1.1e-4})
    for wrong in ({**identity, "velocity_period": 1.1e-4}, {k: v for k, v in identity.items() if k != "signals"}):
        monkeypatch.setattr(drive, "identity", lambda wrong=wrong: wrong)
        with pytest.raises(LinkBroken, match="unusable identity"):
            drive.capabilities()
