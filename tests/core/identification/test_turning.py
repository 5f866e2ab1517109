"""What a turned vector, held current and nudges tell, on made-up records with a known answer."""

import math

import numpy as np
import pytest
from scipy.optimize import brentq

from cadrel.core.errors import UnusableInput
from cadrel.core.identification import (
    angle_from_breakaway,
    angle_from_slips,
    following,
    load_of_vector,
    play_from_three_currents,
    play_from_two_currents,
)

VECTOR = np.concatenate([np.zeros(50), np.linspace(0, 3 * math.pi, 600), np.full(80, 3 * math.pi)])


@pytest.mark.parametrize("ratio", [1.0, -1.0, 0.5, 1.6])
def test_a_shaft_that_keeps_up_gives_its_ratio_with_its_sign(ratio: float) -> None:
    lag = 0.3 * np.clip(VECTOR, 0, 1)
    found = following(VECTOR, ratio * (VECTOR - lag) + 0.4)
    assert found.followed
    assert found.ratio == pytest.approx(ratio, rel=0.05)


def test_a_shaft_that_swings_but_keeps_up_has_followed() -> None:
    swing = math.radians(45) * np.sin(np.arange(len(VECTOR)) / 15)
    assert following(VECTOR, VECTOR + swing).followed


@pytest.mark.parametrize("name", ["stands", "trembles", "stopped"])
def test_a_shaft_that_does_not_get_along_has_not_followed(name: str) -> None:
    shaft = {
        "stands": np.zeros(len(VECTOR)),
        "trembles": math.radians(60) * np.sin(VECTOR),
        "stopped": np.minimum(VECTOR, 1.0),
    }[name]
    assert not following(VECTOR, shaft).followed


@pytest.mark.parametrize("bias_deg", [-15.0, 0.0, 8.0])
def test_the_load_is_told_by_the_voltages_whatever_friction_and_dead_time_do(bias_deg: float) -> None:
    omega, psi, inductance, current, drop, lag = 16.0, 0.09, 4e-3, 3.0, 5.2, math.radians(20)
    g = math.radians(bias_deg)

    def volts(way: float) -> tuple[float, float]:
        d = g - way * lag  # the rotor lags, and stands ahead by what the load does
        w = way * omega
        return drop - w * psi * math.sin(d), w * inductance * current + w * psi * math.cos(d)

    found = load_of_vector(volts(1), volts(-1), omega_el=omega, inductance=inductance, current=current, lag=lag)
    assert math.degrees(found.bias) == pytest.approx(bias_deg, abs=1e-6)
    assert found.flux_linkage == pytest.approx(psi, rel=1e-9)


@pytest.mark.parametrize(("inductance_off", "flux_off"), [(0.1, 0.0), (-0.1, 0.08), (0.15, -0.08)])
@pytest.mark.parametrize(("own_flux", "worst"), [(2.5, 3.0), (0.2, 1.0)])
def test_a_load_is_told_by_the_sheets_flux_where_the_currents_own_is_most_of_it(
    inductance_off: float, flux_off: float, own_flux: float, worst: float
) -> None:
    """By a sheet that is off. 16° hang; with `own_flux` times the magnets' flux made by the current."""
    omega, psi, current, lag, g = 44.0, 7e-3, 5.3, math.radians(6), math.radians(-16.0)
    inductance = own_flux * psi / current

    def volts(way: float) -> tuple[float, float]:
        d, w = g - way * lag, way * omega
        return 4.2 - w * psi * math.sin(d), w * inductance * current + w * psi * math.cos(d)

    def off(flux: float | None) -> float:
        found = load_of_vector(
            volts(1), volts(-1), omega_el=omega, inductance=(1 + inductance_off) * inductance, current=current,
            lag=lag, flux=flux,
        )  # fmt: skip
        return abs(math.degrees(found.bias - g))

    assert off((1 + flux_off) * psi) < worst
    if own_flux > 1:
        assert off(None) > 3.0, "by the voltages alone"


@pytest.mark.parametrize("play_deg", [0.0, 12.0, 40.0])
@pytest.mark.parametrize("load", [0.0, 0.3])
def test_play_is_what_more_current_does_not_bring_back(play_deg: float, load: float) -> None:
    friction, low, high = 0.9, 2.0, 3.3

    def width(current: float) -> float:
        return math.asin((friction + load) / current) + math.asin((friction - load) / current) + math.radians(play_deg)

    play = play_from_two_currents(width(low), width(high), current_low=low, current_high=high, load=load)
    assert math.degrees(play) == pytest.approx(play_deg, abs=0.01)


@pytest.mark.parametrize("play_deg", [0.0, 40.0])
@pytest.mark.parametrize("saliency", [0.0, 0.2, 0.5])
def test_a_weaker_vector_tells_a_salient_rotor_from_play(play_deg: float, saliency: float) -> None:
    """Torque of a synchronous machine, 3/2 p (psi i_q + (L_d - L_q) i_d i_q), solved for its lag by SciPy."""
    friction, load, currents = 0.35, 0.05, (0.7, 1.0, 1.6)

    def lag(torque: float, current: float) -> float:
        def left(d: float) -> float:
            return current * math.sin(d) * (1 - saliency * current * math.cos(d)) - torque

        return float(brentq(left, 0.0, math.pi / 2))

    widths = [
        (i, lag(friction + load, i) + lag(friction - load, i) + math.radians(play_deg)) for i in currents
    ]  # fmt: skip
    play = play_from_three_currents(widths, load=load, salient=0.5)
    assert math.degrees(play) == pytest.approx(play_deg, abs=1.0)
    if saliency == 0.5 and not play_deg:  # two currents alone, the rotor taken for round
        (low, width_low), (high, width_high) = widths[1:]
        taken = play_from_two_currents(width_low, width_high, current_low=low, current_high=high, load=load)
        assert math.degrees(taken) > 20


@pytest.mark.parametrize("load", [0.0, 0.25])
def test_breakaway_currents_give_the_angle_without_friction_and_load(load: float) -> None:
    rotor, torque_constant, breakaway = math.radians(-67), 1.3, 0.6
    vectors = np.arange(16) * math.pi / 8
    pull = torque_constant * np.sin(vectors - rotor)
    way = np.sign(pull)
    current = (way * breakaway - load) / pull
    good = (current > 0) & (current < 4)
    found = angle_from_breakaway(vectors[good], np.zeros(good.sum()), current[good], way[good])
    assert math.degrees(found.angle) == pytest.approx(-67, abs=1e-6)
    assert found.load_share == pytest.approx(load / breakaway, abs=1e-9)


def test_nudges_that_all_went_one_way_are_refused() -> None:
    with pytest.raises(UnusableInput):
        angle_from_breakaway(np.arange(6.0), np.zeros(6), np.ones(6), np.ones(6))


def slips(rotor: float, breakaway: float, load: float, current: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Where a vector turned away drags the shaft along, from the balance of torques; in amperes square to the rotor."""
    ahead = rotor + np.array([math.asin((breakaway - load) / i) for i in current])
    behind = rotor - np.array([math.asin((breakaway + load) / i) for i in current])
    return ahead, behind


@pytest.mark.parametrize("load", [-0.3, 0.0, 0.45])
def test_slips_at_two_currents_give_the_angle_whatever_the_load(load: float) -> None:
    rotor, breakaway, stirred = math.radians(40), 0.8, math.radians(0.6)
    current = np.array([3.0, 2.0])
    ahead, behind = slips(rotor, breakaway, load, current)
    found = angle_from_slips(ahead + stirred, behind - stirred, current, load_share=0.0, stirred=stirred)
    assert found.angle == pytest.approx(rotor, abs=1e-6)
    assert (found.breakaway, found.load) == pytest.approx((breakaway, load), abs=1e-6)


def test_slips_at_one_current_lean_on_the_load_that_is_known() -> None:
    current = np.array([3.0, 3.0])
    ahead, behind = slips(-1.1, 0.8, 0.3, current)
    right = angle_from_slips(ahead, behind, current, load_share=0.3 / 0.8, stirred=0.0)
    assert right.angle == pytest.approx(-1.1, abs=1e-6)
    blind = angle_from_slips(ahead, behind, current, load_share=0.0, stirred=0.0)
    assert blind.angle == pytest.approx(-1.1 - 0.3 / 3.0, abs=0.01)  # the middle alone is off by load over current


@pytest.mark.parametrize("slope", [1.0, 0.625, 2.0])
def test_a_wrong_ratio_is_followed_and_a_stop_is_not(slope: float) -> None:
    vector = np.linspace(0, 3 * np.pi, 400)
    assert following(vector, slope * vector).followed
    assert not following(vector, np.minimum(slope * vector, slope * vector[220])).followed
    swinging = slope * vector + 0.5 * np.sin(3 * vector)
    assert following(vector, swinging).followed
