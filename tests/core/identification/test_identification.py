"""Fits on synthetic records whose answer is known."""

import math
from dataclasses import replace

import numpy as np
import pytest
from scipy.signal import StateSpace, cont2discrete, lsim

from cadrel.core.control import Gains, Rates, TwoMass, Winding, velocity_plant
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import (
    Estimated,
    LoadEstimate,
    PlantFit,
    angle_error_from_spinning,
    fit_admittance,
    fit_load,
    fit_two_mass,
    flux_from_spinning,
    learn_halls,
    load,
    offset_from_alignment,
    resistance_from_levels,
    unmixed,
)
from cadrel.core.identification.estimated import weighted_mean
from cadrel.core.identification.two_mass import RESONANCE_DOUBT, explained_upto
from cadrel.core.response import FrequencyResponse

TICK = Rates().current
RNG = np.random.default_rng(3)
GAINS = Gains(
    current_gain=17.0,
    current_reset=3.5e-3,
    velocity_gain=0.03,
    velocity_reset=0.06,
    feedback_filter_hz=800,
    torque_filter_hz=1200,
)
WINDING = Winding(resistance=1.3, inductance=4.6e-3)


def test_resistance_is_the_slope_and_leaves_the_dead_time_out() -> None:
    current = np.linspace(1, 4, 6)
    found = resistance_from_levels(current, 1.9 + 1.36 * current + RNG.normal(0, 1e-3, 6))
    assert found.value == pytest.approx(1.36, abs=4 * found.std + 1e-9)
    assert found.std < 2e-3
    with pytest.raises(UnusableInput):
        resistance_from_levels(np.ones(5), np.ones(5))


def test_resistance_is_not_raised_by_the_bend_of_the_dead_time() -> None:
    current = np.linspace(0.6, 3.6, 6)
    bent = 1.36 * current + 0.6 * current / (current + 0.12) + 0.6 * (current / 2) / (current / 2 + 0.12)
    assert np.polyfit(current, bent, 1)[0] > 1.39  # what a straight line makes of it
    found = resistance_from_levels(current, bent + RNG.normal(0, 2e-4, 6))
    assert found.value == pytest.approx(1.36, rel=0.004)


def test_a_rotor_that_moves_is_not_read_as_less_inductance() -> None:
    # The judge is scipy.signal: R-L and a rotor whose back-EMF is in series, held voltage at the tick.
    r, ind, m = 1.3, 4.6e-3, 0.236 / 1.4e-4
    a, b, c, d = np.array([[-r / ind, -1 / ind], [m, 0]]), np.array([[1 / ind], [0]]), np.eye(2)[:1], np.zeros((1, 1))
    a, b, c, *_ = cont2discrete((a, b, c, d), TICK, "zoh")
    f = np.geomspace(200, 3100, 30)
    z = np.exp(2j * np.pi * f * TICK)
    value = np.array([(c @ np.linalg.solve(q * np.eye(2) - a, b))[0, 0] / q for q in z])
    response = FrequencyResponse(f, value, np.full(30, 0.999), 1e-3 * np.abs(value))
    assert fit_admittance(response, tick=TICK, moves=True)[1].value == pytest.approx(ind, rel=0.005)
    assert fit_admittance(response, tick=TICK)[1].value < 0.98 * ind


def test_flux_is_told_apart_from_drop_and_dead_time() -> None:
    speed = np.concatenate([np.linspace(200, 700, 30), -np.linspace(200, 700, 30)])
    i_q = 0.4 * np.sign(speed) + RNG.normal(0, 1.5, 60)
    dead = 0.9 * i_q / (np.abs(i_q) + 0.05)
    v_q = 0.0992 * speed + 1.36 * i_q + dead + RNG.normal(0, 0.02, 60)
    found = flux_from_spinning(speed, v_q, np.zeros(60), i_q, np.zeros(60), resistance=1.36, inductance=4.6e-3)
    assert found.value == pytest.approx(0.0992, rel=2e-3)


@pytest.mark.parametrize("error", [-0.12, 0.0, 0.05, 0.3])
def test_an_angle_that_is_ahead_shows_in_v_d_whatever_the_load(error: float) -> None:
    speed = np.concatenate([np.linspace(150, 600, 25), -np.linspace(150, 600, 25)])
    i_q = 0.8 * np.sign(speed) + 0.5 + RNG.normal(0, 1, 50)  # friction and gravity
    v_d = speed * 0.0992 * math.sin(error) - speed * 4.6e-3 * i_q + 1e-7 * speed**2 + RNG.normal(0, 0.05, 50)
    found = angle_error_from_spinning(speed, v_d, i_q, flux_linkage=0.0992, inductance=5e-3)
    assert found.value == pytest.approx(error, abs=math.radians(0.3))


def test_where_a_load_leaves_the_current_no_room_the_inductance_entered_tells_the_angle() -> None:
    rng = np.random.default_rng(5)
    speed = np.concatenate([rng.uniform(100, 170, 30), -rng.uniform(100, 170, 30)])
    i_q = np.where(speed > 0, 2.85, 2.03) + rng.normal(0, 0.03, 60)  # gravity: all but one value each way
    v_d = speed * 0.0816 * math.sin(0.05) - speed * 1.8e-3 * i_q + rng.normal(0, 0.15, 60)
    found = angle_error_from_spinning(speed, v_d, i_q, flux_linkage=0.0816, inductance=1.3 * 1.8e-3)
    assert abs(found.value - 0.05) < 2 * found.std
    assert math.degrees(found.std) < 3.0
    blind = angle_error_from_spinning(speed, v_d, i_q, flux_linkage=0.0816, inductance=1.0)  # no help to speak of
    assert math.degrees(blind.std) > 6.0


def test_friction_cancels_between_the_two_directions() -> None:
    pairs, offset, lag = 4, 1.1, math.radians(6)
    vector = np.linspace(0, 2 * math.pi, 12)
    up, down = (vector - lag - offset) / pairs, (vector + lag - offset) / pairs
    found = offset_from_alignment(vector, up, vector, down, pole_pairs=pairs)
    assert found.offset == pytest.approx(offset, abs=1e-9)
    assert found.friction_lag == pytest.approx(lag)


SECTORS = {"normal": (1, 3, 2, 6, 4, 5), "mirrored": (1, 5, 4, 6, 2, 3)}  # six-step table: common practice


@pytest.mark.parametrize("name", SECTORS)
def test_halls_are_learned_with_order_offset_and_placement(name: str) -> None:
    misplaced = np.radians([1.5, -2.0, 0.5, 2.0, -1.0, -1.0])
    edges = 0.6 + np.arange(6) * math.pi / 3 + misplaced
    angle = np.linspace(0, 6 * math.pi, 20000)

    def codes(a: np.ndarray) -> np.ndarray:
        wrapped = (a - edges[0]) % (2 * math.pi)
        sector = np.searchsorted(edges - edges[0], wrapped, side="right") - 1
        return np.array(SECTORS[name])[sector]

    found = learn_halls(angle, codes(angle), angle[::-1], codes(angle[::-1]))
    assert found.fault is None
    assert found.mirrored is (name == "mirrored")
    assert math.degrees(found.offset) == pytest.approx(math.degrees(0.6), abs=0.2)
    np.testing.assert_allclose(np.degrees(found.edge_errors), np.degrees(misplaced), atol=0.2)


def codes_of(angle: np.ndarray) -> np.ndarray:
    return np.array(SECTORS["normal"])[(angle // (math.pi / 3)).astype(int) % 6]


@pytest.mark.parametrize(
    ("broken", "code", "says"),
    [
        (lambda h: h & 0b011, "dead", "Hall 3"),
        (lambda h: h ^ 0b100, "inverted", "Hall 3"),
        (lambda h: h ^ 0b001, "inverted", "Hall 1"),
        (lambda h: np.full_like(h, 7), "absent", "7 all the time"),
        (lambda h: np.where(h == 6, 4, h), "order", "state 6"),
    ],
)
def test_dead_and_inverted_halls_are_named(broken: object, code: str, says: str) -> None:
    angle = np.linspace(0, 6 * math.pi, 6000)
    wrong = broken(codes_of(angle))  # type: ignore[operator]
    fault = learn_halls(angle, wrong, angle[::-1], wrong[::-1]).fault
    assert fault is not None
    assert (fault.code, says in fault.text) == (code, True), fault


def test_halls_spaced_60_degrees_are_read_with_their_middle_one_inverted() -> None:
    angle = np.linspace(0, 6 * math.pi, 6000)
    shown = codes_of(angle) ^ 2
    assert {0, 7} <= set(shown)
    assert learn_halls(angle, shown, angle[::-1], shown[::-1], spacing=60).fault is None
    assert learn_halls(angle, shown, angle[::-1], shown[::-1], spacing=120).fault is not None


def test_hysteresis_is_told_from_the_place_of_an_edge() -> None:
    angle, half = np.linspace(0, 6 * math.pi, 30000), math.radians(3)
    found = learn_halls(angle, codes_of(angle - half), angle[::-1], codes_of(angle[::-1] + half))
    assert math.degrees(found.hysteresis) == pytest.approx(6, abs=0.2)
    assert math.degrees(abs(found.offset)) < 0.2


def test_load_is_found_from_position_and_torque() -> None:
    j, tc, b, tg, t = 3.7e-4, 0.11, 4e-4, 0.02, 250e-6
    lobe = np.concatenate([np.linspace(0, 1, 200), np.ones(300), np.linspace(1, 0, 200), np.zeros(40)])
    speed = np.concatenate([s * a * lobe for a in (100, 40) for s in (1, -1, -1, 1)])
    position = np.cumsum(speed) * t
    torque = j * np.gradient(speed, t) + tc * np.sign(speed) + b * speed + tg + RNG.normal(0, 0.02, len(speed))
    counted = np.floor(position * 10000 / (2 * math.pi)) * 2 * math.pi / 10000
    found = fit_load(counted, torque, speed, period=t, slow=5.0)
    assert found.inertia.value == pytest.approx(j, rel=0.01)
    assert found.coulomb.value == pytest.approx(tc, rel=0.05)
    assert found.constant.value == pytest.approx(tg, abs=0.002)


def test_friction_that_changes_along_a_short_way_is_not_taken_for_inertia() -> None:
    rng = np.random.default_rng(7)
    j, tc, t = 3.7e-5, 0.06, 250e-6
    up = 0.5 - 0.5 * np.cos(np.linspace(0, math.pi, 400))
    lobe = np.concatenate([up, np.ones(200), up[::-1], np.zeros(60)])
    speed = np.concatenate([s * a * lobe for a in (40, 18) for s in (1, -1, -1, 1)])
    position = np.cumsum(speed) * t
    uneven = 1 + 0.15 * np.sin(3 * position + 1.0)  # three times a turn; the way is one turn and a bit
    torque = j * np.gradient(speed, t) + tc * uneven * np.sign(speed) + rng.normal(0, 2e-3, len(speed))
    found = fit_load(position, torque, speed, period=t, slow=4.0)
    assert found.inertia.value == pytest.approx(j, rel=0.01)
    assert found.coulomb.value == pytest.approx(tc, rel=0.03)
    even = fit_load(position, torque - tc * (uneven - 1) * np.sign(speed), speed, period=t, slow=4.0)
    assert even.residual < 1.2 * found.residual, "nothing of it is left"


def test_slots_that_pull_at_the_ramps_are_not_taken_for_inertia() -> None:
    rng = np.random.default_rng(7)
    j, tc, t = 3.4e-5, 0.09, 250e-6
    up = 0.5 - 0.5 * np.cos(np.linspace(0, math.pi, 280))
    lobe = np.concatenate([up, np.ones(1500), up[::-1], np.zeros(60)])
    speed = np.concatenate([s * a * lobe for a in (40, 18) for s in (1, -1, -1, 1)])
    position = np.cumsum(speed) * t
    cogging = 0.011 * np.cos(9 * position + 2.0)
    torque = j * np.gradient(speed, t) + tc * np.sign(speed) + cogging + rng.normal(0, 2e-3, len(speed))
    found = fit_load(position, torque, speed, period=t, slow=5.0)
    assert found.inertia.value == pytest.approx(j, rel=0.02)
    assert abs(found.inertia.value - j) < 3 * found.inertia.std


def test_runs_that_scatter_are_as_sure_as_they_scatter() -> None:
    # By hand: equal deviations, chi² 16 over a freedom of 3, so more than twice the plain deviation of the mean.
    equal = [Estimated(v, 1.0) for v in (8.0, 12.0, 8.0, 12.0)]
    found = weighted_mean(equal)
    assert found.value == pytest.approx(10.0)
    assert found.std == pytest.approx(math.sqrt(16 / 3) / 2)
    agreeing = weighted_mean([Estimated(10.0, 1.0), Estimated(10.1, 1.0)])
    assert agreeing.std == pytest.approx(1 / math.sqrt(2)), "no surer than each tells for itself"
    assert weighted_mean([Estimated(10.0, 0.1), Estimated(14.0, 10.0)]).value == pytest.approx(10.0, rel=1e-3)


def rubbed(viscous: float, seed: int) -> LoadEstimate:
    """Strokes between 20 and 30 rad/s under torque with noise: 0.05 N·m of Coulomb friction, and viscous friction."""
    t, n = 5e-4, 8000
    time = np.arange(n) * t
    speed = 30.0 * np.clip(4 * np.sin(2 * np.pi * time), -1, 1)
    position = np.cumsum(speed) * t
    torque = 1e-3 * np.gradient(speed, t) + 0.05 * np.sign(speed) + viscous * speed
    noise = np.random.default_rng(seed).normal(size=n)
    return fit_load(position, torque + 0.2 * noise, speed, period=t, slow=20.0)


def test_where_speeds_lie_too_near_to_tell_coulomb_from_viscous_friction_the_usual_decides(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    usual = [rubbed(1e-4, seed) for seed in range(30)]
    monkeypatch.setattr(load, "VISCOUS", 1e6)
    alone = [rubbed(1e-4, seed) for seed in range(30)]

    def rms(found: list[LoadEstimate]) -> float:
        return float(np.sqrt(np.mean([(one.coulomb.value / 0.05 - 1) ** 2 for one in found])))

    assert rms(alone) > 0.2 and rms(usual) < 0.7 * rms(alone)
    off, off_alone = ([abs(one.coulomb.value - 0.05) / one.coulomb.std for one in many] for many in (usual, alone))
    assert np.median(off) < 1.2 * np.median(off_alone), "no surer of itself than it was"
    assert [one.inertia.value for one in usual] == pytest.approx([one.inertia.value for one in alone], rel=0.02)


def test_viscous_friction_beyond_the_usual_is_found_where_the_speeds_tell_it() -> None:
    """Sines from 0 to 30 rad/s: viscous torque at the top is twice Coulomb's, four times what is usual."""
    t = 5e-4
    speed = 30.0 * np.sin(2 * np.pi * np.arange(8000) * t)
    torque = 1e-3 * np.gradient(speed, t) + 0.05 * np.sign(speed) + 3.3e-3 * speed
    noise = 0.01 * np.random.default_rng(1).normal(size=8000)
    found = fit_load(np.cumsum(speed) * t, torque + noise, speed, period=t, slow=3.0)
    assert found.viscous.value == pytest.approx(3.3e-3, rel=0.02)
    assert found.coulomb.value == pytest.approx(0.05, rel=0.05)


def test_an_axis_without_any_friction_has_none() -> None:
    t = 5e-4
    speed = 30.0 * np.sin(2 * np.pi * np.arange(8000) * t)
    torque = 1e-3 * np.gradient(speed, t)
    found = fit_load(np.cumsum(speed) * t, torque, speed, period=t, slow=3.0)
    assert found.inertia.value == pytest.approx(1e-3, rel=1e-3)
    assert max(abs(found.coulomb.value), abs(found.viscous.value) * 30.0) < 0.01 * torque.max()
    assert found.viscous.std >= 0.0


def test_a_part_of_the_data_makes_doubtful_only_what_it_differs_by_beyond_its_own_scatter() -> None:
    """Means of all of 40 draws and of the first 10 of them: the whole stays as sure as it is, unless they drift."""
    rng, doubts = np.random.default_rng(4), []
    for _ in range(2000):
        draws = rng.normal(size=40)
        whole, part = Estimated(float(draws.mean()), 1 / math.sqrt(40)), Estimated(float(draws[:10].mean()), 0.1**0.5)
        doubts.append(whole.doubted_by_part(part))
    assert 0.93 < np.mean([abs(d.value) < 2 * d.std for d in doubts]) <= 0.99
    assert np.median([d.std for d in doubts]) == pytest.approx(1 / math.sqrt(40))
    drifted = Estimated(1.0, 0.1).doubted_by_part(Estimated(3.0, 0.2))
    assert drifted.std == pytest.approx(math.sqrt(0.1**2 + 2.0**2 - 0.03))
    assert Estimated(1.0, 0.2).doubted_by_part(Estimated(1.0, 0.1)).std == 0.2, "a part is never the surer"


def test_a_load_that_swings_on_its_shaft_is_weighed_right() -> None:
    # The judge is scipy.signal: two masses, 25 Hz anti-resonance, a soft loop, corners that make them swing.
    j1, j2, k, d, b, kp, t = 1e-4, 4e-4, 4e-4 * (2 * math.pi * 25) ** 2, 1e-3, 2e-4, 0.05, 250e-6
    a = np.array([[-(kp + d + b) / j1, d / j1, -k / j1], [d / j2, -d / j2, k / j2], [1.0, -1.0, 0.0]])
    motor = StateSpace(a, [[kp / j1], [0], [0]], [[1.0, 0, 0]], 0)
    lobe = np.concatenate([np.linspace(0, 80, 80), np.full(700, 80.0), np.linspace(80, 0, 80), np.zeros(40)])
    command = np.concatenate([s * lobe for s in (1, -1, -1, 1, 0.5, -0.5, -0.5, 0.5)])
    time = t * np.arange(len(command))
    _, speed, _ = lsim(motor, command, time)
    torque, position = kp * (command - speed), np.cumsum(speed) * t
    found = fit_load(position, torque, command, period=t, slow=20.0)
    assert found.inertia.value == pytest.approx(j1 + j2, rel=0.03)
    misled = fit_load(position, torque, speed, period=t, slow=20.0)  # instruments that swing along: least squares
    assert abs(misled.inertia.value / (j1 + j2) - 1) > 0.1


@pytest.mark.parametrize(("anti", "ratio"), [(60.0, 2.0), (180.0, 1.6), (420.0, 0.6)])
def test_two_masses_are_found_in_their_own_response(anti: float, ratio: float) -> None:
    load = 1.4e-4 * ratio
    truth = TwoMass(inertia_motor=1.4e-4, inertia_load=load, stiffness=load * (2 * math.pi * anti) ** 2, damping=0.02)
    f = np.geomspace(4, 1000, 80)
    clean = velocity_plant(truth, WINDING, GAINS, f)
    noisy = clean * (1 + RNG.normal(0, 0.01, 80) + 1j * RNG.normal(0, 0.01, 80))
    response = FrequencyResponse(f, noisy, np.full(80, 0.99), 0.01 * np.abs(noisy))
    fit = fit_two_mass(response, WINDING, GAINS, inertia=1.07 * truth.inertia, viscous=0.0)
    assert fit.load.antiresonance_hz == pytest.approx(anti, rel=0.02)
    assert fit.load.inertia == pytest.approx(truth.inertia, rel=0.03)


def noisy_response(truth: TwoMass) -> FrequencyResponse:
    f = np.geomspace(4, 1000, 80)
    clean = velocity_plant(truth, WINDING, GAINS, f)
    noisy = clean * (1 + RNG.normal(0, 0.005, 80) + 1j * RNG.normal(0, 0.005, 80))
    return FrequencyResponse(f, noisy, np.full(80, 0.99), 0.005 * np.abs(noisy))


def test_damping_that_lines_hardly_tell_is_not_told_as_next_to_none() -> None:
    """A loop that must hold a resonance without damping, wherever it lies, is next to no loop."""
    critical = 2 * math.sqrt(600.0 * 1e-3 * 5e-4 / 1.5e-3)
    truth = TwoMass(inertia_motor=1e-3, inertia_load=5e-4, stiffness=600.0, damping=0.0052 * critical)
    rng, f = np.random.default_rng(11), np.geomspace(4, 930, 24)
    clean, found = velocity_plant(truth, WINDING, GAINS, f), []
    for _ in range(6):
        noisy = clean * (1 + rng.normal(0, 0.15, 24) + 1j * rng.normal(0, 0.15, 24))
        response = FrequencyResponse(f, noisy, np.full(24, 0.8), 0.15 * np.abs(noisy))
        load = fit_two_mass(response, WINDING, GAINS, inertia=truth.inertia, viscous=0.0, known=0.04).load
        assert load.stiffness is not None
        reduced = load.inertia_motor * load.inertia_load / load.inertia
        found.append(load.damping / (2 * math.sqrt(load.stiffness * reduced)))
    assert min(found) > 0.6 * 0.0052, "by the lines alone a third of it"
    assert np.median(found) < 2 * 0.0052


def test_what_rubs_on_the_load_is_told_from_what_damps_the_shaft() -> None:
    # Both fill the anti-resonance, only the shaft's own damping lowers the resonance with it.
    truth = TwoMass(
        inertia_motor=3e-4, inertia_load=3e-4, stiffness=34.0, damping=0.003, viscous=1e-4, viscous_load=2.8e-3
    )
    fit = fit_two_mass(noisy_response(truth), WINDING, GAINS, inertia=6.3e-4, viscous=2.9e-3).load
    assert fit.viscous_load == pytest.approx(truth.viscous_load, rel=0.1)
    assert fit.damping == pytest.approx(truth.damping, rel=0.1)
    assert fit.viscous < 4e-4  # the rest of the total


def test_a_resonance_just_above_the_measurement_is_seen_by_its_flank() -> None:
    truth = TwoMass(inertia_motor=1.26e-3, inertia_load=3.2e-4, stiffness=13400.0, damping=0.25)
    response = noisy_response(truth)
    fit = fit_two_mass(response, WINDING, GAINS, inertia=1.5e-3, viscous=0.0)
    model = velocity_plant(fit.load, fit.winding, GAINS, response.frequency)
    assert np.abs(20 * np.log10(np.abs(model / response.value))).max() < 0.5  # a single mass is 5 dB off


def test_a_measurement_that_is_off_does_not_carry_the_total_inertia_away() -> None:
    truth = TwoMass(inertia_motor=5.8e-5, inertia_load=8.1e-4, stiffness=1480.0, damping=0.02)
    clean = noisy_response(truth)
    low = clean.frequency < 200.0
    off = FrequencyResponse(  # friction that sticks answers less, where the axis swings far and slowly
        clean.frequency,
        np.where(low, 0.75, 1.0) * clean.value,
        clean.coherence,
        np.where(low, 0.1, 0.02) * abs(clean.value),
    )
    fit = fit_two_mass(off, WINDING, GAINS, inertia=truth.inertia, viscous=0.0).load
    assert fit.inertia == pytest.approx(truth.inertia, rel=0.11)
    assert fit.resonance_hz == pytest.approx(truth.resonance_hz, rel=0.02)


def test_lines_that_all_answer_too_little_make_an_axis_no_heavier_than_its_load_run_allows() -> None:
    truth = TwoMass(inertia_motor=6.3e-5, inertia_load=1.8e-5, stiffness=200.0, damping=2.3e-3)
    clean = noisy_response(truth)
    faint = FrequencyResponse(clean.frequency, 0.88 * clean.value, clean.coherence, 0.08 * np.abs(clean.value))
    free, kept = (
        fit_two_mass(faint, WINDING, GAINS, inertia=truth.inertia, viscous=0.0, **known).load
        for known in ({}, {"known": 0.04})
    )
    assert free.inertia > 1.08 * truth.inertia
    assert kept.inertia == pytest.approx(truth.inertia, rel=0.041)
    assert kept.resonance_hz == pytest.approx(truth.resonance_hz, rel=0.03)
    assert abs(kept.inertia_motor / truth.inertia_motor - 1) < abs(free.inertia_motor / truth.inertia_motor - 1)


def test_where_a_tight_loop_hides_the_load_the_measurement_before_says_where_it_swings() -> None:
    """Below 100 Hz a tight loop answers next to nothing: fitted to the rest, the load had a shaft twice as stiff."""
    truth = TwoMass(inertia_motor=7.9e-5, inertia_load=1.55e-3, stiffness=7.24, damping=1.24e-3, viscous_load=3e-4)
    before = noisy_response(truth)
    near = fit_two_mass(before, WINDING, GAINS, inertia=truth.inertia, viscous=3e-4, known=0.04)
    share = 0.01 * (1 + (100.0 / before.frequency) ** 4)
    scattered = before.value * (1 + share * (RNG.normal(size=80) + 1j * RNG.normal(size=80)))
    tight = FrequencyResponse(before.frequency, scattered, before.coherence, share * np.abs(scattered))
    whole = tight.filled_from(before, sure=0.06, apart=0.08)
    alone, filled = (
        fit_two_mass(one, WINDING, GAINS, inertia=truth.inertia, viscous=3e-4, near=near, known=0.04)
        for one in (tight, whole)
    )
    assert tight.precise(0.06).frequency[0] > 60.0 and whole.precise(0.06).frequency[0] == before.frequency[0]
    assert filled.load.stiffness == pytest.approx(truth.stiffness, rel=0.03)
    assert filled.load.antiresonance_hz == pytest.approx(truth.antiresonance_hz, rel=0.02)
    assert filled.antiresonance_std is not None and alone.antiresonance_std is not None
    assert filled.antiresonance_std < 0.2 * alone.antiresonance_std


def test_a_resonance_is_stated_with_what_its_model_is_off_by_however_clean_the_lines_are() -> None:
    """Lines without noise tell the model's own resonance to parts of a million, not the machine's, whose masses rub."""
    truth = TwoMass(inertia_motor=3e-4, inertia_load=6e-4, stiffness=300.0, damping=0.02)
    frequency = np.geomspace(20, 800, 80)
    value = velocity_plant(truth, WINDING, GAINS, frequency)
    clean = FrequencyResponse(frequency, value, np.ones(80), 1e-4 * np.abs(value))
    found = fit_two_mass(clean, WINDING, GAINS, inertia=truth.inertia, viscous=0.0)
    assert found.load.resonance_hz == pytest.approx(truth.resonance_hz, rel=RESONANCE_DOUBT)
    assert found.resonance_std is not None and found.load.resonance_hz is not None
    assert found.resonance_std >= RESONANCE_DOUBT * found.load.resonance_hz


def test_a_fit_may_begin_at_one_that_these_lines_cannot_show() -> None:
    """What an earlier, worse measurement gave lies below the first line and beyond every bound: it still begins."""
    truth = TwoMass(inertia_motor=3e-4, inertia_load=3e-4, stiffness=300.0, damping=0.02)
    response = noisy_response(truth)
    dense = response.frequency > 60.0
    seen = FrequencyResponse(
        response.frequency[dense], response.value[dense], response.coherence[dense], response.std[dense]
    )
    far = TwoMass(inertia_motor=5.9e-4, inertia_load=2e-6, stiffness=1e-4, damping=3e-7, viscous_load=1e-9)
    fit = fit_two_mass(seen, WINDING, GAINS, inertia=6e-4, viscous=0.0, near=PlantFit(far, WINDING)).load
    assert fit.inertia == pytest.approx(6e-4, rel=0.11)
    wild = far.antiresonance_hz
    assert wild is not None and wild < seen.frequency[0]  # where it would have begun


@pytest.mark.parametrize("ratio", [8.0, 22.0, 30.0])
def test_an_anti_resonance_below_every_line_that_is_answered_is_told_by_the_resonance(ratio: float) -> None:
    # A heavy load on a soft shaft: friction drowns what lies below 14 Hz, and the anti-resonance with it.
    motor, resonance = 8.3e-5, 48.0
    load = ratio * motor
    stiffness = (2 * math.pi * resonance) ** 2 * motor * load / (motor + load)
    damping = 2 * 0.02 * math.sqrt(stiffness * motor * load / (motor + load))
    truth = TwoMass(inertia_motor=motor, inertia_load=load, stiffness=stiffness, damping=damping)
    assert truth.antiresonance_hz is not None and truth.antiresonance_hz < 17.0
    whole = noisy_response(truth)
    seen = whole.frequency > 19.0
    above = FrequencyResponse(*(row[seen] for row in (whole.frequency, whole.value, whole.coherence, whole.std)))
    fit = fit_two_mass(above, WINDING, GAINS, inertia=1.02 * truth.inertia, viscous=0.0).load
    assert fit.resonance_hz == pytest.approx(resonance, rel=0.01)
    assert fit.antiresonance_hz == pytest.approx(truth.antiresonance_hz, rel=0.06)
    assert fit.inertia_motor == pytest.approx(motor, rel=0.03)


def test_of_a_resonance_beyond_the_lines_the_motors_inertia_tells_where_it_lies() -> None:
    """A flank alone tells motor and load apart badly: with the motor as its sheet has it the resonance is where it is.

    f_res = f_anti sqrt(J / J_motor), every textbook of drives; the sheet is off by 8 %, which is 4 % of the resonance.
    """
    motor, load, stiffness = 1.67e-5, 1.28e-5, 387.0
    truth = TwoMass(inertia_motor=motor, inertia_load=load, stiffness=stiffness, damping=7e-4, viscous=1e-5)
    assert truth.resonance_hz is not None and truth.resonance_hz > 1150
    rng, f = np.random.default_rng(17), np.geomspace(20, 700, 60)
    clean, std = velocity_plant(truth, WINDING, GAINS, f), np.where(f < 400, 0.03, 0.12)
    off: dict[float, list[float]] = {0.0: [], 1.08 * motor: []}
    # Common practice: shafts and couplings have 0.5 to 5 %.
    usual = 0.015 * 2 * math.sqrt(stiffness * motor * load / (motor + load))
    damped = []
    for _ in range(12):
        noisy = clean * (1 + std * (rng.normal(size=60) + 1j * rng.normal(size=60)) / math.sqrt(2))
        response = FrequencyResponse(f, noisy, np.full(60, 0.9), std * np.abs(noisy))
        for entered, found in off.items():
            fit = fit_two_mass(
                response, WINDING, GAINS, inertia=truth.inertia, viscous=1e-5, known=0.04, motor_inertia=entered
            )
            if fit.load.resonance_hz is not None:
                found.append(abs(fit.load.resonance_hz / truth.resonance_hz - 1))
                assert fit.resonance_std is not None and fit.resonance_std > 0.01 * fit.load.resonance_hz
                damped.append(fit.load.damping / usual)
    assert len(off[1.08 * motor]) >= 4
    assert float(np.median(damped)) < 0.7  # a flank does not tell how sharp it is: less than is usual is borne
    middle = {entered: float(np.median(found)) for entered, found in off.items()}
    assert middle[1.08 * motor] < 0.06 < middle[0.0]


def test_a_resonance_that_is_seen_is_where_it_is_whatever_was_entered_for_the_motor() -> None:
    truth = TwoMass(inertia_motor=3e-4, inertia_load=6e-4, stiffness=300.0, damping=0.02)
    response = noisy_response(truth)
    for entered in (0.5 * 3e-4, 2.0 * 3e-4):
        fit = fit_two_mass(response, WINDING, GAINS, inertia=truth.inertia, viscous=0.0, motor_inertia=entered).load
        assert fit.resonance_hz == pytest.approx(truth.resonance_hz, rel=0.01)
        assert fit.inertia_motor == pytest.approx(3e-4, rel=0.02)


def test_one_mass_stays_one_mass() -> None:
    f = np.geomspace(4, 1000, 80)
    clean = velocity_plant(TwoMass(inertia_motor=3e-4), WINDING, GAINS, f)
    response = FrequencyResponse(f, clean, np.full(80, 0.99), 0.01 * np.abs(clean))
    fit = fit_two_mass(response, WINDING, GAINS, inertia=2.8e-4, viscous=0.0)
    assert fit.load.stiffness is None
    assert fit.load.inertia == pytest.approx(3e-4, rel=0.01)


def test_a_light_load_too_faint_for_a_spring_says_up_to_where_one_mass_is_believed() -> None:
    """Behind play in a counter's noise: seven lines of sixty are off, by more than they scatter."""
    motor = TwoMass(inertia_motor=2.7e-4, viscous=3e-4)
    frequency = np.geomspace(20, 977, 60)
    value = velocity_plant(motor, WINDING, GAINS, frequency)
    std = np.where(frequency < 500, 0.03, 0.12) * np.abs(value)
    rng = np.random.default_rng(12)
    noise = std * (rng.normal(size=60) + 1j * rng.normal(size=60)) / math.sqrt(2)

    def believed(value: np.ndarray) -> float:
        return explained_upto(FrequencyResponse(frequency, value + noise, np.ones(60), std), plant)

    plant = value
    assert believed(value) == frequency[-1]  # what merely scatters hides nothing
    springy = replace(motor, inertia_motor=2.2e-4, inertia_load=5e-5, stiffness=1000.0, damping=0.02)
    assert springy.resonance_hz == pytest.approx(789, abs=5)
    told = believed(velocity_plant(springy, WINDING, GAINS, frequency))
    assert 450 < told < 700  # the last line that surely shows none, below its first flank
    alone = value.copy()
    alone[50] *= 2.0  # one line by itself is none
    assert believed(alone) == frequency[-1]
    low = value.copy()
    low[2:5] *= 2.0  # friction and a tight loop make the lowest lines what they are
    assert believed(low) == frequency[-1]


def test_inductances_seen_beside_the_rotor_are_turned_back() -> None:
    d, q = 1.66e-3, 1.94e-3
    for beside in (-0.3, 0.0, 0.15, 0.4):
        # The inductance along a direction of a salient rotor; textbook rotation of diag(Ld, Lq), not our own formula.
        turn = np.array([[math.cos(beside), -math.sin(beside)], [math.sin(beside), math.cos(beside)]])
        seen = turn.T @ np.diag([d, q]) @ turn
        found_d, found_q = unmixed(Estimated(seen[0, 0], 1e-6), Estimated(seen[1, 1], 1e-6), beside=beside)
        assert (found_d.value, found_q.value) == pytest.approx((d, q), rel=1e-9)
        assert found_q.std >= 1e-6
    assert unmixed(Estimated(d, 0.0), Estimated(q, 0.0), beside=1.4)[1].value < 1.4 * q  # never blown up


def test_a_spring_that_was_seen_stays_where_a_later_measurement_is_too_faint_to_show_it() -> None:
    """Around a tighter loop a noisy device tells less of where the load swings than around the one before it."""
    truth = TwoMass(inertia_motor=3.5e-5, inertia_load=1.4e-5, stiffness=400.0, damping=0.004)
    rng, f = np.random.default_rng(3), np.geomspace(30, 980, 70)
    clean = velocity_plant(truth, WINDING, GAINS, f)

    def measured(share: np.ndarray) -> FrequencyResponse:
        # Noise is as loud whatever the axis answers: where that is little it covers it.
        std = share * np.abs(velocity_plant(TwoMass(inertia_motor=truth.inertia), WINDING, GAINS, f))
        return FrequencyResponse(f, clean + std * (rng.normal(size=(2, 70)).T @ [1, 1j]) / np.sqrt(2), np.ones(70), std)

    def fitted(seen: FrequencyResponse, near: PlantFit | None = None) -> PlantFit:
        return fit_two_mass(seen, WINDING, GAINS, inertia=truth.inertia, viscous=0.0, near=near)

    first = fitted(measured(np.full(70, 0.04)))
    faint = measured(np.where(f < 500, 0.05, 1.5))
    assert truth.resonance_hz is not None
    assert first.load.resonance_hz == pytest.approx(truth.resonance_hz, rel=0.02)
    assert fitted(faint).load.stiffness is None, "by itself it shows one mass"
    kept = fitted(faint, near=first)
    assert kept.load.resonance_hz == pytest.approx(truth.resonance_hz, rel=0.02)
    assert kept.load.antiresonance_hz == pytest.approx(truth.antiresonance_hz, rel=0.05)
    assert kept.load.damping == pytest.approx(first.load.damping, rel=0.2), "lessened no second time"


def test_a_spring_that_was_told_wrongly_is_given_up_where_the_lines_are_those_of_one_mass() -> None:
    truth = TwoMass(inertia_motor=5e-5)
    wrong = TwoMass(inertia_motor=3e-5, inertia_load=2e-5, stiffness=2e-5 * (2 * np.pi * 400) ** 2, damping=0.002)
    near = PlantFit(wrong, WINDING, 5.0, 5.0)
    fit = fit_two_mass(noisy_response(truth), WINDING, GAINS, inertia=truth.inertia, viscous=0.0, near=near)
    assert fit.load.stiffness is None and fit.seen_hz == pytest.approx(1000.0)


def test_an_angle_that_nothing_shows_leaves_the_values_and_is_doubt() -> None:
    d, q = unmixed(Estimated(4.0e-3, 1e-6), Estimated(5.0e-3, 1e-6), beside=None)
    assert (d.value, q.value) == (pytest.approx(4.0e-3), pytest.approx(5.0e-3))
    # Held 15° beside the vector the true difference would be 1 mH / cos 30°: each axis off by half of what it is more.
    assert q.std == pytest.approx(0.5e-3 * (1 / math.cos(math.radians(30)) - 1), rel=1e-3)


@pytest.mark.parametrize("anti_hz", [12.0, 20.0])
def test_soft_strokes_weigh_a_load_on_a_soft_spring_without_its_swing_in_it(anti_hz: float) -> None:
    # The judge is scipy.signal again: a load of seven times the motor's inertia that follows late and further.
    j1, j2, d, b, kp, t = 1e-4, 7e-4, 2e-3, 2e-4, 0.08, 250e-6
    k = j2 * (2 * math.pi * anti_hz) ** 2
    a = np.array([[-(kp + d + b) / j1, d / j1, -k / j1], [d / j2, -d / j2, k / j2], [1.0, -1.0, 0.0]])
    motor = StateSpace(a, [[kp / j1], [0], [0]], [[1.0, 0, 0]], 0)
    ramp = 0.5 - 0.5 * np.cos(math.pi * np.arange(1, 1001) / 1000)
    lobe = 60.0 * np.concatenate([ramp, np.ones(1200), ramp[::-1], np.zeros(60)])
    command = np.concatenate([s * lobe for s in (1, -1, -1, 1, 0.5, -0.5, -0.5, 0.5)])
    _, speed, _ = lsim(motor, command, t * np.arange(len(command)))
    found = fit_load(np.cumsum(speed) * t, kp * (command - speed), command, period=t, slow=15.0)
    error = found.inertia.value / (j1 + j2) - 1
    assert abs(error) < 0.03
    assert abs(error) * (j1 + j2) < 2 * found.inertia.std
