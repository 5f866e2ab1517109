"""How much noise a device has while the axis moves, and how much of it the voltage follows."""

import math
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from scipy.signal import lfilter

from cadrel.core.control import Gains
from cadrel.procedures.plant.excitation import PERIOD, PERIODS
from cadrel.procedures.plant.noise import FOLLOWED, most_change, noise_in_motion

GAINS = Gains(
    current_gain=17.0, current_reset=3.5e-3, velocity_gain=0.03, velocity_reset=0.06, feedback_filter_hz=800,
    torque_filter_hz=150,
)  # fmt: skip
PASSES = 4


def record_of(noise: float, *, seed: int = 5) -> Any:
    """An axis that answers a multisine and wanders slowly, seen through white noise of its position."""
    rng, n = np.random.default_rng(seed), PERIODS * PERIOD
    passes = []
    for _ in range(PASSES):
        answer = np.tile(lfilter([0.1], [1, -0.9], rng.normal(size=PERIOD)), PERIODS)  # the same in every period
        wanders = np.cumsum(0.002 * rng.normal(size=n))  # what rubs: not periodic, and slow
        seen = np.diff(rng.normal(size=n + 1)) * noise / math.sqrt(2)
        pole = math.exp(-2 * math.pi * GAINS.feedback_filter_hz * GAINS.rates.velocity)
        passes.append(40.0 + answer + wanders + lfilter([1 - pole], [1, -pole], seen))
    return {"velocity": np.concatenate(passes)}


@pytest.mark.parametrize("noise", [0.05, 0.8])
def test_the_noise_is_told_apart_from_what_the_axis_does(noise: float) -> None:
    assert noise_in_motion(record_of(noise), GAINS) == pytest.approx(noise, rel=0.05)


def test_a_device_without_noise_has_none() -> None:
    assert noise_in_motion(record_of(0.0), GAINS) < 0.02


def session_of(*, bus: float, speed: float) -> Any:
    motor = SimpleNamespace(torque_constant=0.9, flux_linkage=0.15, pole_pairs=4)
    return SimpleNamespace(
        axis=SimpleNamespace(motor=motor, bus_voltage=bus, goal=SimpleNamespace(velocity=speed)),
        values={"current.gain": 30.0},
    )


def test_torque_may_change_by_what_the_voltage_beside_the_back_emf_follows() -> None:
    """At rest all of the phase voltage of space vectors, bus / sqrt(3), is there: 30 V/A times 2 A take a third."""
    still = most_change(session_of(bus=300.0, speed=0.0))
    assert still == pytest.approx(FOLLOWED * 0.9 * (300.0 / math.sqrt(3)) / 30.0)
    half = most_change(session_of(bus=300.0, speed=0.3 * 300.0 / math.sqrt(3) / 0.6))
    assert half == pytest.approx(0.7 * still)
    assert most_change(session_of(bus=300.0, speed=1e4)) == pytest.approx(0.5 * still)
    # A Gaussian of the share that is allowed loses no more than a twentieth of its gain at the limit.
    seen = np.random.default_rng(6).normal(scale=FOLLOWED, size=200_000)
    passed = np.clip(seen, -1.0, 1.0)
    assert float(passed @ seen / (seen @ seen)) > 0.94
