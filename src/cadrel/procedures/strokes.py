"""Trapezoidal strokes to both sides of the start, in velocity mode, by an exactly timed excitation."""

import math
from collections.abc import Sequence

import numpy as np

from cadrel.link import Recording
from cadrel.procedures.session import TV, FloatArray, Session

SPEED_SHARE = 0.65  # of the consented speed: a soft loop overshoots
TRAVEL_SHARE = 0.5  # of the consented travel to each side
BLOCK = 40  # [samples] a mean covers: 10 ms


def _lobe(speed: float, ramp: float, distance: float) -> FloatArray:
    """Velocity of one trapezoidal stroke, at the velocity sample."""
    up = max(round(speed / ramp / TV), 8)
    flat = max(round((distance / speed - up * TV) / TV), 40)
    rise = np.arange(1, up + 1) / up
    return speed * np.concatenate([rise, np.ones(flat), rise[::-1], np.zeros(60)])


def back_and_forth(
    session: Session, channels: Sequence[str], *, shares: Sequence[float], torque: float = 0.0, top: float = SPEED_SHARE
) -> tuple[Recording, FloatArray]:
    """Run strokes at shares of the top speed, out and back to both sides; returns record and commanded speed.

    A `torque` holds a load from the moment the power stage closes [N·m]; `top` is the share of the consented speed.
    """
    reach = TRAVEL_SHARE * session.consent.travel
    most = 0.6 * session.axis.motor.torque_constant * session.values["limit.current"]
    ramp = min(session.values["limit.acceleration"], most / session.values["load.inertia"])
    fastest = min(top * session.consent.speed, math.sqrt(0.6 * reach * ramp))
    lobes = []
    for share in shares:
        lobe = _lobe(share * fastest, ramp, reach)
        lobes += [lobe, -lobe, -lobe, lobe]
    wave = np.concatenate(lobes)
    with session.enabled("velocity", torque=torque):
        session.hold(0.05)
        record = session.excite_and_record(channels, "velocity", wave, divider=4, repeats=1)
        session.hold(0.1)
    session.standstill()
    return record, wave


def block_means(record: Recording) -> dict[str, FloatArray]:
    """Return 10 ms means of every channel, with `speed` [rad/s] and `i_q_slope` [A/s] from the ends of each."""
    n = len(record["position"]) // BLOCK
    parts = {k: v[: n * BLOCK].reshape(n, BLOCK) for k, v in record.channels.items()}
    position = parts["position"]
    speed = (position[:, -1] - position[:, 0]) / ((BLOCK - 1) * record.period)
    slope = (parts["i_q"][:, -1] - parts["i_q"][:, 0]) / ((BLOCK - 1) * record.period)
    return {**{k: v.mean(1) for k, v in parts.items()}, "speed": speed, "i_q_slope": slope}
