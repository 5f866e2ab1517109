"""Passes through the middle of the travel, one way and the other by turns, injected into while the axis runs."""

import math
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import numpy as np

from cadrel.link import Recording
from cadrel.procedures.errors import StuckInPass
from cadrel.procedures.session import GENTLE, POLL, FloatArray, Session

APPROACH = 1.4  # times the speed of a pass: a soft loop that breaks away from friction overshoots by half
LEAD_IN = 0.15  # [s] at speed and injected into before the first period that counts, of a loop without lag
BESIDE = GENTLE + POLL  # [s] at speed that a pass takes beside its injection: half of each ramp, and a look
LAGS = 2.0  # of the loop, that an axis runs on after its command, and overshoots by
# Of the travel agreed to, that a pass may cover. A third of it is left to either side, for what begins a third of a
# second late.
REACH = 1.35
IN_TIME = 0.1  # [s] after its injection, by when a pass ends whoever is late
LED_IN = 5.0  # lags of the loop on top of `LEAD_IN`, by when a speed has settled: its reset time is four of them
SLIDES = 0.3  # of the speed of a pass, below which it is stuck in its friction
LED_BY, LED = "position.friction_feedforward", 0.7  # of the friction known: it changes along the travel
OFF = 0.05  # of the travel agreed to, by which a pass may begin elsewhere than planned


def fastest_pass(session: Session, seconds: float) -> float:
    """Return the speed of a pass that injects for so long, its lead-in with it, and covers all that it may. [rad/s]"""
    return REACH * session.consent.travel / (seconds + beside(session))


def lead_in(session: Session, period: int) -> int:
    """Return how many samples of an excitation come before its first period that counts; no more than a period.

    Velocity loop and speed have come to rest on it by then. What a load still swings by, having begun otherwise than
    it goes on, scatters from pass to pass, each having phases of its own. A whole period as lead-in lets that die away
    as well; of a way that is short it is bought with speed, by which every excitation is measured.
    """
    return min(period, round((LEAD_IN + LED_IN * session.loop_lag) / session.rates.velocity))


def beside(session: Session) -> float:
    """Return for how long a pass runs at its speed beside its injection: ramps, and what a slow loop runs on. [s]"""
    return BESIDE + LAGS * session.loop_lag


@contextmanager
def to_and_fro(session: Session, mode: str, home: float, *, speed: float) -> Iterator[None]:
    """Power for passes at a speed; in the end the axis stands at `home` again, without power. [rad], [rad/s]

    A pass ends where one the other way begins: power stays on between them, and no way is gone twice. A loop
    too slow for its friction is given most of what the load run found of it directly, or it would stand.
    """
    v = session.values
    kept = {LED_BY: v[LED_BY]}
    if v["velocity.gain"] * abs(speed) < v["load.friction"]:
        session.write({LED_BY: LED})
    try:
        with session.enabled_around(mode, home):
            yield
            session.go_to(home, speed=APPROACH * abs(speed))
    finally:
        session.write(kept)
    session.standstill()


def one_pass(
    session: Session, channels: Sequence[str], point: str, signal: FloatArray, *, home: float, speed: float,
    repeats: int, lead: int | None = None, finer: int = 1,
) -> Recording:  # fmt: skip
    """Run through the middle of the travel at a speed, inject every repeat of a signal meanwhile, and record it.

    Within `to_and_fro`; the speed has the sign of its direction [rad/s], `home` is the middle [rad]. The axis stands
    where the pass ended. `lead` samples of the signal come first, unrecorded; `lead_in` says how many where none are
    given. It is recorded `finer` times as often as speed is sampled.

    Raises
    ------
    StuckInPass
        It stood for most of the pass, its loop too weak for its friction: what it answered is the give of that.
    """
    bias = abs(speed)
    lead = lead_in(session, len(signal)) if lead is None else lead
    seconds = (lead + repeats * len(signal)) * session.rates.velocity
    begin = home - 0.5 * speed * (seconds + beside(session))
    if abs(session.look()["position"] - begin) > OFF * session.consent.travel:
        session.go_to(begin, speed=APPROACH * bias)
    session.run_at(speed)
    way, ramp = math.copysign(1.0, speed), bias / GENTLE
    record = session.excite_and_record(
        channels, point, signal, divider=session.rates.ticks, repeats=repeats, lead=lead, finer=finer,
        # The drive itself ends it in time: a line, or a machine, may be too busy to.
        begun=lambda: session.command_speed(speed, acceleration=ramp, lasts=seconds + IN_TIME),
        then=lambda: session.command_speed(0.0, acceleration=ramp),
    )  # fmt: skip
    session.until(lambda s: not s["moving"], at_most=3.0, what="standstill")
    session.come_to_rest("velocity")
    if "velocity" in record.channels:
        made = way * float(np.mean(record["velocity"])) / bias
        if made < SLIDES:
            raise StuckInPass(made=100 * max(made, 0.0))
    return record


def one_after_the_other(records: Sequence[Recording]) -> Recording:
    """Return the recordings of several passes as one, pass after pass: nothing that was recorded is left out."""
    first = records[0]
    return Recording(first.period, {k: np.concatenate([r[k] for r in records]) for k in first.channels})
