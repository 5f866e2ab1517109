"""The rotor angle after a power-up that tells nothing: by alignment, or by a search that hardly moves the shaft."""

import math

from cadrel.procedures.declaration import Procedure, declare
from cadrel.procedures.errors import NotAllowed, NotConfirmed
from cadrel.procedures.outcome import Outcome, RunRecord
from cadrel.procedures.phasing.beforehand import look_beforehand
from cadrel.procedures.phasing.holding import hold_angles
from cadrel.procedures.phasing.plan import HELD_ANGLES, POWER_UP_TURNING, plan_power_up
from cadrel.procedures.phasing.small_motion import search
from cadrel.procedures.phasing.turning import turn_vector
from cadrel.procedures.phasing.vector import bring_up
from cadrel.procedures.session import Session

LEAST_BOUND = math.radians(2)  # electrical: what few held angles may not claim to be better than
DOUBT_OF_BIAS = 0.2  # of the angle by which a load holds the shaft beside the vector, as the voltages tell it
MOST_BOUND = math.radians(12)  # electrical: beyond, it is not known


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
    if session.axis.power_up == "search" and not session.axis.has_brake:
        return search(session)
    if session.axis.power_up == "search":
        session.note("Behind a brake each nudge would let the load go: the shaft was aligned instead.")
    return _align(session)


def _align(session: Session) -> Outcome:
    """Turn the vector a little both ways, then hold angles from both sides, as commutation does.

    Friction cancels between the two sides; what a load does to the rotor is read from the voltages of the turning.
    Behind a brake the load is caught by a vector first.
    """
    centre = float(session.drive.status()["position"])
    turning = turn_vector(session, centre, plan=POWER_UP_TURNING)
    session.enter("holding angles", 0.6)
    with session.enabled_around("vector", centre):
        bring_up(session, 0.0, turning.current)
        held = hold_angles(session, turning)
    bound = math.hypot(LEAST_BOUND, 2 * held.spread / math.sqrt(HELD_ANGLES), DOUBT_OF_BIAS * abs(turning.bias))
    if bound > MOST_BOUND:
        raise NotConfirmed(what=f"The held angles leave ± {math.degrees(bound):.0f}° open.")
    # Where it stands now that the current has gone: a shaft springs back, and a load settles on its brake.
    here = turning.pairs * (session.standstill()["counts"] + 0.5) * turning.per_count
    session.drive.adopt_angle(here + held.offset)
    record = RunRecord(
        kind="power_up", title="Angle by alignment", period=turning.up.period, channels=turning.up.channels,
        excitation={"current": turning.current}, metrics={
            "spread_deg": math.degrees(held.spread), "bound_deg": math.degrees(bound),
            "bias_deg": math.degrees(turning.bias),
        },
    )  # fmt: skip
    return Outcome(runs=[record], summary=f"angle by alignment, ± {math.degrees(bound):.1f}°")


PROCEDURE = declare(Procedure(
    key="power_up", step="commutation", does="Find the angle", run=find_angle,
    plan=lambda axis, values: plan_power_up(axis, values).slower_than(values["limit.velocity"]),
    clears=("commutation",),
))  # fmt: skip
