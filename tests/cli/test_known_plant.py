"""The loop of one who knows the plant: an honest yardstick is stable wherever a tuned loop has to be."""

import math
from dataclasses import replace

import numpy as np
import pytest

from cadrel.cli import known_kernel, known_plant
from cadrel.cli.known_plant import best_known, gripped, rigs_of_spread
from cadrel.cli.true_plant import true_loops, true_velocity_plant
from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Gains
from cadrel.core.parameters import REGISTRY
from cadrel.core.simulation import RigTruth
from cadrel.core.simulation.layout import TV
from tests.cli.test_true_plant import TRUTH, values_with
from tests.conftest import rig_of

ASKED = Robustness(phase_margin=math.radians(45), gain_margin_db=8.0, sensitivity_peak=1.8)
# Rings at 700 to 1300 Hz, as heavy as its load is, hardly damped: beside that circle no coarse grid sees a loop turn.
QUIET = np.array([[0.0, 1.0], [0.0, 1.0]])  # no noise, at rest or in motion


def of_rest(noise: float, torque: float) -> np.ndarray:
    return np.array([[noise, torque], [0.0, 1.0]])


SHARP = rig_of(
    "tile-pusher", inertia_load=0.3 * TRUTH.inertia_motor,
    stiffness=(2 * math.pi * 1180) ** 2 * TRUTH.inertia_motor * 0.3 / 1.3, damping=2e-3,
)  # fmt: skip


@pytest.mark.parametrize("truth", [TRUTH, SHARP])
def test_it_keeps_what_is_asked_and_is_stable_at_every_corner_by_eigenvalues(
    truth: RigTruth, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(known_plant, "GENERATIONS", 60)  # as stiff as there is takes more
    values = values_with(velocity__notch_frequency=0.0)
    inertia = truth.inertia_motor + truth.inertia_load
    at_most = Gains.from_drive(values).with_(torque_filter_hz=1900.0, feedback_filter_hz=1900.0, sections=())
    found = best_known(truth, values, ASKED, noises=QUIET, inertia=inertia, speed_of_run=40.0, tuned=at_most)
    assert found is not None
    told = {**values, **found.to_drive()}
    for key, value in found.to_drive().items():  # a drive takes it as it is
        least, most = REGISTRY[key].minimum, REGISTRY[key].maximum
        assert (least is None or value >= least) and (most is None or value <= most), key
    assert told["velocity.gain"] / told["velocity.reset_time"] == pytest.approx(found.integral)
    drifts, corners = rigs_of_spread(truth, ASKED)
    assert all(true_loops(rig, told)["velocity"].is_stable for rig in (*corners, *gripped(truth, ASKED)))
    for rig in drifts:
        margins = true_loops(rig, told, speed_of_run=40.0)["velocity"].margins  # where it is searched for
        assert margins.sensitivity_peak < 1.03 * ASKED.sensitivity_peak
        assert margins.phase_margin is not None
        assert margins.phase_margin > ASKED.phase_margin - math.radians(2)
    # Where its shaft is to be borne softer as well, by as much as play takes from small swings, it keeps that too.
    soft = best_known(truth, values, ASKED, noises=QUIET, inertia=inertia, speed_of_run=40.0, softest=0.7)
    assert soft is not None
    for rig in (*drifts, *rigs_of_spread(replace(truth, stiffness=0.7 * truth.stiffness), ASKED)[0]):
        loop = true_loops(rig, {**values, **soft.to_drive()}, speed_of_run=40.0)["velocity"]
        assert loop.is_stable and loop.margins.sensitivity_peak < 1.03 * ASKED.sensitivity_peak
    # PI and filters alone: keeps the same, its sections do nothing, and it is no stiffer than with them.
    alone = best_known(truth, values, ASKED, noises=QUIET, inertia=inertia, speed_of_run=40.0, with_sections=False)
    assert alone is not None
    plain = {**values, **alone.to_drive()}
    without = {**plain, **{f"velocity.section{n}_pole": 0.0 for n in (2, 3)}}
    for rig in drifts:
        with_idle, none = (
            true_loops(rig, told, speed_of_run=40.0)["velocity"].margins for told in (plain, without)
        )  # fmt: skip
        assert with_idle.sensitivity_peak == pytest.approx(none.sensitivity_peak, rel=1e-6)
        assert none.sensitivity_peak < 1.03 * ASKED.sensitivity_peak
    assert 0.0 < alone.integral <= 1.05 * found.integral


def test_what_its_search_calls_stable_is_what_eigenvalues_do() -> None:
    values = values_with(velocity__notch_frequency=0.0)
    f = np.geomspace(known_plant.LOWEST, known_plant.HIGHEST, 20_000)
    plant = true_velocity_plant(TRUTH, values, f, speed_of_run=40.0)[:, None]
    at, parts = known_kernel.by_frequency(f), np.stack([plant.real, plant.imag])
    inertia = TRUTH.inertia_motor + TRUTH.inertia_load
    low, high = np.log([*known_plant.BOX, (0.3 * inertia, 1e4 * inertia)]).T
    found = []
    for figures in np.exp(np.random.default_rng(8).uniform(low, high, size=(80, 12))):
        figures[2] = values["velocity.feedback_filter"]  # back-EMF is fed forward through it, in the plant
        shape = tuple(float(x) for x in figures[:11])
        known = known_plant.Known(float(figures[11]), float(figures[11] / figures[0]), shape)
        # Whatever margins: all that is left to miss is stability.
        missed = known_kernel.violation(figures, f, at, parts, np.zeros(1), 1, 1e9, -4.0, 1e-12, QUIET, TV)
        found.append((missed < 3.0, true_loops(TRUTH, {**values, **known.to_drive()})["velocity"].is_stable))
    assert all(one == other for one, other in found)
    assert 5 < sum(one for one, _ in found) < 75  # some are, some are not


def test_a_loop_that_beats_no_other_is_left_early_and_never_one_that_does() -> None:
    values = values_with(velocity__notch_frequency=0.0)
    f = known_plant._grid([TRUTH], [], [])
    rigs = [TRUTH, replace(TRUTH, inertia_load=2 * TRUTH.inertia_load)]
    plants = np.stack([true_velocity_plant(rig, values, f, speed_of_run=40.0) for rig in rigs], axis=1)
    at = known_kernel.by_frequency(np.concatenate([f, known_kernel.EVENLY]))
    on = (
        f, at, np.stack([plants.real, plants.imag]), np.zeros(2), 1, 1.8, math.radians(45), 2.5, of_rest(0.05, 0.5), TV,
    )  # fmt: skip
    inertia = TRUTH.inertia_motor + TRUTH.inertia_load
    low, high = np.log([*known_plant.BOX, (0.3 * inertia, 1e3 * inertia)]).T
    many = np.ascontiguousarray(np.random.default_rng(9).uniform(low, high, size=(200, 12)).T)
    whole = known_kernel.scores(many, *on, np.full(200, np.inf))
    assert np.all(np.isfinite(whole))
    beaten = whole[np.random.default_rng(10).permutation(200)]
    early = known_kernel.scores(many, *on, beaten)
    wins = whole <= beaten
    assert 50 < wins.sum() < 150
    assert np.array_equal(early[wins], whole[wins])
    assert np.all(early[~wins] > beaten[~wins]) and np.isinf(early[~wins]).mean() > 0.8


def test_friction_holds_no_swing_that_is_not_told() -> None:
    rings = math.sqrt(TRUTH.stiffness / TRUTH.inertia_motor)
    held = [rig.viscous_load - TRUTH.viscous_load for rig in gripped(TRUTH, ASKED)[4:]]
    assert held == pytest.approx([k * math.sqrt(TRUTH.stiffness * TRUTH.inertia_motor) for k in (0.25, 1, 4, 16)])
    hardly = gripped(TRUTH, replace(ASKED, grip=1.01 * held[1] * rings))
    assert [rig.viscous_load for rig in hardly if rig.viscous_load > TRUTH.viscous_load] == pytest.approx(
        [TRUTH.viscous_load + h for h in held[:2]]
    )


@pytest.mark.parametrize("moving", [False, True])
def test_a_reference_makes_no_more_of_the_noise_than_it_may(moving: bool) -> None:
    """White noise of a position through PI and filters, its power by Parseval; raw speed has twice its power.

    In motion it is held by what its torque changes by from one sample to the next.
    """
    values = values_with(velocity__notch_frequency=0.0)
    asks = {"inertia": TRUTH.inertia_motor + TRUTH.inertia_load, "speed_of_run": 40.0, "with_sections": False}

    def noises(most: float) -> np.ndarray:
        return of_rest(0.05, most)[::-1] if moving else of_rest(0.05, most)

    loud = best_known(TRUTH, values, ASKED, noises=noises(1e9), **asks)  # type: ignore[arg-type]
    assert loud is not None

    def made(known: known_plant.Known) -> float:
        reset, torque, speed = known.shape[:3]
        poles = [math.exp(-2 * math.pi * hz * TV) for hz in (torque, speed)]
        w = np.exp(-1j * np.pi * (np.arange(4096) + 0.5) / 4096)
        through = known.gain * (1 + TV / reset * w / (1 - w)) * (1 - w)
        for pole in poles:
            through = through * (1 - pole) / (1 - pole * w)
        through = through * (1 - w) if moving else through
        return 0.05 * math.sqrt(float(np.mean(np.abs(through) ** 2)) / 2)

    quiet = best_known(TRUTH, values, ASKED, noises=noises(0.5 * made(loud)), **asks)  # type: ignore[arg-type]
    assert quiet is not None and made(quiet) <= 1.03 * 0.5 * made(loud)
    assert quiet.integral < loud.integral
