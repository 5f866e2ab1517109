"""Dead time from records whose answer is known."""

import math

import numpy as np
import pytest

from cadrel.core.errors import UnusableInput
from cadrel.core.identification import fit_dead_time

RNG = np.random.default_rng(5)
LEVELS = np.array([0.01, 0.02, 0.04, 0.08, 0.16, 0.3, 0.6, 0.9, 1.2, 1.5, 1.8])  # [A]
PHASES = np.array([0.0, 2 * math.pi / 3, -2 * math.pi / 3])


def _voltage(law, *, resistance: float, lost: float, knee: float, angle: float) -> np.ndarray:
    """Along a held vector, phase by phase: each loses its own share, projected back. [V]"""
    total = resistance * LEVELS
    for phase in PHASES:
        total = total + 2 / 3 * lost * law(LEVELS * math.cos(angle - phase) / knee) * math.cos(angle - phase)
    return total


@pytest.mark.parametrize("angle", [0.0, 0.4, 2.0, -1.3])
@pytest.mark.parametrize(
    ("shape", "law"),
    [("gradual", lambda x: x / (1 + np.abs(x))), ("rounded", lambda x: x / np.sqrt(1 + x**2)),
     ("sharp", lambda x: np.clip(x, -1, 1))],
)  # fmt: skip
def test_a_bend_that_the_drive_knows_is_found_with_its_voltage_and_current(shape, law, angle: float) -> None:
    voltage = _voltage(law, resistance=1.4, lost=0.8, knee=0.05, angle=angle) + RNG.normal(0, 1e-3, len(LEVELS))
    found = fit_dead_time(LEVELS, voltage, angle=angle)
    assert found.shape == shape
    assert found.voltage.value == pytest.approx(0.8, rel=0.05)
    assert found.current == pytest.approx(0.05, rel=0.2)
    assert abs(found.voltage.value - 0.8) < 4 * found.voltage.std + 0.02  # the bends are searched in steps


@pytest.mark.parametrize(
    "law", [np.tanh, lambda x: 2 / math.pi * np.arctan(x), lambda x: np.sign(x) * -np.expm1(-abs(x))]
)
def test_of_a_law_that_the_drive_does_not_know_nine_tenths_are_given_back(law) -> None:
    voltage = _voltage(law, resistance=1.4, lost=0.8, knee=0.05, angle=0.3)
    lost = voltage - 1.4 * LEVELS
    found = fit_dead_time(LEVELS, voltage, angle=0.3)
    left = lost - found.lost(LEVELS, angle=0.3)
    faint = LEVELS <= 0.3  # further up what is left is a straight line's, and the resistance takes it
    assert np.sqrt(np.mean(left[faint] ** 2)) < 0.12 * np.sqrt(np.mean(lost[faint] ** 2))


def test_an_inverter_that_loses_nothing_is_not_given_a_voltage() -> None:
    voltage = 1.4 * LEVELS + RNG.normal(0, 1e-3, len(LEVELS))
    found = fit_dead_time(LEVELS, voltage, angle=0.0)
    assert abs(found.voltage.value) < 4 * found.voltage.std + 5e-3


@pytest.mark.parametrize("levels", [LEVELS[:5], LEVELS[6:], np.linspace(1, 2, 12)])
def test_levels_too_few_or_too_near_are_refused(levels: np.ndarray) -> None:
    with pytest.raises(UnusableInput):
        fit_dead_time(levels, 1.4 * levels, angle=0.0)
