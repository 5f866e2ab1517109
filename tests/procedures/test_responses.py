"""Responses when asked for, against the true plant by a second way (`cli/true_plant.py`)."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from cadrel.cli.true_plant import true_loops, true_velocity_closed, true_velocity_plant
from cadrel.core.control import Gains, TwoMass, Winding, feedback_filter
from cadrel.core.control.cascade import loop_block, plant_block
from cadrel.core.identification import SpringyLoad
from cadrel.core.response import FrequencyResponse, random_multisine
from cadrel.core.simulation import RigTruth
from cadrel.procedures.errors import NotAllowed
from cadrel.procedures.responses.effort import PRECISE, line_strengths, passes_needed, times_needed, with_neighbours
from cadrel.procedures.responses.measure import bias_of
from cadrel.procedures.responses.request import Request
from tests.conftest import rig_of
from tests.procedures.test_stops import Ready

LIFT = rig_of("kiln-car-lift")


def complex_of(curve: dict[str, Any]) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Frequency, value, coherence and the band of two standard deviations, as a share of the value."""
    value = 10 ** (np.array(curve["db"]) / 20) * np.exp(1j * np.radians(curve["deg"]))
    band = 10 ** (np.array(curve["band_db"]) / 20) - 1
    return np.array(curve["f"]), value, np.array(curve["coherence"]), band


def rung(hz: float, damping: float) -> RigTruth:
    """The lift with its coupling ringing at a frequency."""
    together = 1 / LIFT.inertia_motor + 1 / LIFT.inertia_load
    stiffness = (2 * math.pi * hz) ** 2 / together
    return replace(LIFT, stiffness=stiffness, damping=2 * damping * math.sqrt(stiffness / together))


@pytest.mark.parametrize("signal", [0.0, 1.0])
def test_the_closed_velocity_loop_in_motion_is_that_of_the_true_plant(signal: float) -> None:
    ready = Ready(LIFT)
    outcome, session = ready.run("response", signal=signal)
    f, value, coherence, band = complex_of(outcome.runs[0].curves["responses"][0]["closed"])
    speed = bias_of(session, Request.from_arguments({}))
    true = true_velocity_closed(LIFT, session.values, f, speed_of_run=speed)
    true = true * feedback_filter(Gains.from_drive(session.values), f)
    sure = coherence > 0.9
    assert sure.sum() > 40
    ratio = value[sure] / true[sure]
    assert np.quantile(np.abs(20 * np.log10(np.abs(ratio))), 0.95) < 0.5
    assert np.quantile(np.abs(np.degrees(np.angle(ratio))), 0.95) < 3.0
    # What the statement leaves out, friction first of all, is under half a decibel; within that the bands hold.
    assert np.mean(np.abs(ratio - 1) < band[sure] + 0.02) > 0.9


def test_what_is_controlled_open_and_closed_belong_together_and_the_true_plant_lies_in_its_band() -> None:
    rig = replace(LIFT, dead_voltage=0.0)  # as where it was given back: nothing here measured it
    outcome, session = Ready(rig).run("response")
    kept = outcome.runs[0].curves["responses"][0]
    f, value, coherence, band = complex_of(kept["plant"])
    speed = bias_of(session, Request.from_arguments({}))
    true = true_velocity_plant(rig, session.values, f, speed_of_run=speed)
    sure = coherence > 0.9
    assert np.mean(np.abs(true[sure] / value[sure] - 1) < band[sure]) > 0.9
    assert band.min() > 2 * session.current_accuracy / math.sqrt(3), "no surer than what tells the torque"
    (f, plant, _, _), (_, opened, _, _), (_, closed, _, _) = (complex_of(kept[k]) for k in ("plant", "open", "closed"))
    assert np.allclose(closed, opened / (1 + opened), rtol=0.01)
    gains = Gains.from_drive(session.values)
    load = TwoMass(
        inertia_motor=LIFT.inertia_motor, inertia_load=LIFT.inertia_load, stiffness=LIFT.stiffness,
        damping=LIFT.damping, viscous=LIFT.viscous_motor, viscous_load=LIFT.viscous_load,
    )  # fmt: skip
    winding = Winding.from_drive(session.values | {"motor.resistance": LIFT.resistance})
    model = plant_block(load, winding, gains).response(f, output="raw speed", entry="torque")
    assert np.median(np.abs(20 * np.log10(np.abs(plant / model)))) < 0.3


def test_the_model_of_the_plant_has_as_many_masses_as_the_rig_and_its_resonance() -> None:
    ringing = rung(180.0, 0.02)
    outcome, _ = Ready(ringing).run("response")
    found = {x.kind: x for x in outcome.findings}
    assert found["model_order"].value == 2
    assert found["model_resonance_1"].value == pytest.approx(180.0, rel=0.01)
    assert found["model_resonance_1"].std is not None
    assert found["model_inertia_1"].value == pytest.approx(ringing.inertia_motor, rel=0.1)
    assert outcome.runs[0].curves["model"]["label"] == "model, 2 masses"
    at_rest, _ = Ready(ringing).run("response", moving=0.0)
    assert "model_order" not in {x.kind for x in at_rest.findings}  # friction holds it: that is no chain of masses


@pytest.mark.parametrize("moving", [0.0, 1.0])
def test_the_position_loops_margin_is_the_true_one(moving: float) -> None:
    ready = Ready(replace(LIFT, coulomb_motor=0.0, coulomb_load=0.0))
    ready.client.write({"position.gain": 40.0})
    outcome, session = ready.run("response", loop=2.0, moving=moving)
    found = {x.kind: x.value for x in outcome.findings}
    true = true_loops(ready.drive.truth, session.values)["position"].margins
    assert true.phase_margin is not None
    assert math.degrees(found["response_phase"]) == pytest.approx(math.degrees(true.phase_margin), abs=4)


def test_the_current_loop_is_measured_at_rest_up_to_thousands_of_hertz() -> None:
    ready = Ready(replace(LIFT, dead_voltage=0.0))  # at currents as small as these it adds to the resistance
    outcome, session = ready.run("response", loop=0.0, moving=1.0)
    f, value, coherence, _ = complex_of(outcome.runs[0].curves["responses"][0]["closed"])
    assert coherence.min() > 0.9
    seen = Winding(resistance=LIFT.resistance, inductance=LIFT.inductance_d)
    block = loop_block("current", TwoMass(inertia_motor=1.0), seen, Gains.from_drive(session.values), closed=True)
    true = block.response(f, output="shown", entry="command")
    assert np.max(np.abs(20 * np.log10(np.abs(value / true)))) < 0.5


@pytest.mark.parametrize(("hz", "damping"), [(60.0, 0.005), (800.0, 0.005)])
def test_a_resonance_of_half_a_percent_damping_is_resolved(hz: float, damping: float) -> None:
    ready = Ready(rung(hz, damping))
    truth = ready.drive.truth
    load = TwoMass(
        inertia_motor=truth.inertia_motor, inertia_load=truth.inertia_load, stiffness=truth.stiffness,
        damping=truth.damping, viscous=truth.viscous_motor, viscous_load=truth.viscous_load,
    )  # fmt: skip
    # As on the route what rings is known roughly: 2 % off, and twice as much damped.
    roughly = replace(load, stiffness=1.04 * truth.stiffness, damping=2.0 * truth.damping)
    seen = SpringyLoad(load=roughly, small_signal_resistance=truth.resistance, measured=_scattering(0.01))
    ready.plant = ready.plant.with_part(seen)
    outcome, session = ready.run("response", around=1.02 * hz)
    poles = np.linalg.eigvals(plant_block(load, Winding.from_drive(session.values), Gains.from_drive(session.values)).a)
    s = np.log(poles[np.abs(poles) > 1e-9].astype(complex)) * 4000
    mode = s[np.argmin(np.abs(np.abs(s) - 2 * math.pi * hz))]  # of the sampled plant, whose back-EMF damps as well
    found = {x.kind: x.value for x in outcome.findings}
    assert found["mode_frequency"] == pytest.approx(abs(mode) / (2 * math.pi), rel=0.005)
    assert found["mode_damping"] / 100 == pytest.approx(-mode.real / abs(mode), rel=0.2)
    assert outcome.runs[0].metrics["mode_lines"] >= 5


def test_amplitudes_are_each_twice_the_last_and_their_difference_is_told() -> None:
    outcome, _ = Ready(LIFT).run("response", amplitudes=2.0, amplitude=3.0, lines=30.0)
    smaller, larger = outcome.runs[0].excitation["amplitudes"]
    assert larger == pytest.approx(2 * smaller)
    assert len(outcome.runs[0].curves["responses"]) == 2
    assert next(x.value for x in outcome.findings if x.kind == "response_levels") > 0


def test_an_amplitude_beyond_what_was_agreed_to_is_lessened_and_said() -> None:
    outcome, session = Ready(LIFT).run("response", amplitude=60.0, lines=30.0)
    assert any("lessened" in note for note in session.notes)
    assert outcome.runs[0].excitation["amplitudes"][0] < 0.6 * session.axis.motor.torque_constant * 8


def _scattering(share: float, *, lines: int = 40, coherence: float = 0.95) -> FrequencyResponse:
    value = np.linspace(2.0, 0.1, lines) * np.exp(-1j * np.linspace(0, 3, lines))
    return FrequencyResponse(
        np.geomspace(4, 1000, lines), value, np.full(lines, coherence), np.full(lines, share) * np.abs(value)
    )


@pytest.mark.parametrize(
    ("share", "passes"),
    # 1.96 std in phase of a complex value of std s are 1.386 s: 2.1° (0.0367) where s is 0.0264.
    [(0.01, 6), (0.0263, 6), (0.032, 10), (0.037, 12), (0.5, 16)],
)
def test_passes_are_added_until_trusted_lines_are_right_to_three_degrees(share: float, passes: int) -> None:
    assert passes_needed(_scattering(share), 6) == passes


def test_few_lines_that_scatter_much_may_be_among_the_twentieth_that_is_off() -> None:
    """Judged by drawn errors, not by the formula: one line in four that scatters ten times as much as the others."""
    calm = _scattering(0.0064)
    mixed = replace(calm, std=np.where(np.arange(40) % 4 == 0, 0.061, 0.0064) * np.abs(calm.value))
    wanted = passes_needed(mixed, 6)
    assert wanted > 6
    rng = np.random.default_rng(4)

    def off(passes: int) -> float:
        relative = mixed.std / np.abs(mixed.value) * math.sqrt(6 / passes)
        error = rng.normal(size=(4000, 40)) * relative / math.sqrt(2)  # of phase
        return float(np.mean(np.abs(error) > PRECISE))

    assert off(wanted) < 0.05 < off(wanted - 3)
    assert passes_needed(_scattering(0.061), 6) > wanted, "all of them scattering so, more are needed"


@pytest.mark.parametrize(
    # As much scatter as two passes show: over four its root of two falls away, and the rest is made up by amplitude.
    ("share", "times"), [(0.02, 1.0), (0.0374 * 2, 2.0), (0.0374 * 3, 3.0), (1.0, 4.5)],
)  # fmt: skip
def test_an_amplitude_is_raised_by_what_four_passes_lack(share: float, times: float) -> None:
    assert times_needed(_scattering(share, coherence=0.99), 2, 4) == pytest.approx(times, rel=0.08)


def test_lines_that_nobody_trusts_yet_are_counted_once_they_would_be() -> None:
    """Twice as loud, noise is a fourth of the power: coherence 0.75 becomes 1 / (1 + (1 / 0.75 - 1) / 4) = 0.92."""
    assert times_needed(_scattering(0.05, coherence=0.75), 2, 4) == pytest.approx(1.73, rel=0.08)


def test_two_passes_tell_of_a_line_what_its_neighbours_say_as_well() -> None:
    rng = np.random.default_rng(8)
    true = _scattering(0.1, lines=200)
    seen = with_neighbours(replace(true, std=true.std * rng.exponential(size=200) ** 0.5))  # of one difference
    own, shared = (np.std(np.log(std / true.std)) for std in (true.std * rng.exponential(size=200) ** 0.5, seen.std))
    assert shared < 0.5 * own
    assert np.mean((seen.std / true.std) ** 2) == pytest.approx(1.0, abs=0.2)


def test_an_amplitude_that_noise_covers_is_raised_where_it_may_be_and_said() -> None:
    quiet, raised = (Ready(LIFT).run("response", amplitude=0.3, lines=30.0, louder=is_so) for is_so in (0.0, 1.0))
    amplitude = [outcome.runs[0].excitation["amplitudes"][0] for outcome, _ in (quiet, raised)]
    assert amplitude[1] > 1.2 * amplitude[0]
    assert [any("times the amplitude" in note for note in session.notes) for _, session in (quiet, raised)] == [0, 1]
    coherence = [o.runs[0].curves["responses"][0]["plant"]["coherence"] for o, _ in (quiet, raised)]
    assert sum(np.array(coherence[1]) > 0.9) > sum(np.array(coherence[0]) > 0.9)


def test_no_pass_is_added_for_lines_that_nobody_trusts() -> None:
    assert passes_needed(_scattering(0.5, coherence=0.5), 6) == 6


def test_lines_that_scatter_are_made_stronger_and_never_all_others_weaker() -> None:
    seen = _scattering(0.02)
    noisy = replace(seen, std=seen.std * np.where(np.arange(40) == 17, 25.0, 1.0))
    lines = np.round(noisy.frequency).astype(np.int64)
    strengths = line_strengths(noisy, lines, step=1.0)
    assert np.argmax(strengths) == 17 and strengths.max() == pytest.approx(3.0)
    assert np.median(strengths) == 1.0
    sure = replace(seen, std=seen.std * np.where(np.arange(40) < 5, 0.01, 1.0))
    assert line_strengths(sure, lines, step=1.0).min() == pytest.approx(0.4), (
        "sure as it is, it leaves torque to others"
    )
    beyond = line_strengths(noisy, np.array([2000]), step=1.0)  # what a counted speed could not tell
    assert beyond[0] == 1.0


def test_an_empty_band_is_refused() -> None:
    with pytest.raises(NotAllowed, match="No line lies"):
        Ready(LIFT).run("response", low=500.0, high=100.0)


def test_nothing_in_the_drive_is_changed_by_it() -> None:
    ready = Ready(LIFT)
    before = ready.client.read()
    ready.run("response", lines=30.0)
    assert ready.client.read() == before


def test_the_drawn_phases_have_a_low_crest() -> None:
    # Of one sine it is 1.41, of noise 3 to 4; of log-spaced lines as drawn 2.8.
    request = Request.from_arguments({})
    rates = Gains(
        current_gain=1, current_reset=1, velocity_gain=1, velocity_reset=1, feedback_filter_hz=800, torque_filter_hz=800
    ).rates
    lines, period = request.lines(rates), request.period(rates)
    signal = random_multisine(lines, n_samples=period, rms=1.0, rng=np.random.default_rng(31))
    assert np.abs(signal).max() < 2.5
    assert np.sqrt(np.mean(signal**2)) == pytest.approx(1.0)
