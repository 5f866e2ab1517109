"""The marked shaft turned once by hand, on the stand-in and on made-up recordings."""

import math
from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from cadrel.core.axis import understand
from cadrel.core.parameters import Entry
from cadrel.link import RefusedByDrive
from cadrel.link.stand_in import StandIn
from cadrel.procedures import Consent, Session, run_hand_test
from cadrel.procedures.hand_test import HALL_ORDER, NothingTurned, read_hand_turn
from cadrel.procedures.route import load_project_values
from tests.conftest import values_of

Maker = Callable[..., tuple[Any, Any]]


def ready(make_drive: Maker, **changes: Entry) -> tuple[Session, Any]:
    drive, simulated = make_drive()
    values = {**values_of("tile-pusher"), **{k.replace("__", "."): v for k, v in changes.items()}}
    load_project_values(drive, values, owner="test")
    return Session(drive=drive, axis=understand(values), consent=Consent(travel=0, speed=0)), simulated


def test_one_turn_forward_is_one_revolution_of_counts(make_drive: Maker) -> None:
    session, simulated = ready(make_drive)
    simulated.turn_by_hand(math.tau, 2.5)
    outcome = run_hand_test(session)
    assert outcome.findings[0].value == pytest.approx(10_000, rel=0.01)
    assert outcome.verdict is not None
    assert outcome.verdict.is_proven
    assert outcome.findings[1].value == 6
    assert "good" in outcome.summary
    assert simulated.status()["mode"] == "off"  # a hand needs no power


def test_a_turn_backward_falls(make_drive: Maker) -> None:
    session, simulated = ready(make_drive)
    simulated.turn_by_hand(-math.tau, 2.5)
    outcome = run_hand_test(session)
    assert outcome.findings[0].value == pytest.approx(-10_000, rel=0.01)
    assert any("fall" in n for n in session.notes)


def test_counts_typed_for_lines_are_named(make_drive: Maker) -> None:
    session, simulated = ready(make_drive, feedback__lines={"value": 10_000})
    simulated.turn_by_hand(math.tau, 2.5)
    outcome = run_hand_test(session)
    assert outcome.findings[0].state == "measured"
    assert "bad" in outcome.summary
    assert any("a quarter. Were counts typed for lines?" in n for n in session.notes)


def test_nothing_turned_is_no_result(make_drive: Maker) -> None:
    session, _ = ready(make_drive)
    with pytest.raises(NothingTurned, match="nobody turned the shaft, or the drive does not see the device"):
        run_hand_test(session)


def test_a_hand_is_slow_and_needs_the_power_off(make_drive: Maker) -> None:
    drive, simulated = make_drive()
    with pytest.raises(RefusedByDrive, match="no hand turns it so fast"):
        StandIn(drive.link, "axis").turn_by_hand(100.0, 1.0)
    load_project_values(drive, values_of("tile-pusher"), owner="test")
    drive.enable("vector", guard_low=-10.0, guard_high=10.0, guard_speed=50.0)
    with pytest.raises(RefusedByDrive, match="needs the power stage off"):
        StandIn(drive.link, "axis").turn_by_hand(1.0, 1.0)
    assert simulated.status()["mode"] == "vector"


def turn(turns: float = 1.0, *, order: tuple[int, ...] = HALL_ORDER, pairs: int = 4) -> tuple[np.ndarray, np.ndarray]:
    angle = np.linspace(0, turns, 3000)
    return np.floor(angle * 10_000), np.array([order[int(a * pairs * 6) % 6] for a in angle], dtype=float)


def read(counts: np.ndarray, hall: np.ndarray, **changes: Any) -> Any:
    base = dict(index=np.ones(3000), counts_per_turn=10_000.0, has_halls=True, has_index=True)
    return read_hand_turn(counts, hall, **(base | changes))  # type: ignore[arg-type]


def test_a_good_turn_has_six_states_in_order_and_no_remark() -> None:
    reading = read(*turn())
    assert reading.quality == "good"
    assert reading.hall_states == (1, 2, 3, 4, 5, 6)
    assert (reading.hall_jumps, reading.remarks) == (0, ())
    assert read(*turn(-1.0)).quality == "good"  # mirrored sequence, wired the other way round: still neighbours


@pytest.mark.parametrize(
    ("hall", "says"),
    [
        (lambda h: np.where(np.isin(h, (4, 5, 6)), h - 4, h), "a wire is off, or a Hall is dead"),  # H3 stuck low
        (lambda h: np.full_like(h, 7.0), "Only the Hall states 7 came"),
        (lambda h: np.select([h == 3, h == 6], [6.0, 3.0], h), "their order is not 1-3-2-6-4-5"),
    ],
)
def test_hall_faults_are_named(hall: Callable[[np.ndarray], np.ndarray], says: str) -> None:
    counts, good = turn()
    reading = read(counts, hall(good))
    assert reading.quality in ("usable", "bad")
    assert any(says in r for r in reading.remarks), reading.remarks


def test_a_missing_index_leaves_the_device_usable() -> None:
    reading = read(*turn(), index=np.zeros(3000))
    assert reading.quality == "usable"
    assert reading.remarks == ("The index did not come: check its wires.",)
    assert read(*turn(), index=np.zeros(3000), has_index=False).quality == "good"


@pytest.mark.parametrize(
    ("turns", "says"), [(4.0, "four times as many"), (0.25, "typed for lines"), (1.7, "17000 counts")]
)
def test_a_wrong_resolution_is_named_by_its_factor(turns: float, says: str) -> None:
    counts, hall = turn(turns)
    reading = read(counts, hall)
    assert reading.quality == "bad"
    assert any(says in r for r in reading.remarks), reading.remarks
