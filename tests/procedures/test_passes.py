"""Passes one after the other: power stays on, each begins where the one before ended, and the axis comes home."""

from collections.abc import Callable

import numpy as np
import pytest

from cadrel.core.axis import understand
from cadrel.core.response import random_multisine
from cadrel.core.simulation import SimulatedDrive
from cadrel.link import LinkedDrive, Recording
from cadrel.procedures import PROCEDURES, Consent, Session, run_commutation
from cadrel.procedures.errors import AxisStopped, StuckInPass
from cadrel.procedures.passes import (
    LEAD_IN,
    LED,
    REACH,
    beside,
    fastest_pass,
    lead_in,
    one_after_the_other,
    one_pass,
    to_and_fro,
)
from cadrel.procedures.route import load_project_values
from tests.conftest import values_of

PERIOD = 512


@pytest.fixture
def ready(make_drive: Callable[..., tuple[LinkedDrive, SimulatedDrive]]) -> tuple[Session, SimulatedDrive]:
    """The tile pusher with its angle known."""
    drive, simulated = make_drive()
    axis = understand(values_of("tile-pusher"))
    sent = load_project_values(drive, values_of("tile-pusher"), owner="test")
    consent = PROCEDURES["commutation"].consent(axis, sent)
    run_commutation(Session(drive=drive, axis=axis, consent=consent))
    session = Session(drive=drive, axis=axis, consent=Consent(travel=20.0, speed=120.0))
    session.refresh()
    return session, simulated


def test_several_passes_take_one_time_of_power_and_no_way_twice(ready: tuple[Session, SimulatedDrive]) -> None:
    session, simulated = ready
    home = float(session.drive.status()["position"])
    seconds = 3 * PERIOD * session.rates.velocity
    speed = fastest_pass(session, seconds)
    assert speed * (seconds + beside(session)) == pytest.approx(REACH * session.consent.travel)
    signal = random_multisine(np.arange(3, 40), n_samples=PERIOD, rms=0.02, rng=np.random.default_rng(1))
    enabled = sum(e["kind"] == "enabled" for e in session.drive.events(0))
    records, ends = [], []
    with to_and_fro(session, "velocity", home, speed=speed):
        for way in (1.0, -1.0, 1.0, -1.0):
            begun = simulated.time
            records.append(
                one_pass(session, ("velocity", "position"), "torque", signal, home=home, speed=way * speed, repeats=3)
            )
            ends.append(simulated.time - begun)
    assert sum(e["kind"] == "enabled" for e in session.drive.events(0)) == enabled + 1
    for way, record in zip((1.0, -1.0, 1.0, -1.0), records, strict=True):
        assert len(record["excitation"]) == 3 * PERIOD
        np.testing.assert_allclose(record["excitation"][:PERIOD], signal, atol=1e-6)
        assert np.mean(record["velocity"]) == pytest.approx(way * speed, rel=0.05)
        assert np.abs(record["position"] - home).max() < session.consent.travel
    # Beside its injection a pass takes two gentle ramps, the time to settle, and what its loop runs on; nothing is
    # driven back.
    assert max(ends[1:]) < seconds + 0.75 + 5 * session.loop_lag
    assert float(session.drive.status()["position"]) == pytest.approx(home, abs=0.1 * session.consent.travel)
    assert session.drive.status()["mode"] == "off"
    joined = one_after_the_other(records)
    np.testing.assert_array_equal(joined["velocity"][3 * PERIOD : 6 * PERIOD], records[1]["velocity"])


def test_what_counts_begins_once_the_axis_moves_as_it_goes_on(ready: tuple[Session, SimulatedDrive]) -> None:
    """Both periods of a pass are alike but for friction and noise; without its lead-in the first still settles."""
    session, _ = ready
    home = float(session.drive.status()["position"])
    lead = lead_in(session, 4 * PERIOD)
    assert lead * session.rates.velocity > LEAD_IN
    assert lead_in(session, 100) == 100, "no more than a period"
    speed = fastest_pass(session, 2 * PERIOD * session.rates.velocity + 0.5)
    signal = random_multisine(np.arange(2, 30), n_samples=PERIOD, rms=0.05, rng=np.random.default_rng(1))
    apart = {}
    with to_and_fro(session, "velocity", home, speed=speed):
        for samples in (0, min(lead, PERIOD)):
            record = one_pass(
                session, ("velocity",), "torque", signal, home=home, speed=speed, repeats=2, lead=samples
            )  # fmt: skip
            np.testing.assert_allclose(record["excitation"], np.tile(signal, 2), atol=1e-6)
            first, second = record["velocity"].reshape(2, PERIOD)
            apart[samples] = float(np.sqrt(np.mean((first - second) ** 2)))
    none, led = apart.values()
    assert led < 0.25 * none


def test_an_axis_is_stopped_before_its_record_is_fetched(
    ready: tuple[Session, SimulatedDrive], monkeypatch: pytest.MonkeyPatch
) -> None:
    """To fetch takes as long as a line takes; an axis that ran on meanwhile would leave what was agreed to."""
    session, _ = ready
    home = float(session.drive.status()["position"])
    fetch = session.drive.recording
    moving: list[bool] = []

    def slowly() -> object:
        for _ in range(15):
            session.drive.wait(0.1)
            session.drive.beat()
        moving.append(bool(session.drive.status()["moving"]))
        return fetch()

    monkeypatch.setattr(type(session.drive), "recording", lambda self: slowly())
    signal = random_multisine(np.arange(3, 40), n_samples=PERIOD, rms=0.02, rng=np.random.default_rng(1))
    speed = fastest_pass(session, 3 * PERIOD * session.rates.velocity)
    with to_and_fro(session, "velocity", home, speed=speed):
        one_pass(session, ("velocity",), "torque", signal, home=home, speed=speed, repeats=3)
    assert moving == [False]


def test_a_pass_ends_in_time_though_nobody_says_so(
    ready: tuple[Session, SimulatedDrive], monkeypatch: pytest.MonkeyPatch
) -> None:
    """A machine too busy to end it must not let the axis run out of what was agreed to."""
    session, _ = ready
    home = float(session.drive.status()["position"])
    command = Session.command_speed
    passing: list[bool] = []

    def late(self: Session, speed: float, **how: float) -> None:
        if how.get("lasts"):
            passing.append(True)
        elif passing and passing.pop():
            for _ in range(30):  # 1.5 s, in which the axis would go on for more than the travel
                self.drive.wait(0.05)
                self.drive.beat()
        command(self, speed, **how)

    monkeypatch.setattr(Session, "command_speed", late)
    signal = random_multisine(np.arange(3, 40), n_samples=PERIOD, rms=0.02, rng=np.random.default_rng(1))
    seconds = 3 * PERIOD * session.rates.velocity + LEAD_IN
    speed = fastest_pass(session, seconds)
    assert 1.5 * speed > session.consent.travel
    with to_and_fro(session, "velocity", home, speed=speed):
        record = one_pass(session, ("position",), "torque", signal, home=home, speed=speed, repeats=3)
        assert abs(session.look()["position"] - home) < session.consent.travel
    assert len(record["position"]) == 3 * PERIOD


def test_a_pass_that_is_blocked_ends_without_power(ready: tuple[Session, SimulatedDrive]) -> None:
    session, _ = ready
    session.consent = Consent(travel=0.2, speed=120.0)  # far less than the pass is told to cover
    home = float(session.drive.status()["position"])
    signal = random_multisine(np.arange(3, 40), n_samples=PERIOD, rms=0.02, rng=np.random.default_rng(1))
    with pytest.raises(AxisStopped), to_and_fro(session, "velocity", home, speed=20.0):
        one_pass(session, ("velocity",), "torque", signal, home=home, speed=20.0, repeats=3)
    assert session.standstill()["mode"] == "off"


def test_a_loop_too_weak_for_the_friction_is_told_as_that(ready: tuple[Session, SimulatedDrive]) -> None:
    session, simulated = ready
    held = simulated.truth.coulomb_motor + simulated.truth.coulomb_load
    session.write({"velocity.gain": 0.2 * held, "velocity.reset_time": 2.0, "load.inertia": 1e-5})
    signal = random_multisine(np.arange(3, 40), n_samples=PERIOD, rms=0.02, rng=np.random.default_rng(1))
    home = float(session.drive.status()["position"])
    with (
        pytest.raises(StuckInPass, match=r"stood in its friction.*Raise"),
        to_and_fro(session, "velocity", home, speed=1.0),
    ):
        one_pass(session, ("velocity",), "torque", signal, home=home + 0.5, speed=1.0, repeats=3)


def test_friction_that_the_load_run_found_is_given_directly(ready: tuple[Session, SimulatedDrive]) -> None:
    """A loop too weak by itself carries the axis; the record holds no more than a constant of it."""
    session, simulated = ready
    held = simulated.truth.coulomb_motor + simulated.truth.coulomb_load
    session.write({"velocity.gain": 0.14 * held, "velocity.reset_time": 10.0, "load.inertia": 1e-5})
    signal = random_multisine(np.arange(3, 40), n_samples=PERIOD, rms=0.02, rng=np.random.default_rng(1))
    home = float(session.drive.status()["position"])
    before = session.drive.read()["position.friction_feedforward"]

    def passed() -> Recording:
        with to_and_fro(session, "velocity", home, speed=6.0):
            return one_pass(
                session, ("velocity", "torque_cmd"), "torque", signal, home=home + 0.5, speed=6.0, repeats=3
            )  # fmt: skip

    session.write({"load.friction": 0.0})
    with pytest.raises(StuckInPass):
        passed()
    session.stand_again()
    session.write({"load.friction": held})
    assert np.mean(passed()["torque_cmd"]) > LED * held
    assert session.drive.read()["position.friction_feedforward"] == before, "taken back, as it was"
