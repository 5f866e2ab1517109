"""How many masses a response shows, and what they are, against the exact sampled system of a rig's own figures."""

import math
from dataclasses import replace

import numpy as np
import pytest

from cadrel.cli.true_plant import resonances, true_velocity_plant
from cadrel.core.axis import drive_values
from cadrel.core.control import Gains, Rates, Winding
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import fit_chain
from cadrel.core.response import FrequencyResponse
from cadrel.core.simulation import RigTruth
from tests.conftest import rig_of, values_of

RIG = rig_of("glaze-table")
F = np.geomspace(4, 1000, 110)
# The drive knows its motor: a torque constant from the sheet would be all of the masses' error.
VALUES = drive_values(values_of("glaze-table")) | {
    "motor.flux_linkage": RIG.flux_linkage, "motor.resistance": RIG.resistance, "motor.inductance": RIG.inductance_q,
}  # fmt: skip


def with_third(hz: float, share: float, damping: float) -> RigTruth:
    """The rig with a part of its load on a further spring that, alone, rings at that frequency."""
    third = share * RIG.inertia_load
    return replace(
        RIG, inertia_load=RIG.inertia_load - third, inertia_third=third,
        stiffness_third=third * (2 * math.pi * hz) ** 2,
        damping_third=2 * damping * third * 2 * math.pi * hz,
    )  # fmt: skip


def fitted(rig: RigTruth, *, noise: float = 0.01, seed: int = 1):
    rng = np.random.default_rng(seed)
    true = true_velocity_plant(rig, VALUES, F, speed_of_run=20.0)
    std = noise * np.abs(true)
    value = true + std * (rng.normal(size=len(F)) + 1j * rng.normal(size=len(F))) / math.sqrt(2)
    return fit_chain(
        FrequencyResponse(F, value, np.full(len(F), 0.99), std), Winding.from_drive(VALUES),
        Gains.from_drive(VALUES, Rates()), inertia=rig.inertia_motor + rig.inertia_load + rig.inertia_third,
        viscous=rig.viscous_motor + rig.viscous_load,
    )  # fmt: skip


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_two_masses_are_shown_as_two_with_their_resonance(seed: int) -> None:
    found = fitted(RIG, seed=seed)
    assert found.order == 2
    # sqrt(k (J1 + J2) / (J1 J2)) / 2 pi; any textbook of drives, from memory.
    true = math.sqrt(RIG.stiffness * (1 / RIG.inertia_motor + 1 / RIG.inertia_load)) / (2 * math.pi)
    assert found.resonances[0].value == pytest.approx(true, rel=0.005)
    assert found.inertias[0].value == pytest.approx(RIG.inertia_motor, rel=0.04)
    assert found.inertias[1].value == pytest.approx(RIG.inertia_load, rel=0.04)
    assert found.stiffnesses[0].value == pytest.approx(RIG.stiffness, rel=0.05)


def test_three_masses_are_shown_as_three_with_both_resonances() -> None:
    rig = with_third(330.0, 0.4, 0.02)
    found = fitted(rig)
    assert found.order == 3
    for one, true in zip(found.resonances, resonances(rig), strict=True):
        assert one.value == pytest.approx(true, rel=0.01)
        assert 0 < one.std < 0.01 * true
    assert found.misfit < 1.5


def test_a_shaft_too_stiff_to_be_seen_leaves_one_mass() -> None:
    rig = replace(RIG, stiffness=4000 * RIG.stiffness, damping=40 * RIG.damping)
    found = fitted(rig, noise=0.03)
    assert found.order == 1
    assert found.resonances == ()
    assert found.inertias[0].value == pytest.approx(rig.inertia_motor + rig.inertia_load, rel=0.04)
    assert len(found.criterion) == 2  # a second mass was tried, and did not earn its place


def test_a_third_mass_that_hides_in_the_noise_is_not_claimed() -> None:
    assert fitted(with_third(700.0, 0.03, 0.2), noise=0.2).order <= 2


def test_too_few_lines_are_refused() -> None:
    few = FrequencyResponse(F[:8], np.ones(8, dtype=complex), np.ones(8), np.full(8, 0.01))
    with pytest.raises(UnusableInput):
        fit_chain(few, Winding.from_drive(VALUES), Gains.from_drive(VALUES, Rates()), inertia=1e-4, viscous=0.0)
