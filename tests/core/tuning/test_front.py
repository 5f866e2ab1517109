"""The family of gains around those in hand, each judged by what judges a loop elsewhere."""

import math
from dataclasses import replace

import control
import numpy as np
import pytest

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import (
    Gains,
    TwoMass,
    Winding,
    read_margins,
    spectral_radius,
    velocity_controller,
    velocity_open,
    velocity_plant,
)
from cadrel.core.control.filters import Section
from cadrel.core.tuning import front_of, moves_with_quickness, noise_behind, quicker, tune_velocity
from cadrel.core.tuning.front import FACTORS, SETTLED

GAINS = Gains(
    current_gain=17.0, current_reset=3.5e-3, velocity_gain=0.1, velocity_reset=0.02, feedback_filter_hz=1532,
    torque_filter_hz=602, position_gain=80.0,
)  # fmt: skip
LOAD = TwoMass(inertia_motor=2e-4, inertia_load=1.6e-4, stiffness=300.0, damping=0.02)
WINDING = Winding(resistance=1.3, inductance=4.6e-3, emf=0.2)
ASKED = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
FRONT = front_of(LOAD, [WINDING], GAINS, ASKED, noise=0.4, continuous=2.0)


def test_a_quicker_member_is_stiffer_and_less_robust_and_settles_sooner_until_it_rings() -> None:
    stiff, peaks = [p.stiffness for p in FRONT], [p.sensitivity_peak for p in FRONT]
    assert np.all(np.diff(stiff) > 0)
    assert stiff[-1] / stiff[0] == pytest.approx((FACTORS[-1] / FACTORS[0]) ** 2)  # gain times it, reset time over it
    assert np.all(np.diff(peaks) > -1e-3)
    assert FRONT[0].settling > 2 * FRONT[10].settling
    assert FRONT[0].honours
    assert not FRONT[-1].honours


def test_each_member_has_the_shape_of_the_gains_in_hand() -> None:
    for k in (0.3, 1.7):
        one = quicker(GAINS, k)
        assert one.velocity_gain * one.velocity_reset == pytest.approx(GAINS.velocity_gain * GAINS.velocity_reset)
        assert one.position_gain * one.velocity_reset == pytest.approx(GAINS.position_gain * GAINS.velocity_reset)
        assert (one.torque_filter_hz, one.feedback_filter_hz) == (GAINS.torque_filter_hz, GAINS.feedback_filter_hz)


def test_a_lag_goes_with_quickness_and_what_answers_a_resonance_stays() -> None:
    lag = Section(zero_hz=100.0, zero_damping=0.45, pole_hz=62.0, pole_damping=1.0)
    notch = Section(zero_hz=290.0, zero_damping=0.1, pole_hz=200.0, pole_damping=0.2)
    lead = Section(zero_hz=600.0, zero_damping=0.9, pole_hz=1500.0, pole_damping=0.9)
    gains = GAINS.with_(velocity_gain=0.12, velocity_reset=0.03, sections=(notch, lag, lead))
    half = quicker(gains, 0.5)
    assert half.sections == (notch, replace(lag, zero_hz=50.0, pole_hz=31.0), lead)
    assert quicker(gains, 40.0).sections[1].zero_hz <= 1850.0
    moved = {"velocity.gain", "velocity.reset_time", "position.gain"}
    assert set(moves_with_quickness(gains)) == moved | {"velocity.section3_zero", "velocity.section3_pole"}
    assert set(moves_with_quickness(GAINS)) == moved
    own = gains.with_(sections=(lag,))
    slower = front_of(LOAD, [WINDING], own, ASKED)[8]
    assert slower.changes["velocity.section2_pole"] == pytest.approx(62.0 * slower.factor)


def test_a_tuned_loop_with_a_lag_is_the_more_robust_the_slower_it_is_made() -> None:
    """Left where it is, the lag would cost the slower loop the phase that moving it spares."""
    tuned = tune_velocity(LOAD, WINDING, GAINS, ASKED).gains
    assert len(moves_with_quickness(tuned)) > 3
    f = np.geomspace(1, 1900, 4000)

    def margin(gains: Gains) -> float:
        found = read_margins(velocity_open(velocity_plant(LOAD, WINDING, gains, f), gains, f), f)
        assert found.phase_margin is not None
        return found.phase_margin

    goes = [margin(quicker(tuned, k)) for k in (0.25, 0.5, 0.7, 1.0)]
    left = [margin(quicker(tuned, k).with_(sections=tuned.sections)) for k in (0.25, 0.5, 0.7, 1.0)]
    assert np.all(np.diff(goes) < 0)
    assert goes[0] > 1.4 * goes[-1]
    assert left[0] < 0.8 * left[-1]


def test_the_worst_peak_is_at_least_that_of_the_nominal_loop_and_found_by_python_control_too() -> None:
    point = FRONT[15]
    own = quicker(GAINS, point.factor)
    f = np.geomspace(1, 1900, 4000)
    w = 2 * math.pi * f
    filtered = 1 / np.abs(1 + 1j * f / GAINS.feedback_filter_hz)  # about; the loop proper has it sampled
    assert filtered.min() > 0.5
    plant = velocity_plant(LOAD, WINDING, own, f)
    pole = math.exp(-2 * math.pi * GAINS.feedback_filter_hz * 250e-6)
    loop = velocity_controller(own, f) * plant * (1 - pole) / (1 - pole * np.exp(-1j * w * 250e-6))
    margins = control.stability_margins(control.frd(loop, w))
    nominal = 1 / margins[2]  # distance to -1
    assert nominal <= point.sensitivity_peak * 1.002
    assert point.gain_margin_db <= 20 * math.log10(margins[0]) + 0.05


def test_beyond_the_first_member_that_runs_away_none_is_called_stable() -> None:
    shaky = front_of(LOAD, [WINDING], quicker(GAINS, 2.5), ASKED)
    stable = [p.is_stable for p in shaky]
    assert stable[0]
    assert not stable[-1]
    last = stable.index(False)
    assert not any(stable[last:])
    assert spectral_radius("velocity", LOAD, WINDING, quicker(GAINS, 2.5 * FACTORS[last - 1])) < 1
    assert [p.settling for p in shaky][-1] is None


def test_gains_that_run_away_have_no_family() -> None:
    assert not any(p.is_stable for p in front_of(LOAD, [WINDING], quicker(GAINS, 12.0), ASKED))


def test_ripple_is_what_the_noise_makes_and_is_left_open_where_it_was_not_measured() -> None:
    one = FRONT[10]
    torque = 0.4 / noise_behind(1.0, quicker(GAINS, one.factor))
    assert one.ripple == pytest.approx(torque / 2.0)
    assert one.ripple == pytest.approx(FRONT[5].ripple * FACTORS[10] / FACTORS[5], rel=0.05)
    assert all(p.ripple is None for p in front_of(LOAD, [WINDING], GAINS, ASKED))
    assert 0 < SETTLED < 0.05
