"""A brake that holds by a pin: what play it leaves, and what torque takes the load off it until it is out."""

import math

import numpy as np

from cadrel.core.errors import UnusableInput
from cadrel.core.identification import TotalLoad
from cadrel.core.verdict import Criterion, at_most
from cadrel.link import Recording
from cadrel.procedures.outcome import Finding, RunRecord
from cadrel.procedures.session import Session

CHANNELS = ("position", "velocity", "i_q", "brake_voltage")
TRIALS = 2
RECORDED = 3.5  # [s] of a trial: the drive gives up sooner
PLATEAU = 0.8  # of the largest torque on the closed pin: from there it surely lies at the edge of its hole


def play_of_pin(loaded: RunRecord, torque_constant: float) -> float:
    """Return how far the shaft goes in the pin's hole, from a record of torque to both sides. [rad]"""
    torque = torque_constant * np.asarray(loaded.channels["i_q"])
    position = np.asarray(loaded.channels["position"])
    up, down = torque > PLATEAU * torque.max(), torque < PLATEAU * torque.min()
    return abs(float(np.median(position[up]) - np.median(position[down])))


def free_it(session: Session, total: TotalLoad) -> tuple[list[Criterion], list[Finding], list[RunRecord]]:
    """Enable several times and see what took the pin out; rows of the verdict, findings, and the records.

    Raises
    ------
    AxisStopped
        It did not come out.
    UnusableInput
        Nothing was recorded of it.
    """
    runs, used = [], []
    for k in range(TRIALS):
        session.enter(f"freeing the pin, {k + 1} of {TRIALS}", 0.3 + 0.6 * k / TRIALS)
        session.arm(CHANNELS, seconds=RECORDED, divider=session.rates.ticks)
        with session.enabled("velocity", torque=total.constant):
            record = session.recorded(at_most=RECORDED + 1.0)
        session.standstill()
        torque, after = _used(session, total, record)
        used.append(torque)
        runs.append(
            RunRecord(
                kind="pin_freed", title=f"Pin taken out, {k + 1}", period=record.period, channels=record.channels,
                excitation={"point": "torque"}, metrics={"torque": torque, "seconds": after},
            )
        )  # fmt: skip
    may = session.values["brake.free_torque"]
    rows = [at_most("torque that frees the pin", may, max(used), unit="N·m")]
    found = [Finding(kind="pin_torque", label="Pin comes out with", value=max(used), unit="N·m", std=None, run=1)]
    return rows, found, runs


def _used(session: Session, total: TotalLoad, record: Recording) -> tuple[float, float]:
    """Torque beside the load's until the pin was out [N·m], and how long it took from the brake's voltage on [s]."""
    on = np.nonzero(record["brake_voltage"] > 0)[0]
    if not len(on):
        raise UnusableInput(what="No voltage was given to the brake.", remedy="Look at the drive's brake output.")
    begun = int(on[0])
    away = np.abs(record["position"][begun:] - record["position"][begun]) >= session.values["brake.free_turn"]
    if not away.any():
        raise UnusableInput(what="The shaft did not turn while the pin was pulled.", remedy="Run it again.")
    out = int(np.argmax(away))
    beside = session.axis.motor.torque_constant * record["i_q"][begun : begun + out + 1] - total.constant
    return float(np.abs(beside).max()), out * record.period


def play_row(session: Session, play: float) -> tuple[Criterion, Finding]:
    """Return whether the turn that shows the pin to be out is more than its play."""
    asked = math.degrees(session.values["brake.free_turn"])
    row = at_most("play of the pin, of the turn that shows it out", asked, math.degrees(play), unit="°", tolerance=0.0)
    return row, Finding(kind="pin_play", label="Play of the pin", value=play, unit="rad", std=None, run=0)
