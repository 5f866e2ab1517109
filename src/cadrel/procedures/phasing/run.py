"""The automatic commutation: look, turn, correct signals, hold, confirm, refine."""

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from cadrel.core.identification import Estimated, HallMap, OffsetResult
from cadrel.core.identification.turning import INDUCTANCE_DOUBT
from cadrel.core.verdict import Criterion, at_most, decide
from cadrel.link import Recording
from cadrel.procedures.declaration import Procedure, declare
from cadrel.procedures.outcome import Finding, Outcome, RunRecord
from cadrel.procedures.phasing import faults
from cadrel.procedures.phasing.beforehand import look_beforehand
from cadrel.procedures.phasing.confirming import (
    MOST_CROSS,
    Confirmation,
    confirm_by_pushing,
    confirmation_from_spin,
    friction_seen,
    held_load,
    may_push,
    refine_by_spinning,
    torque_against,
)
from cadrel.procedures.phasing.faults import wired_wrongly
from cadrel.procedures.phasing.halls_alone import learn_twice, push_both_ways
from cadrel.procedures.phasing.holding import hold_angles
from cadrel.procedures.phasing.plan import plan_commutation
from cadrel.procedures.phasing.signals import Correction, correct_signals
from cadrel.procedures.phasing.turning import TURN, Turning, counts_between_indexes, turn_vector
from cadrel.procedures.phasing.vector import bring_up
from cadrel.procedures.session import Consent, Session

HELD_BACK = 0.88  # of what was agreed to: where the guard lets go, a shaft still runs out
LEAST_STD = math.radians(0.1)  # counts and the sampling of the angle leave a tenth of a degree
FLUX_DOUBT = 0.25  # of the sheet's flux: more, and pole pairs or torque constant are wrong
TURN_NOT_SEEN = "turn_not_seen"
TURN_NOT_SEEN_TEXT = (
    "No two index pulses were passed: nothing but the entries says what one turn is. If pole pairs and resolution were "
    "wrong by the same factor, speed and travel would be off by it. Turn the marked shaft once by hand in the Feedback "
    "step, or jog by one unit and measure."
)
FLUX_TELLS = 0.05  # of the sheet's flux: within, its pole pairs are the motor's; a sheet is rarely better
FLUX_TO_REFUSE = 1.6  # times or a part of it, where Halls are all there is
UNEVEN = 0.15  # torque per amp of the two ways
MOST_DOUBT, MOST_DOUBT_HALLS = 10.0, 20.0  # [° electrical] costs 1.5 % and 6 % of the torque at the most
MOST_PAIRS_OFF = 2.0  # [%]


@dataclass(slots=True, eq=False)
class _Found:
    """What the run has gathered."""

    turning: Turning
    changes: dict[str, float] = field(default_factory=dict)
    held: OffsetResult | None = None
    halls: HallMap | None = None
    correction: Correction | None = None
    confirmed: Confirmation | None = None
    push: Recording | None = None
    refined: Estimated | None = None
    spin: Recording | None = None
    doubt: float = LEAST_STD  # [rad]
    remarks: list[str] = field(default_factory=list)  # codes
    said: list[str] = field(default_factory=list)  # the same in words, to stand beside the verdict

    def say(self, session: Session, code: str, text: str) -> None:
        """Remark something that does no harm to the angle."""
        self.remarks.append(code)
        self.said.append(text)
        session.note(text)


def run_commutation(session: Session) -> Outcome:
    """Find direction, pole pairs, Hall map and offset; write them; confirm by torque per amp.

    Raises
    ------
    WiredWrongly
        What is wired, mounted or entered wrongly; nothing is marked valid then.
    NotConfirmed, HallEdgesMoved
        The offset found does not hold.
    """
    agreed = session.consent
    session.consent = Consent(travel=HELD_BACK * agreed.travel, speed=HELD_BACK * agreed.speed)
    try:
        return _run(session)
    finally:
        session.consent = agreed


def _run(session: Session) -> Outcome:
    session.refresh()
    session.write({"commutation.valid": 0.0})
    look_beforehand(session)
    centre = float(session.drive.status()["position"])
    found = _Found(turn_vector(session, centre))
    _compare_flux(session, found)
    found.correction = correct_signals(session, found.turning)
    if session.axis.feedback.kind.tells_sectors_only:
        found.halls, found.doubt = learn_twice(session, found.turning, centre)
    else:
        _hold(session, found, centre)
    _say_halls(session, found)
    _say_turn(session, found)
    session.write(found.changes)
    session.standstill()
    session.write({"commutation.valid": 1.0})
    try:
        _confirm(session, found, centre)
    except BaseException:
        session.write({"commutation.valid": 0.0})
        raise
    session.write(found.changes)
    found.changes["commutation.valid"] = 1.0
    if found.correction is not None:
        found.changes |= found.correction.changes
    return _outcome(session, found)


def _compare_flux(session: Session, found: _Found) -> None:
    flux, expected = found.turning.flux, session.values["motor.flux_linkage"]
    # The current's own flux is taken off by the sheet's inductance; of a motor with much of it little is left.
    doubt = INDUCTANCE_DOUBT * session.values["motor.inductance"] * found.turning.current
    if abs(flux / expected - 1) > FLUX_DOUBT + doubt / expected and math.cos(found.turning.lag) > 0.7:
        found.say(
            session,
            "flux",
            f"The turning rotor shows a flux of {1e3 * flux:.3g} mWb per pole pair, the sheet {1e3 * expected:.3g}: "
            "check pole pairs and torque constant.",
        )
    alike = FLUX_TO_REFUSE * (flux + doubt) >= expected and flux - doubt <= FLUX_TO_REFUSE * expected
    if session.axis.feedback.kind.tells_sectors_only and not alike:
        # Nothing else shows how far the shaft turns; the sheet decides speeds and travel, and it is wrong.
        raise wired_wrongly([faults.flux(seen=flux, expected=expected, pairs=session.values["motor.pole_pairs"])])


def _hold(session: Session, found: _Found, centre: float) -> None:
    """Hold angles, and turn what was seen into the values the drive needs for its kind of device."""
    turning, axis, drive = found.turning, session.axis, session.drive
    with session.enabled_around("vector", centre):
        bring_up(session, 0.0, turning.current)
        found.held = hold_angles(session, turning)
        if not axis.knows_angle_at_power_up:
            here = turning.pairs * (session.look()["counts"] + 0.5) * turning.per_count
            drive.adopt_angle(here + found.held.offset)
    offset = found.held.offset
    if axis.has_halls:
        found.halls = turning.halls(axis.feedback.hall_spacing)
    if axis.feedback.is_absolute:
        found.changes["commutation.offset"] = math.remainder(offset, TURN)
    elif axis.has_index:
        seen = [r for r in (turning.up, turning.down) if r["index_seen"][-1] > 0]
        at_index = turning.pairs * seen[-1]["index_count"][-1] * turning.per_count + offset
        found.changes["commutation.offset"] = math.remainder(at_index, TURN)


def _say_turn(session: Session, found: _Found) -> None:
    """Ask for a look at one whole turn where nothing but the entries says what a turn is.

    An index passed once leaves little room for an error, and wrong pole pairs show in the flux, which the sheet gives
    per pole pair. A serial word has its bits.
    """
    axis = session.axis
    off = abs(found.turning.flux / session.values["motor.flux_linkage"] - 1)
    if axis.feedback.kind.has_words or (axis.has_index and off <= FLUX_TELLS):
        return
    if counts_between_indexes(session, found.turning) is None:
        found.say(session, TURN_NOT_SEEN, TURN_NOT_SEEN_TEXT)


def _say_halls(session: Session, found: _Found) -> None:
    """Write the Hall map; say what of it deserves a look."""
    halls = found.halls
    if halls is None:
        return
    v = session.values
    if halls.mirrored:
        found.say(
            session,
            "halls_mirrored",
            "The Hall states come in mirrored order: two Hall wires, or two motor phases, are swapped. The map learned "
            "takes it up.",
        )
    moved = math.remainder(halls.offset - v["commutation.hall_offset"], TURN)
    if v["commutation.hall_offset"] and abs(abs(moved) - TURN / 3) < math.radians(20):
        found.say(
            session,
            "rotated",
            f"State 1 begins {math.degrees(abs(moved)):.0f}° from where it did: Hall wires or motor phases were moved "
            "on by one.",
        )
    worst = max(abs(e) for e in halls.edge_errors)
    if worst > math.radians(10):
        session.note(f"One Hall edge is {math.degrees(worst):.0f}° off the even grid.")
    found.changes["commutation.hall_offset"] = halls.offset
    found.changes["commutation.hall_mirrored"] = float(halls.mirrored)
    limit = math.pi / 6
    for k, error in enumerate(halls.edge_errors, 1):
        found.changes[f"commutation.hall_edge_{k}"] = max(-limit, min(error, limit))
    if (
        not session.axis.feedback.kind.tells_sectors_only
    ):  # alone, hysteresis cannot be told from the lag friction makes
        found.changes["commutation.hall_hysteresis"] = max(0.0, min(halls.hysteresis, limit))


def _confirm(session: Session, found: _Found, centre: float) -> None:
    """Push where nothing can fall, then spin; take the refinement into every angle found."""
    if session.axis.feedback.kind.tells_sectors_only:
        if may_push(session, found.turning):
            found.push, edges = push_both_ways(session, found.turning, centre)
            found.confirmed = Confirmation(float(edges[0]), float(edges[1]), 0.0, session.current_continuous)
        else:
            session.note("Not pushed: without current the load would fall. Two turns agree; no more was shown.")
        return
    _take_finer_than_a_sector(session, found.turning)
    with session.unconfirmed():
        if may_push(session, found.turning) and (pushed := confirm_by_pushing(session, centre)) is not None:
            found.confirmed, found.push = pushed
        found.refined, found.spin = _spin(session, found)
    if found.confirmed is None:
        found.confirmed = confirmation_from_spin(found.spin, session)
    by = found.refined.value
    for key in ("commutation.offset", "commutation.hall_offset"):
        if key in found.changes:
            found.changes[key] = math.remainder(found.changes[key] - by, TURN)
    if not session.axis.knows_angle_at_power_up:
        session.drive.adopt_angle(session.drive.status()["angle"] - by)
    found.doubt = max(found.refined.std, LEAST_STD)


def _take_finer_than_a_sector(session: Session, turning: Turning) -> None:
    """Let the drive take the angle that the Hall map rests on, where until an edge comes it would take their sector.

    A push of a motor of few poles passes none: by up to half a sector it would be off, and held against the offset.
    """
    status = session.drive.status()
    if session.axis.has_halls and status["angle_quality"] == "unknown":
        here = turning.pairs * (status["counts"] + 0.5) * turning.per_count
        session.drive.adopt_angle(here + turning.offset)


def _spin(session: Session, found: _Found) -> tuple[Estimated, Recording]:
    return refine_by_spinning(
        session, torque_against(session, found.turning), found.confirmed, rubs=friction_seen(session, found.turning),
    )  # fmt: skip


def _outcome(session: Session, found: _Found) -> Outcome:
    axis, held, halls = session.axis, found.held, found.halls
    offset = found.changes.get("commutation.offset", found.changes.get("commutation.hall_offset"))
    if offset is None:
        assert held is not None
        offset = held.offset
    metrics = _metrics(session, found, offset)
    session.enter("done", 1.0)
    confirmed = found.confirmed
    if confirmed is not None and not axis.feedback.kind.tells_sectors_only and confirmed.imbalance > UNEVEN:
        session.note(f"The two directions differ by {100 * confirmed.imbalance:.0f} %: gravity or uneven friction.")
    label = (
        "Electrical angle at device zero" if axis.feedback.is_absolute
        else "Electrical angle at the index" if "commutation.offset" in found.changes
        else "Hall offset" if halls else "Electrical angle at power-up"
    )  # fmt: skip
    findings = [
        Finding(kind="commutation", label=label, value=offset, unit="rad", std=found.doubt, run=0),
        Finding(kind="pole_pairs", label="Electrical turns per shaft turn", value=found.turning.pairs, unit="", run=0),
    ]
    if held is not None:
        findings.append(
            Finding(kind="offset_spread", label="Spread over held angles", value=held.spread, unit="rad", run=0)
        )
    if halls is not None:
        worst = max(abs(e) for e in halls.edge_errors)
        findings.append(Finding(kind="hall_edges", label="Worst Hall edge", value=worst, unit="rad", run=0))
    if found.turning.second is not None:
        label = "Counts on the load per motor turn"
        findings.append(Finding(kind="second_device", label=label, value=found.turning.second, unit="counts", run=0))
    runs = _runs(found, metrics)
    if found.correction is not None:
        at = next(k for k, r in enumerate(runs) if r.kind == "signal_circle")
        label = "Signal angle error, corrected" if found.correction.changes else "Signal angle error"
        left = found.correction.after if found.correction.changes else found.correction.before
        findings.append(Finding(kind="signal_circle", label=label, value=left, unit="rad", run=at))
    return Outcome(
        findings=findings,
        changes=found.changes,
        runs=runs,
        verdict=decide("commutation", _criteria(session, found), run=0, remarks=tuple(found.said)),
        summary=f"{math.degrees(offset):.1f}° ± {math.degrees(found.doubt):.1f}°",
        plant=held_load(session, found.turning),
        remarks=found.remarks,
    )


def _criteria(session: Session, found: _Found) -> list[Criterion]:
    """The angle within what torque can bear, the pole pairs entered, and a push both ways where one could be made."""
    entered = session.values["motor.pole_pairs"]
    allowed = MOST_DOUBT_HALLS if session.axis.feedback.kind.tells_sectors_only else MOST_DOUBT
    rows = [
        at_most("uncertainty of the angle", allowed, math.degrees(found.doubt), unit="°", tolerance=0.0),
        at_most(
            "electrical turns beside the pole pairs entered", MOST_PAIRS_OFF,
            100 * abs(abs(found.turning.pairs) / entered - 1), unit="%", tolerance=0.0,
        ),
    ]  # fmt: skip
    if found.confirmed is not None:
        angle = found.confirmed.error_bound_deg
        rows.append(at_most("push of field current, as an angle", MOST_CROSS, angle, unit="°", tolerance=0.0))
    return rows


def _metrics(session: Session, found: _Found, offset: float) -> dict[str, Any]:
    turning, held, halls, confirmed = found.turning, found.held, found.halls, found.confirmed
    return {
        "offset_deg": math.degrees(offset),
        "doubt_deg": math.degrees(found.doubt),
        "refined_by_deg": -math.degrees(found.refined.value) if found.refined else 0.0,
        "spread_deg": math.degrees(held.spread if held else found.doubt),
        "friction_lag_deg": math.degrees(held.friction_lag if held else turning.lag),
        "load_bias_deg": math.degrees(turning.bias),
        "flux_linkage": turning.flux,
        "current_rms": turning.current / math.sqrt(2),
        "error_bound_deg": confirmed.error_bound_deg if confirmed else None,
        "forward_rad_s2": confirmed.forward if confirmed else None,
        "backward_rad_s2": confirmed.backward if confirmed else None,
        "imbalance": confirmed.imbalance if confirmed else None,
        "hall_edge_errors_deg": [math.degrees(e) for e in halls.edge_errors] if halls else [],
        "hall_edges_deg": [math.degrees(e) for e in halls.edges] if halls else [],
        "hall_mirrored": bool(halls and halls.mirrored),
        "pole_pairs": session.values["motor.pole_pairs"],
    }


def _runs(found: _Found, metrics: dict[str, Any]) -> list[RunRecord]:
    turning = found.turning
    joined = {k: np.concatenate([turning.up[k], turning.down[k]]) for k in turning.up.channels}
    joined |= {"shaft_el": np.concatenate([turning.shaft(turning.up), turning.shaft(turning.down)])}
    runs = [
        RunRecord(
            kind="commutation", title="Vector turned both ways", period=turning.up.period, channels=joined,
            excitation={"current": turning.current}, metrics=metrics,
        )
    ]  # fmt: skip
    if found.push is not None:
        kept = {k: metrics[k] for k in ("forward_rad_s2", "backward_rad_s2", "error_bound_deg")}
        runs.append(
            RunRecord(
                kind="push", title="Torque per amp", period=found.push.period, channels=found.push.channels,
                excitation={"current": found.confirmed.current if found.confirmed else 0.0}, metrics=kept,
            )
        )  # fmt: skip
    if found.spin is not None:
        runs.append(
            RunRecord(
                kind="spin", title="Spun both ways", period=found.spin.period, channels=found.spin.channels,
                excitation={"point": "velocity"}, metrics={"refined_by_deg": metrics["refined_by_deg"]},
            )
        )  # fmt: skip
    if found.correction is not None:
        runs.append(found.correction.run)
    return runs


PROCEDURE = declare(Procedure(
    key="commutation", step="commutation", does="Check and find the offset", order=1, run=run_commutation,
    plan=lambda axis, values: plan_commutation(axis).slower_than(values["limit.velocity"]),
    # It says more of Halls and words than the drive does.
    clears=("commutation", "halls", "words"),
))  # fmt: skip
