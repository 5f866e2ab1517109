"""The tuners honour what was asked for, use a notch where it pays, and refuse what cannot be had."""

import functools
import math

import numpy as np
import pytest

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import (
    Gains,
    Margins,
    TwoMass,
    Winding,
    position_open,
    read_margins,
    spectral_radius,
    step_response,
    velocity_open,
    velocity_plant,
)
from cadrel.core.identification import TotalLoad
from cadrel.core.response import FrequencyResponse
from cadrel.core.tuning import (
    TuningRefused,
    VelocityTuning,
    limiting_factor,
    predict_stop,
    shaped_as,
    softened,
    spread_of,
    tune_current,
    tune_position,
    tune_velocity,
)
from cadrel.core.tuning.velocity import STABLE

WINDING = Winding(resistance=1.3, inductance=4.6e-3)
START = Gains(
    current_gain=17.0,
    current_reset=3.5e-3,
    velocity_gain=0.03,
    velocity_reset=0.06,
    feedback_filter_hz=800,
    torque_filter_hz=1200,
)
USUAL = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
CALM = Robustness(phase_margin=math.radians(60), gain_margin_db=12.0, sensitivity_peak=1.4)
GRID = np.geomspace(0.7, 1900, 1500)


def two_mass(antiresonance: float, ratio: float, damping: float = 0.02) -> TwoMass:
    load = 1.4e-4 * ratio
    stiffness = load * (2 * math.pi * antiresonance) ** 2
    return TwoMass(inertia_motor=1.4e-4, inertia_load=load, stiffness=stiffness, damping=damping, viscous=3e-4)


LOADS = {
    "rigid": TwoMass(inertia_motor=3.7e-4, viscous=3e-4),
    "soft": two_mass(45, 3.0),
    "usual": two_mass(180, 1.6),
    "stiff": two_mass(500, 0.8),
    "heavy": two_mass(90, 9.0),
}


@functools.cache
def tuned(name: str, asked: Robustness) -> VelocityTuning:
    """Of one of the loads, once for all tests that look at it."""
    return tune_velocity(LOADS[name], WINDING, START, asked)


@pytest.mark.parametrize("name", LOADS)
def test_a_tenth_more_gain_is_stable_on_every_load_of_the_spread(name: str) -> None:
    """On a gripped load as well: what is hardly stable there leaves a position loop no gain."""
    gains = tuned(name, USUAL).gains
    more = gains.with_(velocity_gain=1.1 * gains.velocity_gain)
    for load in spread_of(USUAL).between(LOADS[name]):
        assert spectral_radius("velocity", load, WINDING, more) < 1.0


@pytest.mark.parametrize("name", LOADS)
@pytest.mark.parametrize("asked", [USUAL, CALM], ids=["usual", "calm"])
def test_margins_asked_for_are_kept_on_a_finer_grid_than_the_tuners(name: str, asked: Robustness) -> None:
    load = LOADS[name]
    gains = tuned(name, asked).gains
    found = read_margins(velocity_open(velocity_plant(load, WINDING, gains, GRID), gains, GRID), GRID)
    assert found.sensitivity_peak <= asked.sensitivity_peak * 1.03
    assert found.phase_margin is not None
    assert found.phase_margin >= asked.phase_margin - math.radians(1)
    assert found.gain_margin_db is None or found.gain_margin_db >= asked.gain_margin_db - 0.4
    assert spectral_radius("velocity", load, WINDING, gains) < 1


@pytest.mark.parametrize("name", LOADS)
def test_asking_for_more_margin_never_gives_a_quicker_loop(name: str) -> None:
    quick, calm = tuned(name, USUAL), tuned(name, CALM)
    assert calm.gains.velocity_gain / calm.gains.velocity_reset < quick.gains.velocity_gain / quick.gains.velocity_reset
    assert (calm.margins.crossover_hz or 0) < (quick.margins.crossover_hz or 0)


@pytest.mark.parametrize("name", LOADS)
def test_the_tuned_gain_is_the_highest_a_tenth_more_breaks_a_promise(name: str) -> None:
    load, gains = LOADS[name], tuned(name, USUAL).gains
    more = gains.with_(velocity_gain=1.1 * gains.velocity_gain, velocity_reset=gains.velocity_reset / 1.1)

    def with_more(one: TwoMass) -> Margins:
        return read_margins(velocity_open(velocity_plant(one, WINDING, more, GRID), more, GRID), GRID)

    def breaks(one: TwoMass) -> bool:
        found = with_more(one)
        return (
            found.sensitivity_peak > USUAL.sensitivity_peak
            or (found.phase_margin or 9) < USUAL.phase_margin
            or (found.gain_margin_db or 99) < USUAL.gain_margin_db
        )

    # Whichever resonance is the worst; a load lighter or heavier than measured must stay stable by a clear distance.
    nearest = max(with_more(one).sensitivity_peak for one in spread_of(USUAL).corners(load))
    assert any(breaks(one) for one in spread_of(USUAL).drifts(load)) or nearest > STABLE.sensitivity_peak


def test_a_measured_plant_that_is_worse_than_the_model_holds_the_gain_down() -> None:
    load = LOADS["usual"]
    f = np.geomspace(4, 1000, 90)
    good = velocity_plant(load, WINDING, START, f)
    late = good * np.exp(-2j * np.pi * f * 0.6e-3)  # a delay the model does not know

    def measured(value: np.ndarray) -> FrequencyResponse:
        return FrequencyResponse(f, value, np.ones(90), 0.01 * np.abs(value))

    free = tune_velocity(load, WINDING, START, USUAL, measured=measured(good)).gains
    held = tune_velocity(load, WINDING, START, USUAL, measured=measured(late)).gains
    assert held.velocity_gain < 0.9 * free.velocity_gain
    loop = read_margins(velocity_open(late, held, f), f)
    assert loop.sensitivity_peak <= USUAL.sensitivity_peak + 1e-9


def test_a_shape_that_keeps_what_is_asked_stays_as_it_is() -> None:
    load = two_mass(60.0, 4.0)
    shape = tune_velocity(load, WINDING, START, USUAL).gains
    kept = shaped_as(shape, load, WINDING, USUAL)
    assert kept is not None and kept.gains == shape
    assert kept.integral == pytest.approx(shape.velocity_gain / shape.velocity_reset)


def test_a_shape_that_holds_its_resonance_by_its_phase_may_not_be_softened_at_will() -> None:
    """What crosses over beside an antiresonance with all of its gain loses its phase with some of it."""
    load = two_mass(60.0, 4.0)
    shape = softened(tune_velocity(load, WINDING, START, USUAL).gains, 0.7)
    kept = shaped_as(shape, load, WINDING, USUAL)
    assert kept is not None and kept.gains.velocity_gain < 0.9 * shape.velocity_gain
    open_loop = velocity_open(velocity_plant(load, WINDING, shape, GRID), shape, GRID)
    phase = read_margins(open_loop, GRID).phase_margin
    assert phase is not None and phase < 0.95 * USUAL.phase_margin
    again = velocity_open(velocity_plant(load, WINDING, kept.gains, GRID), kept.gains, GRID)
    phase = read_margins(again, GRID).phase_margin
    assert phase is not None and phase > 0.99 * USUAL.phase_margin


def test_of_a_shape_that_does_not_as_much_gain_is_taken_back_as_that_takes() -> None:
    load = two_mass(60.0, 4.0)
    tuned = tune_velocity(load, WINDING, START, USUAL).gains
    kept = shaped_as(softened(tuned, 1.5), load, WINDING, USUAL)
    assert kept is not None and kept.gains.sections == softened(tuned, 1.0).sections
    assert 0.8 * tuned.velocity_gain < kept.gains.velocity_gain <= 1.02 * tuned.velocity_gain
    unlike = two_mass(60.0, 4.0, damping=0.3)
    worst = tune_velocity(unlike, WINDING, START, USUAL).gains.with_(velocity_reset=1e-4)
    assert shaped_as(worst, load, WINDING, USUAL) is None, "an integral that no gain bears"


def test_what_cannot_be_had_is_refused_with_the_reason() -> None:
    impossible = Robustness(phase_margin=math.radians(80), gain_margin_db=20.0, sensitivity_peak=1.2)
    wobbly = two_mass(8.0, 20.0, damping=1e-5)
    f = np.geomspace(4, 1000, 90)
    lost = np.exp(-2j * np.pi * f * 0.02) * velocity_plant(wobbly, WINDING, START, f)
    with pytest.raises(TuningRefused) as caught:
        tune_velocity(
            wobbly, WINDING, START, impossible, measured=FrequencyResponse(f, lost, np.ones(90), 0.01 * np.abs(lost))
        )
    happened, means, remedy = caught.value.parts
    assert "80° phase margin" in happened
    assert "resonance" in means
    assert "unchanged" in means
    assert remedy


@pytest.mark.parametrize("name", ["rigid", "usual", "stiff"])
def test_position_steps_hardly_overshoot_and_margins_hold(name: str) -> None:
    load = LOADS[name]
    tuned = tune_velocity(load, WINDING, START, USUAL).gains
    gains, limit = tune_position(load, WINDING, tuned, USUAL)
    _, y = step_response("position", load, WINDING, gains, duration=0.5)
    assert y.max() < 1.12
    assert y[-1] == pytest.approx(1.0, abs=1e-3)
    found = read_margins(position_open(velocity_plant(load, WINDING, gains, GRID), gains, GRID), GRID)
    assert found.sensitivity_peak <= USUAL.sensitivity_peak * 1.03
    assert limit


def test_a_position_loop_around_an_unstable_velocity_loop_is_refused() -> None:
    wild = START.with_(velocity_gain=6.0)
    with pytest.raises(TuningRefused):
        tune_position(LOADS["usual"], WINDING, wild, USUAL)


def test_the_winding_pole_is_cancelled() -> None:
    gains = tune_current(WINDING, START, bandwidth_hz=900)
    assert gains.current_reset == pytest.approx(WINDING.inductance / WINDING.resistance)
    assert gains.velocity_gain == START.velocity_gain


def test_the_limiting_factor_names_the_resonance_where_the_phase_crosses_there() -> None:
    load = LOADS["usual"]
    loop = velocity_open(velocity_plant(load, WINDING, START.with_(velocity_gain=0.25), GRID), START, GRID)
    margins = read_margins(loop, GRID)
    text = limiting_factor(margins, load, USUAL)
    near = margins.phase_crossover_hz and 0.7 < margins.phase_crossover_hz / (load.resonance_hz or 1) < 1.4
    assert ("resonance" in text) is bool(near)


def test_a_stop_follows_its_ramp_and_its_torque_does_the_work_of_the_stop() -> None:
    load, total = TwoMass(inertia_motor=1e-3), TotalLoad(inertia=1e-3, viscous_total=0.0, coulomb=0.2, constant=0.4)
    gains = Gains(
        current_gain=10.0, current_reset=4e-3, velocity_gain=0.3, velocity_reset=0.03, feedback_filter_hz=800.0,
        torque_filter_hz=800.0,
    )  # fmt: skip
    winding = Winding(resistance=1.0, inductance=4e-3, emf=0.4)
    trace = predict_stop(load, winding, gains, total, speed=100.0, rate=1000.0, most=50.0)
    assert trace.speed[0] == pytest.approx(100.0, abs=1.0)
    assert trace.speed[-1] == pytest.approx(0.0, abs=0.5)
    middle = len(trace.speed) // 4
    assert trace.torque[middle] == pytest.approx(-1e-3 * 1000 + 0.2 + 0.4, abs=0.05)
    # Work of the motor = change of kinetic energy + friction + what the load took, by the way gone.
    way = float(np.trapezoid(trace.speed, dx=trace.period))
    work = float(np.trapezoid(trace.torque * trace.speed, dx=trace.period))
    assert work == pytest.approx(-0.5 * 1e-3 * 100**2 + (0.2 + 0.4) * way, rel=0.03)
