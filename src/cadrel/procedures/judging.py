"""What the loop procedures share when they judge: what was asked, and going back where it was missed."""

import math
from collections.abc import Mapping

import numpy as np

from cadrel.core.axis.understanding import Robustness
from cadrel.core.control import Margins
from cadrel.core.tuning import spread_of
from cadrel.core.verdict import AskedOfLoop, Criterion, at_most
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.session import Session

AT_REST, NOISE_SECONDS = 0.3, 0.25  # [s] before, and of, a look at an axis at rest
RIPPLE_TOLERANCE = 0.2  # of the ripple asked for: a quarter of a second of noise is no surer


def asked_of(r: Robustness) -> AskedOfLoop:
    """Return the margins the engineer asked for, and over which spread."""
    return AskedOfLoop(
        phase_margin=r.phase_margin, gain_margin_db=r.gain_margin_db, sensitivity_peak=r.sensitivity_peak,
        spread=spread_of(r),
    )  # fmt: skip


def ripple_at_rest(session: Session, mode: str) -> float:
    """Return how much torque trembles on the axis standing under the loop in force, rms: noise, or hunting. [N·m]"""
    with session.enabled(mode):
        session.hold(AT_REST)
        session.arm(["i_q_ref"], seconds=NOISE_SECONDS)
        record = session.recorded(at_most=2.0)
    session.standstill()
    time = np.arange(len(record["i_q_ref"]))
    left = record["i_q_ref"] - np.polyval(np.polyfit(time, record["i_q_ref"], 1), time)
    return float(session.axis.motor.torque_constant * left.std())


def ripple_criterion(session: Session, ripple: float) -> Criterion:
    """The ripple of torque at rest [N·m] against what was asked, as a share of the continuous current."""
    continuous = session.axis.motor.torque_constant * session.current_continuous
    return at_most(
        "current ripple at rest", 100 * session.axis.robustness.ripple, 100 * ripple / continuous, unit="%",
        tolerance=RIPPLE_TOLERANCE,
    )  # fmt: skip


def go_back_unless_proven(session: Session, outcome: Outcome, before: Mapping[str, float]) -> None:
    """Put the gains from before back into the drive unless the outcome's verdict is "proven".

    The new ones are withheld: the engineer may take them all the same, knowing what they missed.
    """
    if outcome.verdict is None or outcome.verdict.is_proven:
        return
    session.write(before)
    outcome.withheld = {k: v for k, v in outcome.changes.items() if k in before}
    outcome.changes = {k: v for k, v in outcome.changes.items() if k not in before}
    session.note(f"Not proven: {outcome.verdict.reason}. The gains from before are in the drive again.")


def loop_summary(margins: Margins) -> str:
    """Return bandwidth and phase margin in a few words; what could not be had is said to be missing."""
    bandwidth = "no bandwidth" if margins.bandwidth_hz is None else f"{margins.bandwidth_hz:.0f} Hz"
    margin = "no margin" if margins.phase_margin is None else f"{math.degrees(margins.phase_margin):.0f}°"
    return f"{bandwidth}, {margin}"
