"""Settling read off the load: from records whose swing is known."""

from dataclasses import replace

import numpy as np
import pytest

from cadrel.cli.at_the_load import (
    DWELL,
    STEP,
    Moved,
    _settled,
    _sways,
    moved_at_the_load,
    with_gains,
    with_starting_gains,
)
from cadrel.cli.tuning_evidence import Tuned, document
from tests.procedures.test_stops import Ready

WINDOW = 0.01


def record(swing: float, decay: float, *, moves: int = 2) -> np.ndarray:
    """Strokes of 0.2 s, each followed by a load that swings at 10 Hz and dies away; load, moving, command."""
    t = STEP * np.arange(round(DWELL / STEP))
    rest = swing * np.exp(-t / decay) * np.cos(2 * np.pi * 10 * t)
    busy = np.stack([np.linspace(0, 1, 200), np.ones(200), np.linspace(0, 1, 200)], axis=1)
    still = np.stack([1 + rest, np.zeros(len(t)), np.ones(len(t))], axis=1)
    begun = np.zeros((100, 3))
    return np.concatenate([begun, *([busy, still] * moves)])


def test_it_is_the_last_time_the_load_leaves_its_window() -> None:
    # The swing's envelope is in the window from decay * ln(swing / window) on; the last peak lies within half a period.
    settled = _settled(record(0.2, 0.1), WINDOW)
    assert settled == pytest.approx(0.1 * np.log(0.2 / WINDOW), abs=0.05)


def test_a_load_that_never_leaves_it_has_settled_at_once() -> None:
    assert _settled(record(0.5 * WINDOW, 0.1), WINDOW) == 0.0


def test_one_that_swings_on_counts_with_the_whole_dwell() -> None:
    assert _settled(record(0.5, 50.0), WINDOW) == pytest.approx(DWELL, abs=0.06)


def test_a_goal_is_met_by_gains_that_settle_and_not_by_starting_gains_or_where_it_is_too_narrow() -> None:
    ready = Ready()
    axis, drive = ready.axis, ready.drive
    ready.client.set_position(0.2 * axis.mechanism.motor_rad_per_load)  # [m] with the whole move above it
    with_starting_gains(drive, axis)
    moved = moved_at_the_load(drive, axis)
    assert moved is not None and not moved.meets(axis)
    patient = replace(axis, goal=replace(axis.goal, settling_time=10.0, window=5.0, following_error=500.0))
    again = moved_at_the_load(drive, patient)
    assert again is not None and again.meets(patient)
    assert not again.meets(replace(patient, goal=replace(patient.goal, following_error=1e-6)))
    assert not again.meets(replace(patient, goal=replace(patient.goal, settling_time=-1.0)))


def test_a_move_that_was_stopped_leaves_the_next_one_to_other_gains() -> None:
    """With far too much gain the drive cuts power; what stopped one loop says nothing of those tried after it."""
    ready = Ready()
    axis, drive = ready.axis, ready.drive
    ready.client.set_position(0.2 * axis.mechanism.motor_rad_per_load)
    with_starting_gains(drive, axis)
    with_gains(drive, {"velocity.gain": 200 * ready.client.read()["velocity.gain"]})
    assert moved_at_the_load(drive, axis) is None
    with_starting_gains(drive, axis)
    assert moved_at_the_load(drive, axis) is not None


def test_a_motor_that_sways_by_more_than_half_the_window_does_not_stand_still() -> None:
    axis = Ready().axis
    wide = replace(axis, goal=replace(axis.goal, window=0.2, settling_time=1.0, following_error=1.0))
    still = Moved(settling=0.0, following_error=0.0, in_window=0.0, sways=0.09)
    assert still.meets(wide) and not replace(still, sways=0.11).meets(wide)


def test_swaying_is_read_off_the_motor_where_it_should_rest() -> None:
    """A swing of 10 Hz that hardly dies away goes to and fro by its amplitude; the motor is the fourth of a record."""
    load = record(0.0, 1.0)
    motor = record(0.03, 100.0)[:, :1]
    assert _sways(np.concatenate([load, motor, motor], axis=1)) == pytest.approx(0.03, rel=0.03)
    assert _sways(np.concatenate([load, load[:, :1], motor], axis=1)) == pytest.approx(0.0, abs=1e-12)


def test_the_document_tells_it_beside_the_starting_gains() -> None:
    rows = [
        Tuned(k, "serial", "proven", loops={"velocity": [1.7, 46.0, 9.0]}, stiff=0.5 + 0.1 * k, quick=1.0,
              at_load=[0.8, 0.1], followed=[0.3, 0.01], play=[0.02, 0.01, 0.02] if k == 0 else None, shaped=k == 1)
        for k in range(3)
    ]  # fmt: skip
    text = document(rows, seed=5)
    assert "settled after 800 ms with the starting gains and 100 ms tuned" in text
    assert "Following error less by 30 times" in text
    assert "Command notch on 1." in text
    assert "0.50 where play was found (1 axes), 0.65 on the other 2" in text
