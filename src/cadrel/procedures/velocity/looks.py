"""What is looked at of a velocity loop beside its frequency response: the noise at rest, and a step from a bias."""

import math
from typing import Any

import numpy as np

from cadrel.core.control import Gains, feedback_filter
from cadrel.core.response import folded, measure_step
from cadrel.procedures.judging import AT_REST, NOISE_SECONDS
from cadrel.procedures.passes import APPROACH
from cadrel.procedures.plant.excitation import bias_speed
from cadrel.procedures.session import Session
from cadrel.procedures.velocity.report import STEP_SECONDS

MOST_STEPS = 3  # to and fro, folded
SWAYS_HZ = 100.0  # below, an axis at rest moves by itself


def noise_at_rest(session: Session, gains: Gains) -> tuple[float, float]:
    """Return what raw speed and position of an axis at rest tremble by, under the loop in force. [rad/s], [rad], rms

    The drive records the filtered speed. What the filter took from white noise of positions is given back, what the
    axis itself sways below `SWAYS_HZ` is none of the device's. A device whose steps are not timed shows them in motion
    only: a twelfth of a count's square for each of the two positions that a speed is the difference of.
    """
    session.enter("noise at rest", 0.12)
    with session.enabled("velocity"):
        session.hold(AT_REST)
        session.arm(["velocity", session.place], seconds=NOISE_SECONDS)
        record = session.recorded(at_most=2.0)
    session.standstill()
    spectrum = np.abs(np.fft.rfft(record["velocity"] - record["velocity"].mean())) ** 2
    f = np.fft.rfftfreq(len(record["velocity"]), record.period)
    used = f > SWAYS_HZ
    lines = f[used].astype(np.float64)
    white = np.sin(np.pi * lines * record.period) ** 2
    passed = white * np.abs(feedback_filter(gains, lines)) ** 2
    total = 2 * float(spectrum[used].sum()) / len(record["velocity"]) ** 2
    steps = 0.0
    if not session.axis.feedback.kind.has_edges:
        steps = session.axis.feedback.count_angle * math.sqrt(2 / 12) / session.rates.velocity
    place = record[session.place].astype(np.float64)
    course = np.polynomial.Polynomial.fit(record.time, place, 2)(record.time)  # an axis may creep
    return math.hypot(steps, math.sqrt(total * float(white.sum()) / float(passed.sum()))), float(np.std(place - course))


def velocity_step(session: Session, share: float) -> dict[str, Any]:
    """Step the speed from a bias, a few times, folded."""
    session.enter("velocity step", share)
    bias = bias_speed(session)
    length = round(STEP_SECONDS / session.rates.velocity)
    repeats = int(np.clip(session.consent.travel / (bias * 2 * STEP_SECONDS * 1.3), 2, MOST_STEPS))
    size = 0.3 * bias
    wave = np.concatenate([np.full(length, size), np.full(length, -size)])
    home = float(session.drive.status()["position"])
    with session.enabled_around("velocity", home):
        session.go_to(home - 0.7 * session.consent.travel, speed=APPROACH * bias)
        session.run_at(bias)
        session.hold(0.15)
        record = session.excite_and_record(
            ["velocity", "velocity_ref", "i_q"], "velocity", wave, divider=session.rates.ticks, repeats=repeats
        )
        session.go_to(home, speed=APPROACH * bias)
    session.standstill()
    mean = folded(record.channels, 2 * length)
    time = session.rates.velocity * np.arange(length, dtype=np.float64)
    metrics = measure_step(time, mean["velocity"][:length], start=bias - size, target=bias + size, band=0.05)
    return {"record": record, "metrics": metrics, "bias": bias, "size": size, "repeat": 2 * length}
