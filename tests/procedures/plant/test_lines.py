"""How the velocity plant is excited, and which lines of it count."""

from collections.abc import Callable
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from cadrel.core.axis import understand
from cadrel.core.control import Gains, Rates, TwoMass, Winding, feedback_filter, velocity_open, velocity_plant
from cadrel.core.identification import PlantFit
from cadrel.core.parameters import field_of
from cadrel.core.response import FrequencyResponse, estimate_both, random_multisine
from cadrel.link import LinkedDrive
from cadrel.procedures import Consent, Session
from cadrel.procedures.errors import AnswerInNoise
from cadrel.procedures.plant.excitation import (
    LINES,
    PERIOD,
    PERIODS,
    STRONGEST,
    Excitation,
    line_shape,
    most_by_voltage,
    plan_excitation,
)
from cadrel.procedures.plant.in_motion import unfiltered_mean
from cadrel.procedures.plant.scatter import (
    FEWEST_PASSES,
    MOST_PASSES,
    PRECISE,
    SENSITIVITY,
    is_drowned,
    is_over,
    knows_sensitivity,
    passes_for,
    require_lines,
)
from tests.conftest import values_of

GAINS = Gains(
    current_gain=17, current_reset=3.5e-3, velocity_gain=0.1, velocity_reset=0.02, feedback_filter_hz=800,
    torque_filter_hz=1200,
)  # fmt: skip


def test_lines_at_the_anti_resonance_are_made_stronger_and_none_weaker() -> None:
    load = TwoMass(inertia_motor=2e-4, inertia_load=4e-4, stiffness=4e-4 * (2 * np.pi * 80) ** 2, damping=0.01)
    shape = line_shape(PlantFit(load, Winding(resistance=1.3, inductance=4.6e-3)), GAINS)
    frequency = LINES / (PERIOD * Rates().velocity)
    assert shape.min() == 1.0
    assert shape[np.argmin(np.abs(frequency - 80))] == STRONGEST
    assert shape[np.argmin(np.abs(frequency - 30))] < 1.5


def test_a_shaped_multisine_has_its_shape_and_the_rms_asked_for() -> None:
    lines, shape = np.array([5, 9, 30]), np.array([1.0, 3.0, 2.0])
    signal = random_multisine(lines, n_samples=256, rms=0.7, rng=np.random.default_rng(1), shape=shape)
    assert np.sqrt(np.mean(signal**2)) == pytest.approx(0.7)
    amplitude = np.abs(np.fft.rfft(signal))
    np.testing.assert_allclose(amplitude[lines] / amplitude[5], shape)
    assert np.delete(amplitude, lines).max() < 1e-9


def test_lines_beyond_a_frequency_are_left_out_whole() -> None:
    f = np.array([10.0, 20.0, 40.0])
    cut = FrequencyResponse(f, f + 0j, f / 100, f / 10).below(20.0)
    np.testing.assert_array_equal(cut.frequency, [10, 20])
    np.testing.assert_array_equal(cut.value, [10, 20])
    np.testing.assert_array_equal(cut.std, [1, 2])


def noisy(share: float) -> FrequencyResponse:
    """A response of which a third of the lines is good, the rest known to a share only."""
    n = len(LINES)
    value = np.ones(n, dtype=np.complex128)
    std = np.where(np.arange(n) % 3 == 0, 0.01, share)
    return FrequencyResponse(LINES / (PERIOD * Rates().velocity), value, np.ones(n), std)


def test_a_measurement_ends_once_more_passes_would_tell_no_more() -> None:
    sure = {"sure_to": 0.03, "may_drown": True}
    assert not is_over(noisy(0.02), 1, **sure)  # both ways at the least
    assert not is_over(noisy(0.02), 3, **sure)  # as many one way as the other
    assert is_over(noisy(0.02), FEWEST_PASSES, **sure)
    assert not is_over(noisy(0.05), 4, **sure)  # over all of them its noise falls to 0.035
    assert is_over(noisy(0.15), 4, **sure)  # over all of them to 0.106 only: drowned
    assert not is_over(noisy(0.1), FEWEST_PASSES, **sure)  # over all of them to 0.05
    assert not is_over(noisy(0.15), 4, sure_to=0.03, may_drown=False)


def test_a_line_behind_the_speed_filter_scatters_as_it_says() -> None:
    """Held against repeated measurements: what the filter took is given back to noise as to the answer."""
    gains = GAINS.with_(feedback_filter_hz=280)
    lines, rate = np.array([100, 200, 300, 400, 480]), 1 / gains.rates.velocity
    passed = feedback_filter(gains, lines * rate / PERIOD)
    assert abs(passed[-1]) < 0.4, "beyond the filter"
    bench = SimpleNamespace(axis=SimpleNamespace(feedback=SimpleNamespace(kind=SimpleNamespace(counts_lines=False))))
    rng, measured = np.random.default_rng(5), []
    for _ in range(60):
        parts = []
        for _ in range(4):
            signal = np.tile(random_multisine(lines, n_samples=PERIOD, rms=1.0, rng=rng), PERIODS)
            answer = np.zeros(PERIOD // 2 + 1, dtype=complex)
            answer[lines] = np.fft.rfft(signal[:PERIOD])[lines] * passed
            noise = rng.normal(0, 0.2, len(signal))
            filtered = np.tile(np.fft.irfft(answer, PERIOD), PERIODS) + noise
            parts.append(estimate_both(signal, signal, filtered, lines=lines, period=PERIOD, rate_hz=rate))
        measured.append(unfiltered_mean(bench, gains, parts, 1.0))  # type: ignore[arg-type]
    off = np.sqrt(np.mean([np.abs(m.value - 1) ** 2 for m in measured], axis=0))
    said = np.sqrt(np.mean([m.std**2 for m in measured], axis=0))
    np.testing.assert_allclose(said / off, 1.0, atol=0.5)


def test_what_proves_a_loop_ends_where_its_sensitivity_is_known() -> None:
    """Held against drawn plants: by how much 1 / (1 + L) scatters on every line, whatever it is known by."""
    f = LINES / (PERIOD * Rates().velocity)
    load = TwoMass(inertia_motor=6e-4)
    plant = velocity_plant(load, Winding(resistance=1.3, inductance=4.6e-3), GAINS, f)
    crossover = float(f[np.argmin(np.abs(np.abs(velocity_open(plant, GAINS, f)) - 1))])

    def known(std: np.ndarray) -> tuple[bool, float]:
        rng = np.random.default_rng(2)
        noise = rng.normal(size=(2, 4000, len(f))) * std / np.sqrt(2)
        drawn = velocity_open(plant * (1 + noise[0] + 1j * noise[1]), GAINS, f)
        scatter = np.quantile(np.std(np.abs(1 / (1 + drawn)), axis=0) * np.sqrt(2), 0.95)
        return knows_sensitivity(FrequencyResponse(f, plant, np.ones(len(f)), std * np.abs(plant)), GAINS), scatter

    highest = f > np.quantile(f, 0.7)
    assert f[highest].min() > 5 * crossover
    far = np.where(highest, 0.12, 0.02)  # high lines are hardly answered, and weigh little in the loop
    for std in (far, np.full(len(f), 0.025), np.full(len(f), 0.055)):
        said, scatter = known(std)
        assert said == (scatter < SENSITIVITY), scatter
    near = np.where(np.abs(np.log2(f / crossover)) < 1, 0.12, 0.02)  # as few lines, where the loop is decided
    assert known(far)[0] and not known(near)[0]
    assert not known(np.full(len(f), 0.2))[0]


def test_a_device_whose_noise_covers_the_answer_is_noticed_and_what_helps_is_said(
    make_drive: Callable[..., tuple[LinkedDrive, Any]],
) -> None:
    assert is_drowned(noisy(0.3))
    assert not is_drowned(noisy(0.05))
    drive, _ = make_drive()
    axis = understand(values_of("tile-pusher"))
    session = Session(drive=drive, axis=axis, consent=Consent(travel=80.0, speed=8.0))
    session.refresh()
    session.values["load.inertia"] = axis.inertia
    plain, loud = (plan_excitation(session, GAINS, loud=is_loud) for is_loud in (False, True))
    assert loud.rms > 1.5 * plain.rms
    assert 3 * len(loud.lines) <= len(LINES) + 3
    require_lines(session, noisy(0.3), plain, share=0.06)  # thirty good lines are enough to go on with
    few = noisy(0.3).below(20.0)
    with pytest.raises(AnswerInNoise) as caught:
        require_lines(session, few, loud, share=0.06)
    # Five times too noisy at the speed agreed to: the answer grows with the speed, and so must the consent.
    assert f"Raise {field_of('procedure.velocity')} to at least 5.0 times" in caught.value.text
    most = Excitation(rms=1e3, lines=LINES)
    with pytest.raises(AnswerInNoise, match="improve the device's signal"):
        require_lines(session, few, most, share=0.06)


def test_more_passes_are_asked_for_as_noise_falls_with_their_root_and_none_where_that_is_hopeless() -> None:
    # Eight passes at twice the noise that is precise enough: four times as many.
    assert passes_for(noisy(2 * PRECISE), 8) == 32
    assert passes_for(noisy(0.9 * PRECISE), 8) == 8
    assert passes_for(noisy(2.5 * PRECISE), 8) == MOST_PASSES  # fifty would do; forty come close
    assert passes_for(noisy(8 * PRECISE), 8) == 8


def test_an_excitation_leaves_most_of_the_voltage_of_the_bus_to_what_moves_the_axis(
    make_drive: Callable[..., tuple[LinkedDrive, Any]],
) -> None:
    drive, _ = make_drive()
    axis = understand(values_of("tile-pusher"))
    session = Session(drive=drive, axis=axis, consent=Consent(travel=80.0, speed=8.0))
    session.refresh()
    f, shape = np.array([10.0, 100.0, 900.0]), np.array([1.0, 2.0, 1.0])
    rms = most_by_voltage(session, f, shape)
    # Line by line: what its current needs at its impedance, all of them together as their powers add up.
    currents = rms / axis.motor.torque_constant * shape / np.sqrt(np.sum(shape**2))
    resistance, inductance = session.values["motor.resistance"], session.values["motor.inductance"]
    volts = currents * np.abs(resistance + 2j * np.pi * f * inductance)
    assert np.sqrt(np.sum(volts**2)) == pytest.approx(0.12 * axis.bus_voltage)
    session.values["motor.inductance"] *= 100
    assert most_by_voltage(session, f, shape) < 0.02 * rms
    session.values["load.inertia"] = axis.inertia
    assert plan_excitation(session, GAINS).rms < 0.02 * rms
