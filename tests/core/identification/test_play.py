"""Play from the torque through a shaft over its twist, on a shaft integrated here."""

import math

import numpy as np
import pytest

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.play import Play, Swung, fit_play

J1, J2, STIFFNESS, DAMPING = 1.0e-4, 1.5e-4, 60.0, 6e-4  # [kg·m²], [N·m/rad], [N·m·s/rad]: 159 Hz, 1.2 %
PERIOD, N, FINE = 1e-3, 512, 40  # [s] of a sample; samples of a period; steps of integration to a sample
RESONANCE = math.sqrt(STIFFNESS * (1 / J1 + 1 / J2)) / (2 * math.pi)


def swung(half: float, *, torque: float, rubs: float = 0.0, noise: float = 0.0) -> Swung:
    """Integrate three periods of a multisine around the resonance; the load's friction holds back. Keep two."""
    rng = np.random.default_rng(3)
    lines = np.arange(int(0.8 * RESONANCE * N * PERIOD), int(1.4 * RESONANCE * N * PERIOD))
    phases = rng.uniform(0, 2 * np.pi, len(lines))
    time = PERIOD / FINE * np.arange(3 * N * FINE)
    drive = sum(np.cos(2 * np.pi * k / (N * PERIOD) * time + p) for k, p in zip(lines, phases, strict=True))
    drive = torque * drive / drive.std()
    h, w1, w2, twist, place = PERIOD / FINE, 0.0, 0.0, half, 0.0
    places = [0.0]
    for k, t in enumerate(drive.tolist()):
        through = 0.0
        if abs(twist) > half:
            through = STIFFNESS * (abs(twist) - half) * math.copysign(1.0, twist) + DAMPING * (w1 - w2)
            if through * twist < 0.0:
                through = 0.0
        w1 += h * (t + rubs - through) / J1  # the motor carries what rubs: the mean speed stays
        w2 += h * (through - rubs) / J2
        twist += h * (w1 - w2)
        place += h * w1
        if (k + 1) % FINE == 0:
            places.append(place)
    speed = np.diff(places) / PERIOD + noise * rng.normal(size=3 * N)
    # The speed belongs to the end of its sample, the torque to that moment as well.
    at = drive[FINE - 1 :: FINE] + rubs
    return Swung(
        torque=at.reshape(3, N)[1:], speed=speed.reshape(3, N)[1:], period=PERIOD,
        filtered=np.ones(N // 2 + 1, dtype=np.complex128),
    )  # fmt: skip


def found(seen: Swung) -> Play:
    return fit_play(seen, inertia_motor=J1, inertia_load=J2, resonance_hz=RESONANCE)


@pytest.mark.parametrize("half", [2e-4, 6e-4])
@pytest.mark.parametrize("rubs", [0.0, 0.01])
def test_play_and_closed_stiffness_come_back(half: float, rubs: float):
    play = found(swung(half, torque=0.03, rubs=rubs))
    assert play.is_seen
    assert play.width.value == pytest.approx(2 * half, rel=0.2)
    assert play.stiffness.value == pytest.approx(STIFFNESS, abs=2 * play.stiffness.std)
    assert play.damping == pytest.approx(DAMPING, rel=0.5)


def test_a_shaft_without_play_has_none():
    play = found(swung(0.0, torque=0.03, noise=0.02))
    assert not play.is_seen
    assert play.stiffness.value == pytest.approx(STIFFNESS, rel=0.02)


def test_a_gap_that_noise_leaves_open_is_bounded_and_no_number_is_told():
    sure, unsure = (found(swung(1e-4, torque=0.03, noise=noise)) for noise in (0.0, 0.15))
    assert sure.is_measured
    assert unsure.is_seen
    assert not unsure.is_measured
    assert 2e-4 < unsure.at_most < 4e-4


def test_noise_that_hides_the_gap_is_told():
    play = found(swung(1e-5, torque=0.03, noise=0.2))  # of a twist a hundred times as large
    assert not play.is_seen


def test_a_resonance_too_close_to_the_sampling_rate_is_refused():
    seen = swung(0.0, torque=0.03)
    with pytest.raises(UnusableInput, match="sampling rate"):
        fit_play(seen, inertia_motor=J1, inertia_load=J2, resonance_hz=0.4 / PERIOD)
