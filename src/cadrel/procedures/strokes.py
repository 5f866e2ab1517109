"""Soft strokes to both sides of the start, in velocity mode, by an exactly timed excitation."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.signal import lfilter

from cadrel.link import Recording
from cadrel.procedures.session import FloatArray, Session

SPEED_SHARE = 0.65  # of the consented speed: a soft loop overshoots
TRAVEL_SHARE = 0.5  # of the consented travel to each side
RAMPED = 0.6  # of a stroke's way at most; the rest is run at speed
# [s] of a change of speed, over several periods of a springy shaft: a jump would make it swing. For the first of them
# speed is given up where the travel is short, for the second it is not.
SOFT, SOFTER = 0.12, 0.25
BRIEFEST = 0.06  # [s] however light the axis: several of the spans that its speed is read over
# Of continuous torque, and of the friction known: what a gentle ramp must still ask for, or friction hides the inertia.
FAINT, BESIDE_FRICTION = 0.07, 0.6
BLOCK = 40  # [samples] a mean covers: 10 ms


@dataclass(frozen=True, slots=True)
class Lead:
    """Torque that strokes are commanded ahead of a slow loop, which asks for it by what it is off only."""

    inertia: float  # share of the inertia known, or entered [1]
    friction: float = 0.0  # share of the rated torque, where no more friction is known [1]
    found: float | None = None  # [N·m] of friction that there surely is, once strokes have shown it


@dataclass(frozen=True, slots=True, kw_only=True)
class _Ramps:
    """Along half a cosine from rest to a speed, within a way and between two accelerations."""

    hardest: float  # [rad/s²] at the steepest point, pi / 2 times the mean
    gentlest: float  # [rad/s²]
    reach: float  # [rad] that the two ramps of a stroke may take
    softest: float  # [s]

    def _at_least(self, speed: float) -> float:
        return max(0.5 * math.pi * speed / self.hardest, min(SOFT, max(speed / self.gentlest, BRIEFEST)))

    def rise(self, speed: float) -> float:
        """Time from rest to a speed. [s]"""
        return max(self._at_least(speed), min(self.softest, max(speed / self.gentlest, BRIEFEST), self.reach / speed))

    def fastest(self, speed: float) -> float:
        """Speed, up to the one given, whose ramps fit. [rad/s]"""
        low, high = 0.0, speed
        if speed * self._at_least(speed) <= self.reach:
            return speed
        for _ in range(40):
            middle = 0.5 * (low + high)
            low, high = (middle, high) if middle * self._at_least(middle) <= self.reach else (low, middle)
        return low


def _lobe(speed: float, rise: float, reach: float, *, period: float) -> FloatArray:
    """Velocity of one stroke with soft ends, at the velocity sample."""
    up = max(round(rise / period), 8)
    flat = max(round(reach / speed / period) - up, 40)
    ramp = 0.5 - 0.5 * np.cos(math.pi * np.arange(1, up + 1) / up)
    return speed * np.concatenate([ramp, np.ones(flat), ramp[::-1], np.zeros(60)])


def back_and_forth(
    session: Session,
    channels: Sequence[str],
    *,
    strokes: Sequence[float],
    torque: float | None = None,
    top: float = SPEED_SHARE,
    softest: float = SOFTER,
    lead: Lead | None = None,
) -> tuple[Recording, FloatArray]:
    """Run strokes, out and back, and return record and commanded speed.

    Each is a share of the top speed, signed by the side of the start that it goes to.
    A `torque` holds a load from the moment the power stage closes, what is known to carry it unless another is given
    [N·m]; `top` is the share of the consented speed,
    `softest` the longest a change of speed takes where there is room [s]. A slow loop makes the strokes as they are
    meant if it is commanded what makes it ask for their torque: a `lead` tells how much of it. What is returned are the
    strokes meant.
    """
    reach = TRAVEL_SHARE * session.consent.travel
    kt, inertia, rubs = (
        session.axis.motor.torque_constant,
        *(session.values[f"load.{k}"] for k in ("inertia", "friction")),
    )
    hardest = min(session.values["limit.acceleration"], 0.6 * kt * session.values["limit.current"] / inertia)
    ramps = _Ramps(
        hardest=hardest,
        gentlest=min(hardest, max(FAINT * kt * session.current_continuous, BESIDE_FRICTION * rubs) / inertia),
        reach=RAMPED * reach,
        softest=softest,
    )
    fastest = ramps.fastest(top * session.consent.speed)
    lobes = []
    for stroke in strokes:
        speed = abs(stroke) * fastest
        out = math.copysign(1.0, stroke) * _lobe(speed, ramps.rise(speed), reach, period=session.rates.velocity)
        lobes += [out, -out]
    wave = np.concatenate(lobes)
    commanded = wave if lead is None else wave + _asking_for(session, wave, lead)
    with session.enabled("velocity", torque=torque):
        session.hold(0.05)
        record = session.excite_and_record(channels, "velocity", commanded, divider=session.rates.ticks, repeats=1)
        session.hold(0.1)
    session.standstill()
    return record, wave


def _asking_for(session: Session, speed: FloatArray, lead: Lead) -> FloatArray:
    """Return what the velocity loop must be off by to ask for a speed's torque: its regulator inverted. [rad/s]"""
    v, period = session.values, session.rates.velocity
    rated = session.axis.motor.torque_constant * session.current_continuous
    friction = max(v["load.friction"], lead.friction * rated) if lead.found is None else lead.found
    torque = lead.inertia * v["load.inertia"] * np.gradient(speed, period) + friction * np.sign(speed)
    return np.asarray(lfilter([1.0, -1.0], [1.0, period / v["velocity.reset_time"] - 1.0], torque)) / v["velocity.gain"]


def block_means(record: Recording) -> dict[str, FloatArray]:
    """Return 10 ms means of every channel, with `speed` [rad/s] and `i_q_slope` [A/s] from the ends of each."""
    n = len(record["position"]) // BLOCK
    parts = {k: v[: n * BLOCK].reshape(n, BLOCK) for k, v in record.channels.items()}
    position = parts["position"]
    speed = (position[:, -1] - position[:, 0]) / ((BLOCK - 1) * record.period)
    slope = (parts["i_q"][:, -1] - parts["i_q"][:, 0]) / ((BLOCK - 1) * record.period)
    return {**{k: v.mean(1) for k, v in parts.items()}, "speed": speed, "i_q_slope": slope}
