"""What the search for a velocity loop must not miss, and how much gain is taken back where a judge refuses."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains, Sensor, TwoMass, Winding, spectral_radius, unstable_pairs, velocity_plant
from cadrel.core.control.filters import Section
from cadrel.core.response import FrequencyResponse
from cadrel.core.tuning import LEAST_DAMPING, spread_of, tune_velocity
from cadrel.core.tuning.search import BLUNT, FIGURES, _box
from cadrel.core.tuning.shape import Bounds
from cadrel.core.tuning.velocity import CALM_FILTERS, LESS, _judged, keeps_what_is_asked
from cadrel.core.verdict.spread import UNSURE_DAMPING
from tests.core.tuning.usual import START, USUAL

# A motor before six times its inertia on a shaft that resonates at 41 Hz, and its winding.
HEAVY = TwoMass(
    inertia_motor=1.86e-5, inertia_load=1.2e-4, stiffness=1.09, damping=3.5e-4, viscous=1.2e-5, viscous_load=3.7e-5
)
SMALL = Winding(resistance=0.82, inductance=2.46e-3, emf=0.0396)
ASKED = replace(
    USUAL, resonance_drift=0.05, resonance_rise=0.075, inertia_least=0.7, inertia_most=1.5, motor_inertia=1.9e-5
)
BY_HAND = START.with_(
    current_gain=9.1, current_reset=3.07e-3, velocity_gain=0.6, velocity_reset=0.021, torque_filter_hz=1100.0,
    feedback_filter_hz=1000.0, sections=(
        Section(zero_hz=700.0, zero_damping=1.2, pole_hz=1600.0, pole_damping=0.8),
        Section(zero_hz=86.0, zero_damping=0.9, pole_hz=19.7, pole_damping=1.0),
    ),
)  # fmt: skip


def softer(gains: Gains, asked: Robustness) -> Gains:
    """As much of the same shape as is borne, with the gain of its integral as well."""
    for k in range(60):
        tried = gains.with_(velocity_gain=0.97**k * gains.velocity_gain)
        if keeps_what_is_asked(tried, HEAVY, SMALL, asked):
            return tried
    raise AssertionError("no gain of this shape keeps what is asked")


def score(gains: Gains) -> float:
    """What proposals are chosen by: stiff first, then quick."""
    return math.log(gains.velocity_gain / gains.velocity_reset) + 0.5 * math.log(gains.velocity_gain)


def test_a_lag_from_below_the_resonance_that_one_can_write_down_is_not_missed() -> None:
    """The motor alone decides the crossover: beneath it a lag about the resonance of 41 Hz lets the load be held."""
    asked = replace(ASKED, closed_damping=1 / (1 - UNSURE_DAMPING))  # damped as measured, closed as well
    found = tune_velocity(HEAVY, SMALL, START.with_(current_gain=9.1, current_reset=3.07e-3), asked)
    by_hand = softer(BY_HAND, asked)
    assert keeps_what_is_asked(found.gains, HEAVY, SMALL, asked)
    assert score(found.gains) > score(by_hand) - 0.05


class _Ceiling:
    """Accepts loops up to a gain, and counts how often it was asked."""

    def __init__(self, highest: float) -> None:
        self.highest, self.asked = highest, 0

    def accepts(self, gains: Gains) -> bool:
        self.asked += 1
        return gains.velocity_gain <= self.highest


@pytest.mark.parametrize("share", [1.0, 0.995, 0.9, 0.5])
def test_no_more_gain_is_taken_back_than_the_judge_asks_for(share: float) -> None:
    judge: Any = _Ceiling(share * BY_HAND.velocity_gain)
    taken = _judged(judge, BY_HAND)
    assert taken is not None
    assert LESS ** (1 / 7) < taken.velocity_gain / judge.highest <= 1.0
    assert taken.velocity_gain / taken.velocity_reset == pytest.approx(
        (taken.velocity_gain / BY_HAND.velocity_gain) ** 2 * BY_HAND.velocity_gain / BY_HAND.velocity_reset
    )
    assert judge.asked < 30


def test_a_judge_that_nothing_satisfies_ends_it() -> None:
    judge: Any = _Ceiling(0.0)
    assert _judged(judge, BY_HAND) is None
    assert _judged(judge, None) is None


def test_a_resonance_between_two_lines_of_a_noisy_device_forbids_no_loop() -> None:
    """Fifteen lines known of a resolver's axis; from 127 to 152 Hz its phase turns by half a turn and a degree.

    A loop is found for them whichever way round the two are read to go.
    """
    load = TwoMass(
        inertia_motor=1.48e-4, inertia_load=1.87e-3, stiffness=118.4, damping=2.26e-3, viscous=1.6e-4, viscous_load=1e-5
    )
    winding = Winding(resistance=1.03, inductance=1.7e-3, emf=0.17)
    start = START.with_(
        current_gain=6.3, current_reset=1.65e-3, torque_filter_hz=150.0, sensor=Sensor(latency=0.0, tracking=7540.0)
    )
    lines = np.array([
        3.91, 9.77, 15.62, 21.48, 27.34, 35.16, 48.83, 60.55, 72.27, 85.94, 126.95, 152.34, 183.59, 220.7, 265.62,
    ])  # fmt: skip
    size = [26.23, 17.68, 12.63, 8.53, 4.0, -5.12, -1.05, 5.98, 10.13, 14.36, 28.02, 33.19, 21.79, 16.34, 13.94]  # [dB]
    phase = [-92.0, -92.3, -94.2, -95.8, -96.4, -96.4, 76.4, 75.6, 73.3, 69.0, 59.5, -121.5, -130.7, -138.0, -149.6]
    value = 10 ** (np.array(size) / 20) * np.exp(1j * np.radians(phase))
    seen = FrequencyResponse(lines, value, np.full(15, 0.98), 0.02 * np.abs(value))
    asked = replace(ASKED, resonance_rise=0.0, motor_inertia=1.41e-4)
    with_lines = tune_velocity(load, winding, start, asked, measured=seen, noise=3.1, noise_torque=0.31)
    assert with_lines.integral > 50.0
    assert keeps_what_is_asked(with_lines.gains, load, winding, asked, measured=seen)


def test_a_measured_plant_turns_about_a_resonance_as_its_model_does() -> None:
    """A load of 23 times the motor behind 107 Hz, damped so little that back-EMF fed forward late undamps it.

    Noise covers the lines from 98 to 111 Hz, so the model leads across: upwards in phase, as poles outside the unit
    circle do, and through the negative axis far beyond -1. That is no crossing that a limit makes dangerous, the models
    cross there as well; with these lines no loop at all had been found.
    """
    load = TwoMass(
        inertia_motor=5.514e-4, inertia_load=1.2663e-2, stiffness=238.03, damping=5.874e-3, viscous_load=7.08e-4
    )
    winding = Winding(resistance=0.5944, inductance=6.0556e-4, emf=0.15264)
    start = START.with_(
        current_gain=2.2387, current_reset=1.01871e-3, torque_filter_hz=150.0, velocity_gain=0.1, velocity_reset=0.65,
        sensor=Sensor(latency=0.0, tracking=7540.0),
    )  # fmt: skip
    asked = replace(ASKED, resonance_rise=0.0, phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8,
                    motor_inertia=5.44e-4, seen_hz=863.0)  # fmt: skip
    lines = np.concatenate([np.arange(4.0, 98.0, 2.0), np.arange(111.0, 290.0, 8.0)])
    value = velocity_plant(load, winding, start, lines)
    seen = FrequencyResponse(lines, value, np.full(lines.size, 0.98), 0.02 * np.abs(value))
    assert unstable_pairs(load, winding, start) == 1
    found = tune_velocity(load, winding, start, asked, measured=seen, noise=3.1337, noise_torque=0.4368)
    assert found.integral > 50.0
    assert keeps_what_is_asked(found.gains, load, winding, asked, measured=seen)
    assert all(spectral_radius("velocity", one, winding, found.gains) < 1.0 for one in spread_of(asked).corners(load))


def test_where_a_quick_speed_filter_undamps_a_resonance_a_slower_one_is_tried() -> None:
    """A resonance of 148 Hz damped by 1 %: back-EMF fed forward late undamps it at a corner, heavier and less damped.

    No PI holds that up; through a slow speed filter nothing has to be held up, by the eigenvalues of the plant alone.
    """
    load = TwoMass(
        inertia_motor=1.4733e-4, inertia_load=1.8673e-3, stiffness=118.31, damping=2.4417e-3, viscous=1.45e-4,
        viscous_load=2.57e-5,
    )  # fmt: skip
    winding = Winding(resistance=1.03, inductance=1.7e-3, emf=0.17)
    start = START.with_(
        current_gain=6.3, current_reset=1.65e-3, torque_filter_hz=150.0, sensor=Sensor(latency=0.0, tracking=7540.0)
    )
    asked = replace(
        ASKED, resonance_drift=0.057, resonance_rise=0.0015, phase_margin=math.radians(45), gain_margin_db=8.0,
        sensitivity_peak=1.8, motor_inertia=1.4e-4,
    )  # fmt: skip
    corners = spread_of(asked).corners(load)

    def undamped(hz: float) -> int:
        return sum(unstable_pairs(one, winding, start.with_(feedback_filter_hz=hz)) for one in corners)

    assert undamped(1900.0) > 0
    found = tune_velocity(load, winding, start, asked, most_sections=0).gains
    assert undamped(found.feedback_filter_hz) == 0 and found.feedback_filter_hz <= CALM_FILTERS[0]
    assert keeps_what_is_asked(found, load, winding, asked)
    assert all(spectral_radius("velocity", one, winding, found) < 1.0 for one in corners)


def test_a_resonance_that_no_model_has_is_not_answered_sharply() -> None:
    """It shows in what was measured, and the load is taken for rigid: with another load it lies where nobody looked.

    The loop is stable with the true load heavier by half of all inertia, all of that behind the shaft.
    """
    true = TwoMass(inertia_motor=2.24e-4, inertia_load=5.0e-5, stiffness=450.0, damping=4e-3, viscous=7e-5,
                   viscous_load=2e-4)  # fmt: skip
    rigid = TwoMass(inertia_motor=2.74e-4, inertia_load=0.0, stiffness=None, damping=0.0, viscous=2.7e-4)
    f = np.geomspace(4, 1100, 140)
    value = velocity_plant(true, SMALL, START, f)
    seen = FrequencyResponse(f, value, np.ones(140), 0.005 * np.abs(value))
    found = tune_velocity(rigid, SMALL, START, USUAL, measured=seen).gains
    assert found.sections and all(min(s.zero_damping, s.pole_damping) >= BLUNT for s in found.sections)
    heavier = replace(true, inertia_load=5.0e-5 + 0.5 * 2.74e-4)
    assert unstable_pairs(heavier, SMALL, found) == 0
    assert spectral_radius("velocity", heavier, SMALL, found) < 1.0


def test_a_resonance_that_a_model_has_may_be_answered_sharply() -> None:
    bounds = Bounds(unseen_hz=1200.0, noise=0.0, noise_torque=math.inf, gain=math.inf, least_damping=LEAST_DAMPING)
    rigid = replace(HEAVY, stiffness=None)
    for load, zeros, poles in ((HEAVY, FIGURES["zero_damping"][0], LEAST_DAMPING), (rigid, BLUNT, BLUNT)):
        box = _box(load, bounds, 2)
        assert [math.exp(box[k][0]) for k in (4, 6, 8, 10)] == pytest.approx([zeros, poles, zeros, poles])
