"""Sine and cosine while the shaft turns: the circle they draw, and its correction."""

import math
from dataclasses import asdict, dataclass

import numpy as np

from cadrel.core.errors import UnusableInput
from cadrel.core.feedback import SignalCircle, angle_error, fit_circle
from cadrel.procedures.outcome import RunRecord
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.phasing.turning import Turning, held_circle
from cadrel.procedures.session import Session

WORTH_CORRECTING = math.radians(0.1)  # of a signal period


@dataclass(frozen=True, slots=True)
class Correction:
    """What the drive should take out of the signals, and the angle error it leaves. [rad] of a signal period"""

    changes: dict[str, float]
    before: float
    after: float
    circle: SignalCircle
    run: RunRecord


def correct_signals(session: Session, turning: Turning) -> Correction | None:
    """Fit the signal circle on the way up, judge the correction by the way down; writes it into the drive.

    Raises
    ------
    WiredWrongly
        The signals lie on no ellipse.
    """
    if not session.axis.feedback.kind.has_sine:
        return None
    held = held_circle(session)
    up, down = turning.up, turning.down
    try:
        fitted = fit_circle(up["signal_cos"], up["signal_sin"])
        judge = fit_circle(down["signal_cos"], down["signal_sin"])
    except UnusableInput as why:
        raise wired_wrongly([faults.unstable_signals(why.parts[0])]) from why
    # The way down knows nothing of the fit: what is left of its circle under the correction is the error that stays.
    before, after = angle_error(judge, held), angle_error(judge, fitted)
    changes = {
        "signal.offset_cos": fitted.offset_cos,
        "signal.offset_sin": fitted.offset_sin,
        "signal.gain": fitted.gain,
        "signal.quadrature": fitted.quadrature,
    }
    if before < WORTH_CORRECTING or after >= before:
        changes = {}
    else:
        session.write(changes)
        session.rest(0.05)  # the converter settles on the corrected angle: to the guard its step is speed
        session.note(
            f"Signal circle corrected: angle error {math.degrees(before):.2f}° of a period before, "
            f"{math.degrees(after):.3f}° after."
        )
    channels = {k: np.concatenate([up[k], down[k]]) for k in ("signal_cos", "signal_sin")}
    metrics = {
        "error_before_deg": math.degrees(before), "error_after_deg": math.degrees(after if changes else before),
        "amplitude": fitted.amplitude, "offset_cos": fitted.offset_cos, "offset_sin": fitted.offset_sin,
        "gain": fitted.gain, "quadrature_deg": math.degrees(fitted.quadrature), "corrected": bool(changes),
        "held": asdict(held), "fitted": asdict(fitted), "judge": asdict(judge),
    }  # fmt: skip
    run = RunRecord(
        kind="signal_circle", title="Signal circle", period=up.period, channels=channels,
        excitation={"by": "turned vector"}, metrics=metrics,
    )  # fmt: skip
    return Correction(changes, before, after, fitted, run)
