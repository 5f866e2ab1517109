"""Offsets and gain of the current sensors from records whose answer is known."""

import cmath
import math

import numpy as np
import pytest

from cadrel.core.errors import UnusableInput
from cadrel.core.identification import DeadTime, Estimated, fit_sensor_gain, sensor_offsets

RNG = np.random.default_rng(8)
LEVELS = np.linspace(0.3, 1.8, 6)  # [A]
RESISTANCE = 1.4  # [ohm]
PHASES = (0.0, 2 * math.pi / 3, -2 * math.pi / 3)


def _voltages(gain: float, *, angle: float, order: int, lost: float = 0.0, knee: float = 0.05) -> np.ndarray:
    """What a drive commands that holds a vector of `LEVELS` by sensors of which b shows `gain` times its current.

    Phase by phase: the drive's transformation undone, the second sensor's error taken out, resistance and dead time of
    each phase added, and the drive's own transformation of three voltages. Along is the real part. [V]
    """
    seen = []
    for level in LEVELS:
        alpha, beta = level * math.cos(angle), level * math.sin(angle)
        i_a, i_b = alpha, (order * math.sqrt(3) * beta - alpha) / 2 / gain
        phases = [i_a, i_b, -i_a - i_b]
        volts = [RESISTANCE * i + lost * (i / knee) / (1 + abs(i / knee)) for i in phases]
        alpha, beta = (2 * volts[0] - volts[1] - volts[2]) / 3, order * (volts[1] - volts[2]) / math.sqrt(3)
        seen.append(complex(alpha, beta) * cmath.exp(-1j * angle))
    return np.array(seen)


@pytest.mark.parametrize("order", [1, -1])
def test_sensors_without_current_show_their_offsets_whatever_the_angle_in_use(order: int) -> None:
    # The transformation as docs/control-structure.md section 2 has it, forwards; the function undoes it.
    a, b = 0.031, -0.018
    angle = RNG.uniform(-3, 3, 2000)
    i_a, i_b = a + RNG.normal(0, 0.01, 2000), b + RNG.normal(0, 0.01, 2000)
    alpha, beta = i_a, order * (i_a + 2 * i_b) / math.sqrt(3)
    i_d = alpha * np.cos(angle) + beta * np.sin(angle)
    i_q = -alpha * np.sin(angle) + beta * np.cos(angle)
    found = sensor_offsets(i_d, i_q, angle, order=order)
    for value, true in zip(found, (a, b), strict=True):
        assert value.std == pytest.approx(0.01 / math.sqrt(2000), rel=0.1)
        assert abs(value.value - true) < 4 * value.std


@pytest.mark.parametrize("order", [1, -1])
@pytest.mark.parametrize("angle", [2 * math.pi, 0.0, 2.2, -0.6])
@pytest.mark.parametrize("gain", [0.8, 0.99, 1.0, 1.02])
def test_the_second_sensors_gain_shows_across_a_held_vector(gain: float, angle: float, order: int) -> None:
    volts = _voltages(gain, angle=angle, order=order)
    slope = float(np.polyfit(LEVELS, volts.real, 1)[0])
    found = fit_sensor_gain(LEVELS, volts.imag, angle=angle, order=order, resistance=slope)
    if found is None:  # phase b has no current where phase a leads it by a right angle
        assert (angle, order) == (-0.6, -1)
        return
    assert found.ratio.value == pytest.approx(gain, abs=1e-9)
    assert found.resistance * slope == pytest.approx(RESISTANCE, rel=1e-9)
    assert found.ratio.std >= 1e-3  # windings are not more alike than that


@pytest.mark.parametrize("angle", [math.pi / 2, math.pi / 6])
def test_at_a_right_angle_to_phase_a_or_b_nothing_is_claimed(angle: float) -> None:
    across = _voltages(1.02, angle=angle, order=1).imag
    assert fit_sensor_gain(LEVELS, across, angle=angle, order=1, resistance=RESISTANCE) is None


@pytest.mark.parametrize("angle", [0.0, 2.2])
def test_what_dead_time_takes_across_the_vector_is_not_read_as_gain(angle: float) -> None:
    # A gradual bend far below the levels' own currents still has a slope there: a tenth of R's at the lowest.
    volts = _voltages(1.01, angle=angle, order=1, lost=0.6, knee=0.1)
    slope = float(np.polyfit(LEVELS, _voltages(1.01, angle=angle, order=1).real, 1)[0])
    dead_time = DeadTime(voltage=Estimated(0.6, 0.01), current=0.1, shape="gradual", left=0.0)
    known = fit_sensor_gain(LEVELS, volts.imag, angle=angle, order=1, resistance=slope, dead_time=dead_time)
    blind = fit_sensor_gain(LEVELS, volts.imag, angle=angle, order=1, resistance=slope)
    assert known is not None and blind is not None
    assert known.ratio.value == pytest.approx(1.01, abs=1e-5)
    assert abs(blind.ratio.value - 1.01) > 20 * abs(known.ratio.value - 1.01)
    assert known.ratio.std > blind.ratio.std if angle else known.ratio.std < 2e-3


def test_levels_that_do_not_differ_are_refused() -> None:
    with pytest.raises(UnusableInput):
        fit_sensor_gain(np.ones(5), np.ones(5), angle=0.0, order=1, resistance=1.0)
