"""An offset that was not found here, or found by hand: confirmed by pushes both ways before anything is unlocked."""

import math

from cadrel.core.axis import AxisModel
from cadrel.core.verdict import at_most, decide
from cadrel.procedures.declaration import Procedure, Values, declare
from cadrel.procedures.errors import NotAllowed
from cadrel.procedures.outcome import Finding, Outcome, Plan, RunRecord
from cadrel.procedures.phasing.confirming import (
    FREE_OF_LOAD,
    MOST_CROSS,
    MOST_REFINEMENT,
    confirm_by_pushing,
    confirmation_from_spin,
    refine_by_spinning,
)
from cadrel.procedures.session import Session

LEAST_STD = math.radians(0.5)
BY_HAND = math.radians(50)  # electrical: what a load hanging on a hand's vector may turn the rotor by
SECONDS = 8.0


def confirm_offset(session: Session) -> Outcome:
    """Push both ways, spin, and take what the spin refines; only then the offset counts.

    Raises
    ------
    NotAllowed
        No angle is known, or Halls alone are there.
    NotConfirmed
        The shaft is not pushed the way it should be; nothing is valid then.
    """
    session.refresh()
    axis, held = session.axis, session.carried
    if axis.feedback.kind.tells_sectors_only:
        raise NotAllowed(why="Halls alone are learned, not confirmed.", remedy="Run the automatic check.")
    centre = float(session.drive.status()["position"])
    session.write({"commutation.valid": 1.0})  # for this run only, behind its guard
    try:
        if session.drive.status()["angle_quality"] == "unknown":
            raise NotAllowed(
                why="The angle is not known since power-up.", remedy="Turn to the index, or find the angle first."
            )
        free = abs(held) < FREE_OF_LOAD * axis.motor.torque_constant * session.current_continuous
        with session.unconfirmed():
            pushed = confirm_by_pushing(session, centre) if free and not axis.has_brake else None
            confirmed = pushed[0] if pushed else None
            refined, spin = refine_by_spinning(session, held, confirmed, most=BY_HAND)
            if abs(refined.value) > MOST_REFINEMENT:
                # A load that hangs turns the rotor away from a vector held by hand. The back-EMF says by how much; what
                # it says is taken and must come out again.
                session.note(f"The angle was {math.degrees(refined.value):.0f}° off; corrected by it, and spun again.")
                _correct(session, refined.value)
                refined, spin = refine_by_spinning(session, held, confirmed)
        confirmed = confirmed or confirmation_from_spin(spin, session)
    finally:
        session.write({"commutation.valid": 0.0})
    changes = {"commutation.valid": 1.0, **_correct(session, refined.value)}
    session.write(changes)
    session.enter("done", 1.0)
    doubt = max(refined.std, LEAST_STD)
    metrics = {"refined_by_deg": -math.degrees(refined.value), "error_bound_deg": confirmed.error_bound_deg}
    runs = [
        RunRecord(
            kind="spin", title="Spun both ways", period=spin.period, channels=spin.channels,
            excitation={"point": "velocity"}, metrics=metrics,
        )
    ]  # fmt: skip
    if pushed is not None:
        record = pushed[1]
        runs.append(
            RunRecord(
                kind="push", title="Torque per amp", period=record.period, channels=record.channels,
                excitation={"current": pushed[0].current},
                metrics={"forward_rad_s2": pushed[0].forward, "backward_rad_s2": pushed[0].backward},
            )
        )  # fmt: skip
    value = changes.get("commutation.offset", session.drive.status()["angle"])
    rows = [
        at_most("uncertainty of the angle", 5.0, math.degrees(doubt), unit="°", tolerance=0.0),
        at_most("push of field current, as an angle", MOST_CROSS, confirmed.error_bound_deg, unit="°", tolerance=0.0),
    ]
    return Outcome(
        findings=[Finding(kind="commutation", label="Offset, confirmed", value=value, unit="rad", std=doubt, run=0)],
        changes=changes,
        runs=runs,
        verdict=decide("commutation", rows, run=0),
        summary=f"confirmed, {math.degrees(value):.1f}° ± {math.degrees(doubt):.1f}°",
    )


def _correct(session: Session, ahead: float) -> dict[str, float]:
    """Take an angle off the one in use, in the drive's values and for now; returns the values it changed. [rad]"""
    changes: dict[str, float] = {}
    if session.axis.feedback.is_absolute or session.axis.has_index:
        before = session.values["commutation.offset"]
        changes["commutation.offset"] = math.remainder(before - ahead, 2 * math.pi)
    if not session.axis.knows_angle_at_power_up:
        session.drive.adopt_angle(session.drive.status()["angle"] - ahead)
    session.write({**changes, "commutation.valid": 1.0})
    return changes


def _plan(axis: AxisModel, values: Values) -> Plan:
    per, unit = axis.mechanism.unit_per_rad, axis.mechanism.unit
    travel, speed = axis.goal.travel / 2, min(axis.goal.velocity, values["limit.velocity"])
    return Plan(
        title="Confirm the offset", travel=travel, speed=speed, current=values["limit.current"], seconds=SECONDS,
        text=f"It is pushed and spun both ways, within {travel * per:.3g} {unit} to either side at up to "
        f"{speed * per:.3g} {unit}/s, about {SECONDS:.0f} s; a wrong offset ends it at once.",
    )  # fmt: skip


PROCEDURE = declare(
    Procedure(
        key="confirm_offset", step="commutation", does="Confirm it by pushes", run=confirm_offset, plan=_plan,
        clears=("commutation",),
    )
)  # fmt: skip
