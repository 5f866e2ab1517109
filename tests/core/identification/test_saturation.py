"""Inductance over current from a large sine, against windings computed by SciPy with other laws of iron."""

import math

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from cadrel.core.errors import UnusableInput
from cadrel.core.identification import Estimated, fit_saturation

TICK, HERTZ, SIZE = 62.5e-6, 320.0, 12.0
PERIOD = round(1 / (HERTZ * TICK))
SMALL = 4e-3  # [H]


def driven(flux_of_current, resistance: float, *, swings: float = 0.0) -> tuple[np.ndarray, np.ndarray]:
    """Mean period of voltage and current of a winding whose voltage is held per tick; `swings` [V/(A·s)] in series."""
    grid = np.linspace(-2 * SIZE, 2 * SIZE, 40_001)
    flux = flux_of_current(grid)
    volts = SMALL * 2 * math.pi * HERTZ * SIZE * np.cos(2 * math.pi * np.arange(PERIOD) / PERIOD)
    state, currents = np.array([0.0, 0.0]), []
    for n in range(60 * PERIOD):
        current = float(np.interp(state[0], flux, grid))
        if n >= 50 * PERIOD:
            currents.append(current)
        held = volts[n % PERIOD]

        def slopes(_: float, y: np.ndarray, held: float = held) -> list[float]:
            i = float(np.interp(y[0], flux, grid))
            return [held - resistance * i - y[1], swings * i]

        state = solve_ivp(slopes, (0, TICK), state, rtol=1e-7, atol=1e-9).y[:, -1]
    mean = np.array(currents).reshape(-1, PERIOD).mean(0)
    return np.roll(volts, -1), mean  # what acts in a tick was computed the tick before


def langevin(i: np.ndarray) -> np.ndarray:
    """The anhysteretic law of P. Langevin (1905), coth x - 1/x, which bends otherwise than any arctangent."""
    x = np.where(np.abs(i) < 1e-9, 1e-9, i) / 5.0
    return SMALL * 5.0 * 3.0 * (1 / np.tanh(x) - 1 / x)


@pytest.mark.parametrize(("law", "slope"), [
    (lambda i: SMALL * 18.0 * np.arctan(i / 18.0), lambda i: SMALL / (1 + (i / 18.0) ** 2)),
    (lambda i: SMALL * 15.0 * np.tanh(i / 15.0), lambda i: SMALL / np.cosh(i / 15.0) ** 2),
    (lambda i: SMALL * i, lambda i: SMALL),
])  # fmt: skip
def test_inductance_falls_as_the_iron_says_whatever_its_law(law, slope) -> None:
    voltage, current = driven(law, 0.4)
    curve = fit_saturation(voltage, current, tick=TICK, both_ways_alike=True)
    for share in (0.0, 0.4, 0.7, 0.9):
        i = share * curve.highest
        assert curve.at(i).value == pytest.approx(slope(i), rel=0.03), share
    assert curve.resistance == pytest.approx(0.4, rel=0.1)


def test_a_law_of_its_own_is_followed_where_the_polynomial_can() -> None:
    voltage, current = driven(langevin, 0.4)
    curve = fit_saturation(voltage, current, tick=TICK, both_ways_alike=True)
    at = np.array([0.3, 0.6]) * curve.highest
    h = 1e-3
    true = (langevin(at + h) - langevin(at - h)) / (2 * h)
    found = np.array([curve.at(float(i)).value for i in at])
    assert np.allclose(found, true, rtol=0.05)


def test_a_rotor_that_swings_with_the_current_is_no_inductance() -> None:
    swings = 0.25 * SMALL * (2 * math.pi * HERTZ) ** 2  # a quarter of the inductance's own voltage, the other way round
    voltage, current = driven(lambda i: SMALL * 18.0 * np.arctan(i / 18.0), 0.4, swings=swings)
    known = Estimated(SMALL, 0.01 * SMALL)
    curve = fit_saturation(voltage, current, tick=TICK, known=known, both_ways_alike=True)
    i = 0.9 * curve.highest
    assert curve.at(i).value == pytest.approx(SMALL / (1 + (i / 18.0) ** 2), rel=0.05)
    blind = fit_saturation(voltage, current, tick=TICK, both_ways_alike=True)
    assert abs(blind.at(0.0).value / SMALL - 1) > 0.1, "without knowing the small one it is taken for inductance"


def test_a_rotor_that_gives_way_as_a_spring_is_no_inductance() -> None:
    law, slope = lambda i: SMALL * 18.0 * np.arctan(i / 18.0), lambda i: SMALL / (1 + (i / 18.0) ** 2)
    voltage, current = driven(law, 0.4)
    # What its back-EMF adds is in phase with the inductance's voltage, and does not bend: a third of the small one.
    rate = (np.roll(current, -1) - current) / TICK
    given = voltage + np.roll(SMALL / 3 * rate, -1)
    held = 3.0
    known = Estimated(slope(held), 0.002 * SMALL)
    found = fit_saturation(given, current, tick=TICK, known=known, held=held, sticks=True, both_ways_alike=True)
    for share in (0.0, 0.5, 0.9):
        i = share * found.highest
        assert found.at(i).value == pytest.approx(slope(i), rel=0.04), share
        assert abs(found.at(i).value - slope(i)) < 2 * found.at(i).std + 0.01 * SMALL
    blind = fit_saturation(given, current, tick=TICK, both_ways_alike=True)
    assert blind.at(0.0).value == pytest.approx(4 / 3 * SMALL, rel=0.05), "taken for inductance"


def test_magnets_make_it_another_one_way_than_the_other() -> None:
    biased = lambda i: SMALL * 18.0 * (np.arctan((i + 6.0) / 18.0) - math.atan(6.0 / 18.0))  # noqa: E731
    voltage, current = driven(biased, 0.4)
    curve = fit_saturation(voltage, current, tick=TICK, both_ways_alike=False)
    for i in (0.8 * curve.lowest, 0.0, 0.8 * curve.highest):
        assert curve.at(i).value == pytest.approx(SMALL / (1 + ((i + 6.0) / 18.0) ** 2), rel=0.03)


def test_a_current_that_hardly_changes_is_refused() -> None:
    with pytest.raises(UnusableInput, match="hardly changed"):
        fit_saturation(np.ones(50), np.full(50, 3.0), tick=TICK, both_ways_alike=True)
