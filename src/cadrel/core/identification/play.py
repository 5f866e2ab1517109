"""Play between motor and load, from the torque through a shaft that swings, over its twist."""

import math
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from cadrel.core.errors import UnusableInput
from cadrel.core.identification.estimated import Estimated

FloatArray = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
BAND = (0.5, 1.5)  # of the resonance: above, what a gap's corners make comes back from beyond half the sampling rate
FINER = 8  # times the samples, where twist is turned into torque: the corners of the gap lie between samples
STARTS = (0.03, 0.1, 0.3)  # half of the gap over the twist's rms
# What width and closed resonance of shafts drawn at random were found off by, as shares: by masses known to a few
# percent, and by noise. What a device adds to a twist is torque that follows it as if the shaft were softer, and had
# no gap: so many times the share of the torque's power that is left unexplained.
WIDTH_DOUBT, WIDTH_BY_NOISE = 0.06, 10.0
STIFFNESS_DOUBT, STIFFNESS_BY_NOISE = 0.015, 5.0
BLUR = 0.002  # half of the gap over the twist's rms, that a spring of two masses leaves open whatever its misfit says
MOST_DOUBT = 0.18  # of the width: a gap stands out by more than five deviations
MEASURED = 0.11  # of the width: beyond, what is told is a bound only
HARDLY = 3.0  # deviations: widths in doubt are too small as a rule
EXPLAINS = 0.97  # of the misfit without a gap, or there is none to speak of


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Swung:
    """Whole periods of a shaft that swings around its resonance, each a row."""

    torque: FloatArray  # [N·m] of the motor, shape (n_periods, ticks n): several to a sample of the speed
    speed: FloatArray  # [rad/s] of the motor, a difference over each sample, shape (n_periods, n)
    period: float  # [s] between samples
    filtered: ComplexArray  # what the speed went through before it was recorded, at `rfftfreq(n, period)`


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Play:
    """A shaft that is as stiff as `stiffness`, behind a gap."""

    width: Estimated  # [rad] whole, at the motor
    stiffness: Estimated  # [N·m/rad] with the gap closed, between the masses that were given
    damping: float  # [N·m·s/rad] with the gap closed
    is_seen: bool  # whether the gap stands out of its doubt, and explains what a stiff shaft does not
    twist: FloatArray  # [rad] between motor and load over a period, the middle of the gap at nought
    torque: FloatArray  # [N·m] that went through the shaft then

    @property
    def is_measured(self) -> bool:
        """Whether its width may be told as a number: else only what it does not exceed."""
        return self.is_seen and self.width.std < MEASURED * self.width.value

    @property
    def at_most(self) -> float:
        """Width that it hardly exceeds. [rad] at the motor"""
        return self.width.value + HARDLY * self.width.std


class _Twisted(NamedTuple):
    """A period by frequencies, within the band alone; lists over periods."""

    torque: list[ComplexArray]  # through the shaft
    twist: list[FloatArray]  # [rad] over time, `FINER`
    rate: list[FloatArray]  # [rad/s]
    size: list[float]  # of the inertial torque, which the misfit is a share of
    rms: float  # [rad]


class _Found(NamedTuple):
    half: float
    stiffness: float
    damping: float
    misfit: float  # share of the torque's power, summed over periods
    spread: float  # std of half over half, by the misfit alone
    means: FloatArray  # [rad] of each period's twist, from the middle of the gap


def fit_play(swung: Swung, *, inertia_motor: float, inertia_load: float, resonance_hz: float) -> Play:
    """Return the gap and the closed stiffness of a shaft that was swung around its resonance.

    Parameters
    ----------
    swung : Swung
        With a twist not much smaller than the gap, and the motor going one way.
    inertia_motor, inertia_load : float
        On either side of the shaft. [kg·m²]
    resonance_hz : float
        About where it swings; what is looked at lies around it. [Hz]

    Raises
    ------
    UnusableInput
        The band around the resonance reaches beyond what the samples resolve.

    Notes
    -----
    What the motor's torque leaves for its own inertia to take goes through the shaft, F = T - J1 dw1/dt; it moves the
    load, so that the twist is x = theta1 - F / (J2 s²) but for its mean. F = k (|x| - b) sign x beyond the gap, with
    damping there and nothing within, is fitted to it over time: b and the mean of each period are searched, k and the
    damping follow linearly; what is compared are the frequencies in the band. No distribution of the twist is assumed,
    as a describing function does (A. Gelb, W. E. Vander Velde, 1968), and no transient has to be picked out.
    """
    n = swung.speed.shape[1]
    f = np.fft.rfftfreq(n, swung.period).astype(np.float64)
    band = (f > BAND[0] * resonance_hz) & (f < BAND[1] * resonance_hz)
    if BAND[1] * resonance_hz * swung.period > 0.45 or np.count_nonzero(band) < 4:
        raise UnusableInput(what="The resonance is too close to the sampling rate.", remedy="No remedy is known.")
    seen = _twisted(swung, f, band, inertia_motor, inertia_load)
    stiff = _misfit(seen, f, band, 0.0, np.zeros(len(seen.torque)))
    without = float(stiff[0] @ stiff[0])
    found = _searched(seen, f, band)
    width = 2 * found.half
    unexplained = found.misfit / len(seen.torque)
    std = math.hypot(width * math.hypot(found.spread, WIDTH_DOUBT, WIDTH_BY_NOISE * unexplained), 2 * BLUR * seen.rms)
    softer = math.hypot(STIFFNESS_DOUBT, STIFFNESS_BY_NOISE * unexplained)
    off = seen.twist[0] + found.means[0]  # the mean of the torque is in no band: it is what the spring makes of this
    swings = np.fft.irfft(seen.torque[0], FINER * n) * FINER
    return Play(
        width=Estimated(width, std),
        stiffness=Estimated(found.stiffness, softer * found.stiffness),
        damping=max(found.damping, 0.0),
        is_seen=found.misfit < EXPLAINS * without and std < MOST_DOUBT * width,
        twist=off,
        torque=swings + found.stiffness * float(np.mean(_beyond(off, found.half))),
    )


def _twisted(swung: Swung, f: FloatArray, band: NDArray[np.bool_], j1: float, j2: float) -> _Twisted:
    n = swung.speed.shape[1]
    s = 2j * np.pi * np.where(f > 0, f, 1.0)
    half = np.pi * f * swung.period
    # The speed of a sample is the mean since the one before: taken to the sample itself.
    sampled = np.where(f > 0, half / np.maximum(np.sin(half), 1e-9), 1.0) * np.exp(1j * half)
    torque, twist, rate, size, squares = [], [], [], [], []
    for t, w in zip(swung.torque, swung.speed, strict=True):
        speed = np.where(band, np.fft.rfft(w) * sampled / swung.filtered, 0.0)
        through = np.where(band, np.fft.rfft(t)[: len(f)] * (n / len(t)), 0.0) - j1 * s * speed
        x = speed / s - through / (j2 * s * s)
        torque.append(through)
        twist.append(np.fft.irfft(x, FINER * n) * FINER)
        rate.append(np.fft.irfft(s * x, FINER * n) * FINER)
        size.append(float(np.sqrt(np.sum(np.abs(j1 * s * speed) ** 2))))
        squares.append(float(np.mean(twist[-1] ** 2)))
    return _Twisted(torque, twist, rate, size, math.sqrt(float(np.mean(squares))))


def _beyond(twist: FloatArray, half: float) -> FloatArray:
    """How far a shaft is twisted beyond its gap. [rad]"""
    return np.asarray(np.sign(twist) * np.maximum(np.abs(twist) - half, 0.0))


def _misfit(
    seen: _Twisted, f: FloatArray, band: NDArray[np.bool_], half: float, means: FloatArray
) -> tuple[FloatArray, float, float]:
    """Return what a gap leaves of the torque, as a share, and the stiffness and damping that go with it."""
    columns, rows = [], []
    for torque, twist, rate, size, mean in zip(*seen[:4], means, strict=True):
        off = twist + mean
        spring, damper = (
            np.fft.rfft(v)[: len(f)][band] / FINER / size
            for v in (_beyond(off, half), np.where(np.abs(off) > half, rate, 0.0))
        )
        columns.append(np.stack([np.r_[spring.real, spring.imag], np.r_[damper.real, damper.imag]], axis=1))
        rows.append(np.r_[torque[band].real, torque[band].imag] / size)
    a, y = np.concatenate(columns), np.concatenate(rows)
    scale = np.maximum(np.abs(a).max(0), 1e-300)
    solved, *_ = np.linalg.lstsq(a / scale, y, rcond=None)
    return y - (a / scale) @ solved, float(solved[0] / scale[0]), float(solved[1] / scale[1])


def _searched(seen: _Twisted, f: FloatArray, band: NDArray[np.bool_]) -> _Found:
    def left(p: FloatArray) -> FloatArray:
        return _misfit(seen, f, band, seen.rms * math.exp(p[0]), seen.rms * p[1:])[0]

    scale = np.r_[0.3, np.full(len(seen.torque), 0.1)]
    best = min(
        (
            least_squares(left, np.r_[math.log(b), np.zeros(len(seen.torque))], x_scale=scale, max_nfev=25)
            for b in STARTS
        ),
        key=lambda r: r.cost,
    )
    half = seen.rms * math.exp(best.x[0])
    rest, stiffness, damping = _misfit(seen, f, band, half, seen.rms * best.x[1:])
    variance = float(rest @ rest) / max(len(rest) - len(best.x) - 2, 1)
    covariance = np.linalg.pinv(best.jac.T @ best.jac) * variance
    spread = math.sqrt(max(float(covariance[0, 0]), 0.0))
    return _Found(half, stiffness, damping, float(rest @ rest), spread, seen.rms * best.x[1:])
