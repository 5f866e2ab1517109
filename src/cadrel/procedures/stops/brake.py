"""The holding brake: what it holds, how long it takes to open and to close, measured from motion."""

import math
from dataclasses import dataclass

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.errors import UnusableInput
from cadrel.core.identification import TotalLoad
from cadrel.core.identification.braked import instant_of_stop, onset_of_motion, torque_held
from cadrel.core.identification.estimated import Estimated
from cadrel.core.parameters import field_of
from cadrel.core.power import MARGIN
from cadrel.core.verdict import at_least, at_most, decide
from cadrel.link import Recording
from cadrel.procedures.declaration import Argument, Procedure, Values, declare
from cadrel.procedures.errors import AxisStopped, NotAllowed, ProcedureError
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.session import Session
from cadrel.procedures.stops.pin import free_it, play_of_pin, play_row

CHANNELS = ("position", "velocity", "i_q", "brake_voltage")
TRIALS = 4  # openings, two to each side
GAIN = 250.0  # [rad/s²] that the shaft should gain while the brake is open: the faster, the less friction matters
OVER_FRICTION = 1.7  # times the sliding friction, so that it breaks away; 1.05 to 1.5 is usual of machines
LEAST_OVER_FRICTION = 1.6  # where more would let a light axis run faster than agreed to
STRONGER = (1.0, 1.5, 2.2)  # times the torque, in turn, until the axis breaks away
OF_SPEED = 0.8  # of the speed agreed to, that a trial plans with
WAY = 0.25  # [rad] of the motor after which the brake is told to close
ROOM = 6.0  # [rad] of the motor that a trial may take; beyond, the drive closes the brake and cuts the current
GIVES = math.radians(0.5)  # of the motor, that a closed brake and its hub give without slipping
RAMP, HELD = 0.4, 0.3  # [s] of the torque on the closed brake: rising, and there
MOST_CURRENT = 0.95  # of the axis's largest
DIFFERS = 0.05  # of a time entered, beyond which the measured one is proposed
LISTENED = 0.05  # [s] recorded before the brake is told anything
SECONDS = 14.0


class BrakeStayedClosed(ProcedureError):
    """The brake was told to open, and nothing moved."""

    happened = "The brake was told to open, and within {waited:.2f} s nothing moved under {torque:.3g} N·m."
    means = "Its times could not be measured; every move would work against it."
    remedy = "{remedy}"


@dataclass(frozen=True, slots=True)
class _Trial:
    release: Estimated
    engage: Estimated
    record: Recording


def run_brake_test(session: Session) -> Outcome:
    """Load the closed brake both ways, then open it on a small torque and close it on the motion, several times.

    Of a pin, the play and the torque that frees it are measured in place of times.

    Raises
    ------
    NotAllowed
        There is no brake, or the load is not known.
    BrakeStayedClosed
        Nothing moved though the brake was told to open.
    """
    session.refresh()
    axis, total = session.axis, session.plant.total
    if not axis.has_brake:
        raise NotAllowed(why="No holding brake is entered.", remedy=f"Enter {field_of('brake.fitted')}.")
    if total is None:
        raise NotAllowed(why="The load is not identified.", remedy="Run the load step first.")
    asked = _asked(session, session.arguments.get("torque"))
    held, slipped, loaded = _load_closed(session, total, asked)
    runs = [loaded]
    findings = [
        Finding(kind="brake_holding", label="Brake gave way at" if slipped else "Brake holds at least", value=held,
                unit="N·m", std=None, run=0),
    ]  # fmt: skip
    rows = [at_least("holding torque", asked, held, unit="N·m")]
    changes: dict[str, float] = {}
    summary = f"gave way at {held:.3g} N·m"
    if axis.brake_by_pin and not slipped:
        play = play_of_pin(loaded, axis.motor.torque_constant)
        row, finding = play_row(session, play)
        freed, more, seen = free_it(session, total)
        rows += [row, *freed]
        findings += [finding, *more]
        runs += seen
        summary = f"{held:.3g} N·m, its pin has {math.degrees(play):.2g}° of play"
    elif not slipped:
        trials = _trials(session, total)
        runs += [_run_of(k, t) for k, t in enumerate(trials)]
        release, engage = _together([t.release for t in trials]), _together([t.engage for t in trials])
        v = session.values
        for kind, label, key, found, slowest in (
            (
                "brake_release",
                "Brake opens after",
                "brake.release_delay",
                release,
                max(t.release.value for t in trials),
            ),
            ("brake_engage", "Brake holds after", "brake.engage_delay", engage, max(t.engage.value for t in trials)),
        ):
            findings.append(Finding(kind=kind, label=label, value=found.value, unit="s", std=found.std, run=1))
            waits = MARGIN * v[key]
            rows.append(
                at_most(f"{label.lower()}, the drive waits", 1e3 * waits, 1e3 * slowest, unit="ms", tolerance=0.0)
            )
            if abs(slowest / max(v[key], 1e-6) - 1) > DIFFERS:
                changes[key] = round(slowest, 4)
        summary = f"opens in {1e3 * release.value:.0f} ms, holds after {1e3 * engage.value:.0f} ms, {held:.3g} N·m"
        if changes:
            session.write(changes)
    session.enter("done", 1.0)
    return Outcome(
        findings=findings, changes=changes, runs=runs, verdict=decide("brake_holding", rows, run=0), summary=summary
    )


def _reach(session: Session) -> float:
    """Torque that the motor can put on the brake. [N·m]"""
    current = MOST_CURRENT * min(session.values["limit.current"], session.axis.motor.current_peak)
    return session.axis.motor.torque_constant * current


def _asked(session: Session, given: float | None) -> float:
    """Return the torque the closed brake is loaded with, which the motor must be able to give. [N·m]"""
    most = _reach(session) - abs(session.carried)
    if given is not None and given > most:
        raise NotAllowed(
            why=f"Beside the load the motor can put {most:.3g} N·m on the brake; {given:.3g} were asked for.",
            remedy=f"Ask for less, or raise {field_of('limit.current')}.",
        )
    return min(given if given is not None else _preset(session.axis), most)


def _preset(axis: AxisModel) -> float:
    """What is asked of a brake unless a torque is stated: its sheet's, or half as much again as it has to hold."""
    if axis.brake_torque:
        return axis.brake_torque
    return max(
        1.5 * abs(axis.mechanism.torque_constant_load), 0.5 * axis.motor.torque_constant * axis.motor.current_continuous
    )


def _load_closed(session: Session, total: TotalLoad, asked: float) -> tuple[float, bool, RunRecord]:
    """Ramp the torque on the closed brake to both sides; how much it held, and whether it gave way."""
    session.enter("loading the closed brake", 0.05)
    kt, period = session.axis.motor.torque_constant, session.rates.velocity
    up, there = round(RAMP / period), round(HELD / period)
    share = np.concatenate([
        np.linspace(0, 1, up + 1)[1:], np.ones(there), np.linspace(1, -1, 2 * up), -np.ones(there),
        np.linspace(-1, 0, up),
    ])  # fmt: skip
    # The load pulls already: what the brake carries is the motor's torque less what carries the load.
    wave = (asked * share + total.constant * np.minimum(1.0, 4 * np.abs(share))) / kt
    here = float(session.drive.status()["position"])
    with session.unconfirmed():
        try:
            with session.enabled_around("current", here, travel=ROOM):
                record = session.excite_and_record(CHANNELS, "current_q", wave, divider=session.rates.ticks, repeats=1)
        except AxisStopped:
            recorded = session.drive.recording() if session.drive.recorder_state() == "done" else None
            if recorded is None:
                session.rest(len(wave) * period)
                recorded = session.drive.recording()
            record = recorded
    carried = kt * record["i_q"] - total.constant
    held, slipped = torque_held(
        record["position"],
        carried,
        period=record.period,
        count=session.axis.feedback.count_angle,
        moved=GIVES + session.values["brake.free_turn"],
    )
    run = RunRecord(
        kind="brake_load", title="Torque on the closed brake", period=record.period, channels=record.channels,
        excitation={"point": "current_q"}, metrics={"asked": asked, "held": held, "slipped": float(slipped)},
    )  # fmt: skip
    return (held if slipped else min(held, asked)), slipped, run


def _trials(session: Session, total: TotalLoad) -> list[_Trial]:
    """Open and close it to both sides; an axis that does not break away is given more before the brake is blamed."""
    trials: list[_Trial] = []
    more = list(STRONGER)
    while len(trials) < TRIALS:
        way = 1 if len(trials) % 2 == 0 else -1
        try:
            trials.append(_open_and_close(session, total, way=way, trial=len(trials), factor=more[0]))
        except BrakeStayedClosed:
            if len(more) == 1:
                raise
            more.pop(0)
            session.note(f"Nothing moved while the brake was open; tried with {more[0]:g} times the torque.")
            session.standstill()
    return trials


def _open_and_close(session: Session, total: TotalLoad, *, way: int, trial: int, factor: float) -> _Trial:
    """Open the brake on a torque a little more than it takes to move, and close it while the shaft gains speed."""
    session.enter(f"opening and closing, {trial + 1} of {TRIALS}", 0.2 + 0.75 * trial / TRIALS)
    axis, v = session.axis, session.values
    torque = total.constant + way * factor * _driving(session, total)
    longest = 3 * MARGIN * v["brake.release_delay"] + 0.5
    ends = longest + 3 * MARGIN * v["brake.engage_delay"] + 0.3
    samples = np.full(round((LISTENED + ends) / session.rates.velocity), torque / axis.motor.torque_constant)
    here = float(session.drive.status()["position"])
    with session.unconfirmed(), session.enabled_around("current", here, travel=ROOM):
        session.arm(CHANNELS, seconds=LISTENED + ends, divider=session.rates.ticks)
        session.drive.excite("current_q", samples, divider=session.rates.ticks, repeats=1)
        session.hold(LISTENED)
        session.drive.set_brake(closed=False)
        begun = session.look()["time"]
        while abs(session.look()["position"] - here) < WAY:
            if session.look()["time"] > begun + longest:
                raise _stayed_closed(session, longest, torque)
            session.drive.wait(0.005)
        session.drive.set_brake(closed=True)
        record = session.recorded(at_most=ends + 1.0)
    session.standstill()
    return _read(record, axis.feedback.count_angle)


def _driving(session: Session, total: TotalLoad) -> float:
    """Return the torque beyond the constant load that moves the axis, and not too fast until the brake holds. [N·m]"""
    wanted = total.inertia * GAIN + OVER_FRICTION * total.coulomb
    # With a net gain g it runs at sqrt(2 g WAY) when the brake is told to close, and g times its delay faster then.
    after, root = 2 * MARGIN * session.values["brake.engage_delay"], math.sqrt(2 * WAY)
    fastest = OF_SPEED * session.consent.speed
    gain = ((math.sqrt(root**2 + 4 * after * fastest) - root) / (2 * after)) ** 2 if after else fastest**2 / root**2
    return max(min(wanted, total.coulomb + total.inertia * gain), LEAST_OVER_FRICTION * total.coulomb)


def _stayed_closed(session: Session, waited: float, torque: float) -> BrakeStayedClosed:
    least = session.values["brake.pull_in_voltage"]
    return BrakeStayedClosed(
        waited=waited, torque=abs(torque),
        remedy=f"Check its wires and supply ({least:.3g} V were given), raise {field_of('brake.pull_in_voltage')} or "
        f"{field_of('brake.pull_in_time')} to what its sheet says; a worn or rusted brake may stick.",
    )  # fmt: skip


def _read(record: Recording, count: float) -> _Trial:
    """Read both times from a trial: from the voltage's edges to what the shaft does."""
    voltage = record["brake_voltage"]
    on = np.nonzero(voltage > 0.5 * voltage.max())[0]
    if not len(on) or voltage.max() <= 0:
        raise UnusableInput(what="No voltage was given to the brake.", remedy="Look at the drive's brake output.")
    first, last = int(on[0]), int(np.nonzero(voltage > 0)[0][-1]) + 1
    x = record["position"]
    release = onset_of_motion(x[first:last], period=record.period, count=count)
    engage = instant_of_stop(x[last:], period=record.period, count=count)
    return _Trial(release, engage, record)


def _run_of(k: int, trial: _Trial) -> RunRecord:
    return RunRecord(
        kind="brake_times", title=f"Brake opened and closed, {k + 1}", period=trial.record.period,
        channels=trial.record.channels, excitation={"point": "current_q"},
        metrics={"release": trial.release.value, "engage": trial.engage.value},
    )  # fmt: skip


def _together(found: list[Estimated]) -> Estimated:
    """Return the mean; its doubt is that of one trial, or the spread between them, whichever is more."""
    values = np.array([f.value for f in found])
    return Estimated(float(values.mean()), float(max(*(f.std for f in found), values.std(ddof=1))))


def _plan(axis: AxisModel, values: Values) -> Plan:
    per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
    current = min(values["limit.current"], axis.motor.current_peak)
    return Plan(
        title="Brake test", travel=ROOM, speed=max(GAIN * 0.4, 0.4 * axis.goal.velocity), current=current,
        seconds=SECONDS,
        text=f"The closed brake is loaded both ways with up to {current / math.sqrt(2):.3g} A rms. Then "
        + (
            "its pin is taken out twice by a torque to and fro"
            if axis.brake_by_pin
            else f"it opens {TRIALS} times on a small torque and closes on the motion"
        )
        + f", each within {ROOM * per:.3g} {unit}. It must be safe if the brake gives way: a hanging load is "
        "supported, or may come down.",
    )  # fmt: skip


def _argument(axis: AxisModel) -> float:
    return float(f"{_preset(axis):.3g}")


PROCEDURE = declare(
    Procedure(
        key="brake", step="stops", does="Test the brake", run=run_brake_test, plan=_plan,
        finds=("brake_holding", "brake_release", "brake_engage", "pin_play", "pin_torque"),
        applies=lambda axis: axis.has_brake,
        arguments=(
            Argument(key="torque", label="Torque it must hold", unit="N·m", low=1e-4, high=1e5, preset=_argument),
        ),
    )
)  # fmt: skip
