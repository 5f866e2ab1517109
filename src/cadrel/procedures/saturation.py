"""Inductance over current up to the peak, in d and q, by large sines of current; what the current loop makes of it."""

import math
from dataclasses import replace
from typing import Any

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.control import Gains, Winding, current_open, read_margins
from cadrel.core.identification import Estimated, InductanceCurve, fit_saturation
from cadrel.core.response import folded
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, Values, declare
from cadrel.procedures.electrical import PROCEDURE as CURRENT
from cadrel.procedures.electrical import align, inductances_at
from cadrel.procedures.errors import AxisStopped, NotAllowed, RotorSwings, RotorTurned
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.session import Session

HELD = 0.3  # of the continuous current: the vector that the rotor stands on meanwhile
LARGEST = 0.9  # of the peak current that drive and motor allow, vector and sine together
VOLTS = 0.6  # of the voltage of a phase, that the sine may take
FASTEST, SLOWEST, FREQUENCIES = 500.0, 100.0, 60  # [Hz] of it, and how many are weighed
SWINGS = 0.15  # [rad] electrical, that the rotor may swing by it: the frame stays
RUNS = 0.3  # of the speed agreed to, that it may swing with
# [rad] electrical, by which a sine may leave the rotor elsewhere behind its brake; without one its vector draws it
# back. Of what d and q differ by, sin² of it is read in the other: a hundredth.
TURNED = 0.1
TRIES, SMALLER = 3, 0.6  # how often, and by how much less each time, where the rotor swings too fast
SECONDS = 0.4  # of each sine
SETTLES = 0.05  # [s] of it that are left out
POINTS = 41  # of the curve that is kept


class _Turned(Exception):
    """A sine left the rotor standing elsewhere: what was read is of an axis between d and q."""

    def __init__(self, by: float) -> None:
        super().__init__(by)
        self.by = by  # [rad] electrical


def run_saturation(session: Session) -> Outcome:
    """Put a large sine of current on each axis of a standing vector, and read the flux from its voltage.

    Raises
    ------
    NotAllowed
        Voltage and inertia leave no room for a sine worth its name.
    RotorSwings
        The rotor swung faster than was agreed to, whatever was tried.
    RotorTurned
        It slipped in what holds it, whatever was tried.
    """
    values = session.refresh()
    ic = session.current_continuous
    size, hertz = _sine(session, ic)
    for left in reversed(range(TRIES)):
        try:
            curves, records, small = _measured(session, ic, size, hertz)
            break
        except AxisStopped as stopped:
            if not stopped.ran_too_fast:
                raise
            if left == 0 or SMALLER * size < ic:
                raise RotorSwings(size=size, hertz=hertz) from stopped
            # A shaft that rings there swings the rotor more than its inertia alone would let it.
            session.stand_again()
            size *= SMALLER
            session.note(f"The rotor swung faster than was agreed to: tried again with {size:.3g} A.")
        except _Turned as turned:
            if left == 0 or SMALLER * size < ic:
                raise RotorTurned(size=size, turned=math.degrees(turned.by)) from turned
            session.stand_again()
            size *= SMALLER
            session.note(
                f"The sine turned the rotor away from its vector by {math.degrees(turned.by):.0f}° (electrical), what "
                f"holds it slipping: tried again with {size:.3g} A."
            )
    session.enter("done", 1.0)
    gains = Gains.from_drive(values, session.rates)
    return _outcome(session, gains, curves, records, small, hertz)


def _measured(
    session: Session, ic: float, size: float, hertz: float
) -> tuple[dict[str, InductanceCurve], dict[str, Recording], tuple[Estimated, Estimated]]:
    """Curves and recordings of both axes, and the inductances at small currents in d and q.

    Raises
    ------
    _Turned
        The sine in q, whose torque a brake has to bear, left the rotor standing elsewhere.
    """
    curves, records = {}, {}
    with session.enabled("vector", brake_closed=session.axis.has_brake):
        at = align(session, ic)
        d, q, _ = inductances_at(session, HELD * ic, at)
        for share, (key, (known, held)) in zip((0.5, 0.75), (("q", (q, 0.0)), ("d", (d, HELD * ic))), strict=True):
            session.enter(f"a sine of {size:.3g} A in {key}", share)
            before = _beside(session)
            record, period = _swung(session, key, size, hertz)
            by = abs(math.remainder(_beside(session) - before, 2 * math.pi))
            if by > TURNED and session.axis.has_brake and not session.axis.feedback.kind.tells_sectors_only:
                raise _Turned(by)
            mean = folded(record.channels, period)
            curves[key] = fit_saturation(
                mean[f"v_{key}"],
                mean[f"i_{key}"],
                tick=session.rates.current,
                known=known,
                held=held,
                both_ways_alike=key == "q",
            )
            records[key] = record
    return curves, records, (d, q)


def _beside(session: Session) -> float:
    """Return by how much the rotor stands beside the vector. [rad] electrical"""
    status = session.look()
    return float(status["shaft_angle"] - status["vector_angle"])


def _sine(session: Session, ic: float) -> tuple[float, float]:
    """Amplitude [A] and frequency [Hz] that voltage, peak current and the rotor's inertia leave."""
    v, motor = session.values, session.axis.motor
    most = LARGEST * min(v["limit.current"], motor.current_peak) - HELD * ic
    volts = VOLTS * (session.axis.bus_voltage / math.sqrt(3) - v["current.dead_voltage"])
    tried = np.geomspace(SLOWEST, FASTEST, FREQUENCIES)
    omega = 2 * math.pi * tried
    # Slow, the rotor swings; fast, the inductance takes the voltage.
    by_swing = SWINGS * motor.inertia * omega**2 / (motor.pole_pairs * motor.torque_constant)
    by_speed = RUNS * session.consent.speed * motor.inertia * omega / motor.torque_constant
    sizes = np.minimum(np.minimum(np.minimum(by_swing, by_speed), volts / (omega * v["motor.inductance"])), most)
    best = int(np.argmax(sizes))
    size, hertz = float(sizes[best]), float(tried[best])
    if size < ic:
        raise NotAllowed(
            why=f"A sine of {hertz:.0f} Hz can have {size:.2g} A only, less than the continuous current: more would "
            "ask for more voltage, or make the rotor swing. Iron does not show its bend at so little.",
            remedy="Nothing is lost: the inductances found by the current step hold for currents as small as these.",
        )
    return size, hertz


def _swung(session: Session, key: str, size: float, hertz: float) -> tuple[Recording, int]:
    """Record whole periods of a sine in one axis, the first few left out; also the ticks of a period."""
    tick = session.rates.current
    period = round(1 / (hertz * tick))
    wave = size * np.sin(2 * math.pi * np.arange(1, period + 1) / period)
    repeats = round(SECONDS / (period * tick))
    record = session.excite_and_record([f"v_{key}", f"i_{key}"], f"current_{key}", wave, divider=1, repeats=repeats)
    first = period * math.ceil(SETTLES / (period * tick))
    return Recording(record.period, {k: v[first:] for k, v in record.channels.items()}), period


def _outcome(
    session: Session, gains: Gains, curves: dict[str, InductanceCurve], records: dict[str, Recording],
    small: tuple[Estimated, Estimated], hertz: float,
) -> Outcome:  # fmt: skip
    accuracy = session.current_accuracy
    d, q = curves["d"], curves["q"]
    at_peak, along, against = (c.within(accuracy) for c in (q.at(q.highest), d.at(d.highest), d.at(d.lowest)))
    findings = [
        Finding(kind=f"saturation_{key}", label=f"Inductance {label} at {current / math.sqrt(2):.3g} A rms",
                value=found.value, unit="H", std=found.std, run=run)
        for key, label, current, found, run in (
            ("q", "q", q.highest, at_peak, 0), ("d", "d", d.highest, along, 1),
            ("against", "d against the magnets", d.lowest, against, 1),
        )
    ]  # fmt: skip
    axis_x = {key: np.linspace(0.0 if key == "q" else c.lowest, c.highest, POINTS) for key, c in curves.items()}
    drawn: dict[str, dict[str, Any]] = {
        key: {"current": x.round(6).tolist(), "inductance": [1e3 * curves[key].at(float(i)).value for i in x]}
        for key, x in axis_x.items()
    }
    held = HELD * session.current_continuous
    drawn["small"] = {"current": held, "q": 1e3 * small[1].value, "d": 1e3 * small[0].value}
    runs = [
        RunRecord(
            kind="saturation" if key == "q" else "saturation_d", title=f"A sine of {hertz:.0f} Hz in {key}",
            period=records[key].period, channels=records[key].channels,
            excitation={"point": f"current_{key}", "hertz": hertz},
            metrics={"lowest": curves[key].lowest, "highest": curves[key].highest},
            curves={"saturation": drawn} if key == "q" else {},
        )
        for key in ("q", "d")
    ]  # fmt: skip
    share = at_peak.value / small[1].value
    session.note(_what_becomes_of_the_loop(session, gains, at_peak.value, q.highest))
    return Outcome(
        findings=findings, runs=runs,
        summary=f"inductance q falls to {100 * share:.0f} % at {q.highest / math.sqrt(2):.3g} A rms",
    )  # fmt: skip


def _what_becomes_of_the_loop(session: Session, gains: Gains, inductance: float, current: float) -> str:
    """The current loop's margins where the iron is saturated: a smaller inductance is a higher gain."""
    grid = np.geomspace(50.0, 0.45 / session.rates.current, 400)
    winding = replace(Winding.from_drive(session.values), inductance=max(inductance, 1e-9))
    margins = read_margins(current_open(winding, gains, grid), grid)
    phase = "no" if margins.phase_margin is None else f"{math.degrees(margins.phase_margin):.0f}°"
    return (
        f"At {current / math.sqrt(2):.3g} A rms the current loop on this inductance has a phase margin of {phase} and "
        f"a sensitivity peak of {margins.sensitivity_peak:.2f}."
    )


def _plan(axis: AxisModel, values: Values) -> Plan:
    turning = CURRENT.plan(axis, values)
    peak = LARGEST * min(values["limit.current"], axis.motor.current_peak) / math.sqrt(2)
    return replace(
        turning, title="Inductance over current", seconds=8.0,
        text=f"{turning.text.split(',')[0]}; then sines of current up to {peak:.3g} A rms, of {SLOWEST:.0f} to "
        f"{FASTEST:.0f} Hz, in both axes: the motor hums and trembles for a second. About 8 s.",
    )  # fmt: skip


PROCEDURE = declare(
    Procedure(
        key="saturation", step="current", does="Measure inductance over current", run=run_saturation, plan=_plan,
        finds=("saturation_q", "saturation_d", "saturation_against"),
    )
)  # fmt: skip
