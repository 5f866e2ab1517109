"""Friction over speed against curves with known figures, and both ways against what depends on the place."""

import numpy as np
import pytest
from scipy.optimize import curve_fit

from cadrel.core.errors import UnusableInput
from cadrel.core.identification import Estimated, fit_friction, friction_both_ways

SPEED = np.geomspace(0.3, 40.0, 9)


def stribeck(v: np.ndarray, sliding: float, more: float, fades: float, viscous: float) -> np.ndarray:
    """Canudas de Wit and others, IEEE Trans. Automatic Control 40 (1995): steady state of their model."""
    return sliding + more * np.exp(-((v / fades) ** 2)) + viscous * v


@pytest.mark.parametrize(("sliding", "more", "fades", "viscous"), [(0.3, 0.1, 2.0, 1e-3), (0.05, 0.04, 5.0, 4e-3)])
def test_the_figures_of_a_known_curve_are_found_as_scipy_finds_them(
    sliding: float, more: float, fades: float, viscous: float
) -> None:
    rng = np.random.default_rng(3)
    std = np.full(len(SPEED), 0.01 * sliding)
    torque = stribeck(SPEED, sliding, more, fades, viscous) + std * rng.normal(size=len(SPEED))
    curve = fit_friction(SPEED, torque, std, breakaway=Estimated(sliding + more, 0.01 * sliding))
    assert curve.breakaway is not None and curve.stribeck_speed is not None
    v, y = np.append(SPEED, 0.0), np.append(torque, sliding + more)
    judge, _ = curve_fit(stribeck, v, y, p0=(sliding, more, fades, viscous))
    assert curve.sliding.value == pytest.approx(judge[0], rel=0.01)
    assert curve.breakaway.value == pytest.approx(judge[0] + judge[1], rel=0.01)
    assert curve.stribeck_speed.value == pytest.approx(judge[2], rel=0.05)
    assert curve.viscous.value == pytest.approx(judge[3], rel=0.05)


def test_truth_lies_within_two_deviations_about_as_often_as_it_should() -> None:
    rng = np.random.default_rng(5)
    std = np.full(len(SPEED), 4e-3)
    inside = {"sliding": 0, "viscous": 0, "breakaway": 0, "stribeck_speed": 0}
    truth = {"sliding": 0.3, "viscous": 2e-3, "breakaway": 0.42, "stribeck_speed": 2.0}
    draws = 200
    for _ in range(draws):
        torque = stribeck(SPEED, 0.3, 0.12, 2.0, 2e-3) + std * rng.normal(size=len(SPEED))
        curve = fit_friction(SPEED, torque, std, breakaway=Estimated(0.42 + 4e-3 * rng.normal(), 4e-3))
        for key in inside:
            found = getattr(curve, key)
            inside[key] += abs(found.value - truth[key]) < 2 * found.std
    assert all(0.9 * draws <= n <= 0.995 * draws for n in inside.values()), inside


def test_where_nothing_rises_towards_rest_no_breakaway_is_named() -> None:
    rng = np.random.default_rng(7)
    std = np.full(len(SPEED), 3e-3)
    torque = 0.3 + 2e-3 * SPEED + std * rng.normal(size=len(SPEED))
    curve = fit_friction(SPEED, torque, std, breakaway=Estimated(0.302, 5e-3))
    assert curve.breakaway is None
    assert curve.sliding.value == pytest.approx(0.3, abs=2 * curve.sliding.std)
    assert curve.at(np.array([-10.0]))[0] == pytest.approx(0.32, rel=0.02)


def test_three_speeds_are_no_curve() -> None:
    with pytest.raises(UnusableInput, match="3 speeds"):
        fit_friction(SPEED[:3], np.full(3, 0.1), np.full(3, 1e-3))


def test_what_depends_on_the_place_falls_out_of_half_the_difference() -> None:
    place = np.linspace(0.0, 8.0, 6000)
    cogging = 0.2 * np.sin(7 * place + 0.3)
    friction, constant = friction_both_ways((place, 0.3 + 0.1 + cogging), (place[::-1], -0.3 + 0.1 + cogging[::-1]))
    assert friction.value == pytest.approx(0.3, abs=1e-9)
    assert constant.value == pytest.approx(0.1 + np.mean(cogging), abs=2e-3)


def test_ways_that_share_no_stretch_are_refused() -> None:
    with pytest.raises(UnusableInput, match="no stretch"):
        friction_both_ways((np.linspace(0, 1, 50), np.ones(50)), (np.linspace(2, 3, 50), np.ones(50)))
