"""The rotor angle after a power-up that tells nothing: by alignment, or by a search that hardly moves the shaft."""

import math

import numpy as np

from cadrel.procedures.declaration import Procedure, declare
from cadrel.procedures.errors import NotAllowed
from cadrel.procedures.outcome import Outcome, RunRecord
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.beforehand import look_beforehand
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.phasing.plan import plan_power_up
from cadrel.procedures.phasing.small_motion import search
from cadrel.procedures.phasing.vector import electrical_per_count, settle_on
from cadrel.procedures.session import Session

SIDES = math.radians(60)  # electrical: from where alignment comes


def find_angle(session: Session) -> Outcome:
    """Find the rotor's electrical angle and give it to the drive until the next power-up.

    Raises
    ------
    NotAllowed
        The device tells the angle itself.
    WiredWrongly, NotConfirmed
        The shaft does not move, or the nudges contradict each other.
    """
    session.refresh()
    if session.axis.knows_angle_at_power_up:
        raise NotAllowed(why="The device tells the angle at power-up.", remedy="Nothing needs to be searched.")
    look_beforehand(session)
    return search(session) if session.axis.power_up == "search" else _align(session)


def _align(session: Session) -> Outcome:
    """Pull the shaft to a vector from below and from above: friction cancels in the mean."""
    session.enter("pulling the shaft to a vector", 0.2)
    current = session.axis.phasing_share * session.current_continuous
    per_count = electrical_per_count(session)
    centre = float(session.drive.status()["position"])
    with session.enabled_around("vector", centre):
        settle_on(session, -SIDES, current)
        ends = []
        for k, from_side in enumerate((-SIDES, SIDES)):
            session.enter("coming from above" if k else "coming from below", 0.4 + 0.3 * k)
            settle_on(session, from_side, current)
            settle_on(session, 0.0, current)
            looks = [session.hold(0.02)["counts"] for _ in range(5)]
            ends.append((float(np.mean(looks)) + 0.5) * per_count)
        status = session.look()
        here = (status["counts"] + 0.5) * per_count
    lag = 0.5 * (ends[1] - ends[0])
    if abs(lag) > SIDES / 2:
        raise wired_wrongly(
            [faults.did_not_follow(commanded=2 * SIDES, seen=2 * SIDES - 2 * abs(lag), current=current)]
        )
    session.drive.adopt_angle(here - 0.5 * (ends[0] + ends[1]))
    record = RunRecord(
        kind="power_up", title="Angle by alignment", period=1.0, channels={"shaft_el": np.array(ends)},
        excitation={"current": current}, metrics={"lag_deg": math.degrees(lag)},
    )  # fmt: skip
    return Outcome(runs=[record], summary=f"angle by alignment, ± {math.degrees(abs(lag)):.1f}°")


PROCEDURE = declare(Procedure(
    key="power_up", step="commutation", does="Find the angle", run=find_angle,
    plan=lambda axis, values: plan_power_up(axis).slower_than(values["limit.velocity"]), clears=("commutation",),
))  # fmt: skip
