"""Stops from speed: what braking gives back, where it goes, and which case it was; beside the case predicted."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.control import Gains, Winding
from cadrel.core.identification import TotalLoad
from cadrel.core.parameters import field_of
from cadrel.core.power import BusCase, StopOnBus, seen_case, stop_on_bus
from cadrel.core.tuning import StopTrace, load_of, predict_stop
from cadrel.core.verdict import at_most, decide
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, Values, declare
from cadrel.procedures.errors import AxisStopped, NotAllowed
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.session import POLL, Session

CHANNELS = (
    "position", "velocity", "velocity_ref", "i_q", "i_d", "v_bus", "chopper", "bus_limited", "brake_voltage",
)  # fmt: skip
AT_SPEED = 0.15  # [s] run at speed before it brakes: the loop has settled
USED = 0.85  # of the travel agreed to, that a stroke plans with
OF_LIMIT = 0.9  # of the velocity limit and the speed agreed to
OVERSHOOTS = 1.5  # times what the identified loop overshoots at the end of its ramp; to stay below the speed agreed to
ROOM_FOR_STOP = 0.10  # of its way, that a stop may take more than ramp and velocity loop make it
WAY_AT_LEAST = 0.5  # [rad] of the motor: a stop shorter than that shows nothing
SECONDS_AFTER = 0.25  # recorded after the planned end of a stop
SECONDS = 9.0
STRETCHED = "stretched past its room"  # what ended it was the travel; why it got there was the bus
ENDED_BY: dict[str, BusCase] = {"overvoltage": "fault", "coasted": "coasted", STRETCHED: "stretched"}
LAST_LOOKS = 25  # for the end of a record that is due
RAMP_BEGUN = 0.995  # of the speed it was told: below, its ramp has begun


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Stop:
    """One stop, as recorded and as predicted."""

    title: str
    record: Recording
    speed: float  # [rad/s] it came from, signed
    planned: float  # [rad] way of the ramp, and what the velocity loop in force lags behind it
    took: float  # [rad] way that it took
    energy: float  # [J] into the resistor
    bus_peak: float  # [V]
    duty: float  # of the chopper, while it braked
    seen: BusCase
    predicted: StopOnBus


def run_stops(session: Session) -> Outcome:
    """Brake from speed to both sides on the ramp of moves, then by quick stop in the worse direction.

    Raises
    ------
    NotAllowed
        The load is not known, or the travel agreed to is too short for any stop.
    """
    values = session.refresh()
    total = session.plant.total
    if total is None:
        raise NotAllowed(why="The load is not identified.", remedy="Run the load step first.")
    ramp, quick = values["limit.acceleration"], values["limit.quick_stop"]
    speed = _speed(session, total, ramp)
    session.require_room(speed**2 / ramp + speed * AT_SPEED)
    worse = -math.copysign(1.0, total.constant) if total.constant else 1.0  # sinking, a load gives back more
    stops = []
    for k, (way, title, rate) in enumerate((
        (-worse, "Stop on the ramp, away", ramp), (worse, "Stop on the ramp, back", ramp),
        (-worse, "", ramp), (worse, "Quick stop", quick),
    )):  # fmt: skip
        session.enter(title.lower() or "going back for the quick stop", 0.1 + 0.22 * k)
        record, position, fault = _brake(session, way * speed, rate, ramp=ramp, quick=title == "Quick stop")
        if title:
            stops.append(_judged(session, total, title, record, way * speed, rate, position, fault))
        if fault:
            break
    session.enter("done", 1.0)
    return _outcome(session, stops)


def _speed(session: Session, total: TotalLoad, ramp: float) -> float:
    """Return the highest speed from which the travel agreed to allows a stop on the ramp. [rad/s]

    What the loop overshoots at the end of its ramp stays below the speed agreed to as well.
    """
    limit = OF_LIMIT * min(session.consent.speed, session.values["limit.velocity"])
    room = USED * session.consent.travel
    # Up to speed, a while at it, down: v²/a + v t = room.
    speed = 0.5 * ramp * (math.sqrt(AT_SPEED**2 + 4 * room / ramp) - AT_SPEED)
    speed = min(speed, limit)
    if speed**2 / (2 * ramp) < WAY_AT_LEAST and speed < limit:
        raise NotAllowed(
            why="The travel agreed to is too short to brake from any speed.",
            remedy=f"Raise {field_of('procedure.travel')}.",
        )
    beyond = max(-float(_trace(session, total, speed, ramp).speed.min()), 0.0)
    return max(min(speed, session.consent.speed - OVERSHOOTS * beyond), 0.5 * speed)


def _brake(session: Session, speed: float, rate: float, *, ramp: float, quick: bool) -> tuple[Recording, float, str]:
    """Run up, brake and stand; returns the record from the stop's command on, where it began, and the fault or ""."""
    rises, falls = abs(speed) / ramp, abs(speed) / rate
    here, begun, fault = float(session.drive.status()["position"]), 0.0, ""
    try:
        # What the drive did by itself is what is measured: it is not helped in the end.
        with session.enabled_around("velocity", here, let_go=True):
            session.drive.run_at(speed)
            session.hold(rises + AT_SPEED - 0.05)
            session.arm(CHANNELS, seconds=0.05 + 2.5 * falls + SECONDS_AFTER)
            session.hold(0.05)
            begun = float(session.look()["position"])
            if quick:
                session.drive.stop("the quick stop is being measured")
                session.rest(2.5 * falls + SECONDS_AFTER)
            else:
                session.drive.run_at(0.0)
                session.hold(2.5 * falls + SECONDS_AFTER)
            # The record began a moment after it was asked for: its last samples may still be on their way.
            for _ in range(LAST_LOOKS):
                if session.drive.recorder_state() == "done":
                    break
                session.drive.wait(POLL)
            record = session.drive.recording()
    except AxisStopped as stopped:
        fault = str(stopped.facts["reason"])
        session.rest(2.5 * falls + SECONDS_AFTER)
        if session.drive.recorder_state() != "done":
            raise
        record = session.drive.recording()
        if "bus_limited" not in record.channels:
            raise  # it was stopped before there was anything to record
        if fault not in ENDED_BY:
            if not record["bus_limited"].any():
                raise
            fault = STRETCHED
    session.standstill()
    return record, begun, fault


def _judged(
    session: Session, total: TotalLoad, title: str, whole: Recording, speed: float, rate: float, begun: float,
    fault: str,
) -> Stop:  # fmt: skip
    axis, v = session.axis, session.values
    supply = axis.braking
    record = _from_its_command(whole)
    # Until it stands for the first time: what comes after is the loop's own.
    slow = np.abs(record["velocity"]) < 0.02 * abs(speed)
    ends = int(np.argmax(slow)) if slow.any() else len(slow)
    burnt = record["chopper"] * record["v_bus"] ** 2 / supply.resistor if supply.resistor else np.zeros(len(slow))
    return Stop(
        title=title, record=whole, speed=speed,
        planned=0.5 * speed**2 / rate + abs(speed) * v["load.inertia"] / v["velocity.gain"],
        took=abs(float(record["position"][max(ends - 1, 0)]) - begun), energy=float(burnt.sum() * record.period),
        bus_peak=float(record["v_bus"].max()), duty=float(record["chopper"][: max(ends, 1)].mean()),
        seen=seen_case(
            bus=record["v_bus"], chopper=record["chopper"], limited=record["bus_limited"], ended=ENDED_BY.get(fault)
        ),
        predicted=_predicted(session, total, speed, rate, record),
    )  # fmt: skip


def _from_its_command(record: Recording) -> Recording:
    """Return a stop's record from where its ramp begins."""
    told = np.abs(record["velocity_ref"])
    begins = int(np.argmax(told < RAMP_BEGUN * told[0]))
    return Recording(record.period, {key: channel[begins:] for key, channel in record.channels.items()})


def _predicted(session: Session, total: TotalLoad, speed: float, rate: float, record: Recording) -> StopOnBus:
    """What the identified axis would do on its ramp, and the bus with it, from where both stood at the command."""
    axis, v = session.axis, session.values
    trace = _trace(session, total, speed, rate)
    current = trace.torque / axis.motor.torque_constant
    return stop_on_bus(
        trace.torque * trace.speed + 1.5 * v["motor.resistance"] * current**2, period=trace.period,
        bus=float(record["v_bus"][0]), nominal=axis.bus_voltage, capacitance=axis.braking.capacitance,
        threshold=axis.braking.threshold, trips_at=float(session.drive.identity()["voltage_max"]),
        resistor=axis.braking.resistor, reaction=round(v["power.braking_reaction"]),
        burns=bool(record["chopper"][0]),
    )  # fmt: skip


def _trace(session: Session, total: TotalLoad, speed: float, rate: float) -> StopTrace:
    """The identified axis on its way from a speed to rest. [rad/s], [rad/s²]"""
    v = session.values
    load, _ = load_of(session.plant, v)
    return predict_stop(
        load, session.plant.winding(Winding.from_drive(v)), Gains.from_drive(v, session.rates), total, speed=speed,
        rate=rate, most=session.axis.motor.torque_constant * v["limit.current"],
    )  # fmt: skip


def _outcome(session: Session, stops: list[Stop]) -> Outcome:
    axis = session.axis
    per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
    worst = max(stops, key=lambda s: (s.energy, s.bus_peak))
    last = stops[-1]
    power = axis.braking.stops * worst.energy / axis.braking.cycle
    rows = [
        at_most(f"way of the {s.title.lower()}", per * s.planned, per * s.took, unit=unit, tolerance=ROOM_FOR_STOP)
        for s in stops
    ]
    none = float(sum(s.seen in ("fault", "coasted") for s in stops))
    rows.append(at_most("stops that failed", 0.0, none, tolerance=0.0))
    if axis.braking.resistor and axis.braking.resistor_power:
        rows.append(at_most("resistor, mean over a cycle", axis.braking.resistor_power, power, unit="W", tolerance=0.0))
    differing = [s for s in stops if s.seen != s.predicted.case]
    for s in stops:
        session.note(
            f"{s.title}: {SAYS[s.seen]}; predicted: {SAYS[s.predicted.case]}. Bus up to {s.bus_peak:.0f} V, "
            f"{s.energy:.3g} J into the resistor, {s.predicted.energy:.3g} J predicted."
        )
    findings = [
        Finding(kind="stop_energy", label="Into the resistor, the hardest stop", value=worst.energy, unit="J",
                run=stops.index(worst)),
        Finding(kind="stop_bus", label="Bus, highest", value=max(s.bus_peak for s in stops), unit="V", run=0),
        Finding(kind="stop_way", label="Way of the quick stop", value=last.took, unit="rad", run=len(stops) - 1),
    ]  # fmt: skip
    return Outcome(
        findings=findings,
        runs=[_run(s) for s in stops],
        verdict=decide("stop_energy", rows, run=0, remarks=tuple(f"not as predicted: {s.title}" for s in differing)),
        remarks=["bus_case"] if differing else [],
        summary=f"{SAYS[worst.seen]}, {worst.energy:.3g} J, bus up to {max(s.bus_peak for s in stops):.0f} V",
    )


SAYS: dict[str, str] = {
    "nothing": "nothing came back",
    "capacitors": "the capacitors took it",
    "resistor": "the resistor took it",
    "stretched": "the ramp was stretched",
    "fault": "the drive faulted",
    "coasted": "the axis coasted",
}


def _run(stop: Stop) -> RunRecord:
    metrics: dict[str, Any] = {
        "seen": stop.seen, "predicted": stop.predicted.case, "energy": stop.energy, "bus_peak": stop.bus_peak,
        "chopper_duty": stop.duty, "planned_way": stop.planned, "way": stop.took,
        "predicted_energy": stop.predicted.energy,
    }  # fmt: skip
    return RunRecord(
        kind="stop", title=stop.title, period=stop.record.period, channels=stop.record.channels,
        excitation={"point": "velocity"}, metrics=metrics,
    )  # fmt: skip


def _plan(axis: AxisModel, values: Values) -> Plan:
    per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
    current = min(values["limit.current"], axis.motor.current_peak)
    travel, speed = axis.goal.travel / 2, min(axis.goal.velocity, values["limit.velocity"])
    return Plan(
        title="Stops from speed", travel=travel, speed=speed, current=current, seconds=SECONDS,
        text=f"It runs to either side within {travel * per:.4g} {unit} at up to {speed * per:.4g} {unit}/s and brakes: "
        f"twice on its ramp, once by quick stop, with up to {current / math.sqrt(2):.3g} A rms.",
    )  # fmt: skip


PROCEDURE = declare(
    Procedure(
        key="stops", step="stops", does="Measure the stops", run=run_stops, plan=_plan, fine_feedback=True,
        finds=("stop_energy", "stop_bus", "stop_way"),
    )
)  # fmt: skip
