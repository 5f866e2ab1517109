"""What rings beyond the lines of a plant's measurement, and a loop that is made on one shaft alone."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from cadrel.cli.true_plant import true_velocity_plant
from cadrel.core.control import Gains, TwoMass, Winding, velocity_open, velocity_plant
from cadrel.core.response import FrequencyResponse
from cadrel.core.simulation import RigTruth
from cadrel.core.tuning import tune_velocity
from cadrel.procedures import PROCEDURES, Session
from cadrel.procedures.plant.excitation import BEYOND, LINES, frequency_of
from cadrel.procedures.plant.in_motion import first_measured, measured_beyond
from cadrel.procedures.velocity.seen import with_beyond
from tests.core.tuning.usual import START, USUAL
from tests.procedures.test_stops import LIFT, Ready

# The lift with a third of its load behind a second shaft, damped little, that rings at 1.6 kHz.
THIRD = replace(
    LIFT, inertia_load=0.66 * LIFT.inertia_load, inertia_third=0.34 * LIFT.inertia_load,
    stiffness_third=(2 * math.pi * 1600) ** 2 * 0.2244 * LIFT.inertia_load, damping_third=0.01, torque_load=0.0,
)  # fmt: skip


def _measured(truth: RigTruth) -> tuple[Session, Gains, FrequencyResponse]:
    ready = Ready(truth)
    consent = PROCEDURES["velocity"].consent(ready.axis, ready.client.read())
    session = Session(drive=ready.client, axis=ready.axis, consent=consent, plant=ready.plant)
    gains = Gains.from_drive(session.refresh(), session.rates)
    return session, gains, first_measured(session, gains).response


def test_what_is_read_beyond_the_lines_is_the_true_plant() -> None:
    session, gains, first = _measured(THIRD)
    found = measured_beyond(session, gains, 0.4, first)
    assert found is not None
    beyond = found.response
    np.testing.assert_allclose(beyond.frequency, frequency_of(BEYOND, gains))
    true = true_velocity_plant(THIRD, session.values, beyond.frequency, speed_of_run=1.0)
    off = np.abs(beyond.value / true - 1)
    assert np.median(off) < 0.1
    assert np.mean(off < 4 * beyond.std / np.abs(beyond.value) + 0.05) > 0.9


def test_a_device_whose_noise_covers_the_highest_lines_is_not_looked_at_beyond_them() -> None:
    session, gains, first = _measured(THIRD)
    noisy = replace(first, std=np.abs(first.value))
    before = session.drive.status()["time"]
    assert measured_beyond(session, gains, 0.4, noisy) is None
    assert session.drive.status()["time"] == pytest.approx(before, abs=0.1), "and nothing moves for it"


def test_a_loop_stays_below_one_where_a_second_shaft_rings() -> None:
    """The model has one shaft, at 760 Hz; what was measured beyond it has another, at 1.62 kHz.

    On the plant of both the loop without these lines comes nearer to -1 than the peak asked for, the other one not.
    """
    load = TwoMass(inertia_motor=2.93e-4, inertia_load=6.3e-4, stiffness=4602.0, damping=0.0148, viscous_load=7e-4)
    winding, start = Winding(resistance=1.0, inductance=2e-3, emf=0.2), START
    low, high = frequency_of(LINES, start), frequency_of(BEYOND, start)

    def both(f: Any) -> Any:
        """With a pair of zeros just below a pair of poles, as a light mass behind a second shaft has them."""
        s = 2j * math.pi * f
        zero, pole = (2 * math.pi * hz for hz in (1600.0, 1624.0))
        rings = (s**2 + 0.01 * zero * s + zero**2) / (s**2 + 0.01 * pole * s + pole**2)
        return velocity_plant(load, winding, start, f) * rings

    def lines(f: Any, scatter: float) -> FrequencyResponse:
        return FrequencyResponse(f, both(f), np.ones(f.size), scatter * np.abs(both(f)))

    asked = replace(USUAL, resonance_rise=0.0, seen_hz=float(low[-1]))
    blind = tune_velocity(load, winding, start, asked, measured=lines(low, 0.01)).gains
    shown = with_beyond(lines(low, 0.01), lines(high, 0.1))
    assert shown.frequency[-1] == pytest.approx(high[-1]) and len(shown.frequency) == low.size + high.size
    wary = tune_velocity(load, winding, start, asked, measured=shown).gains
    fine = np.linspace(1500.0, 1800.0, 3001)
    above = [float(np.abs(velocity_open(both(fine), gains, fine)).max()) for gains in (blind, wary)]
    assert above[0] > 0.8 and above[1] < 10 ** (-asked.gain_margin_db / 20) * 1.1
