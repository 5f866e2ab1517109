"""All procedures in order, for headless use."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from cadrel.core.axis import AxisModel, drive_values, unsupported
from cadrel.core.errors import CoreError
from cadrel.core.identification import IdentifiedPlant
from cadrel.core.parameters import REGISTRY, Entry
from cadrel.link import Drive, LinkError
from cadrel.procedures.declaration import MOST_RETURNS, PROCEDURES, in_order
from cadrel.procedures.errors import ProcedureError
from cadrel.procedures.outcome import Outcome
from cadrel.procedures.session import Consent, Session


def consent_for(procedure: str, axis: AxisModel, values: Mapping[str, float]) -> Consent:
    """Return travel and speed a procedure asks consent for: what the entries allow."""
    return PROCEDURES[procedure].consent(axis, values)


@dataclass(slots=True)
class RouteResult:
    """What a whole route gave."""

    status: str = "failed"
    reason: str = ""
    outcomes: dict[str, Outcome] = field(default_factory=dict)
    events: list[dict[str, Any]] = field(default_factory=list)
    parameters: dict[str, float] = field(default_factory=dict)


def _prefixed(report: Callable[[str, float], None], key: str) -> Callable[[str, float], None]:
    def say(phase: str, share: float) -> None:
        report(f"{key}: {phase}", share)

    return say


def load_project_values(drive: Drive, values: Mapping[str, Entry], *, owner: str) -> dict[str, float]:
    """Send the project's values, store them and restart where that is needed; returns what was sent."""
    identity = drive.identity()
    wanted = drive_values(values, drive_current_peak=identity["current_peak"], rates=drive.capabilities().rates)
    drive.take_control(owner)
    drive.write(wanted)
    if any(REGISTRY[k].restart for k in drive.status()["restart_needed"]):
        drive.store()
        drive.restart()
        drive.take_control(owner)
    return wanted


def run_route(
    drive: Drive,
    axis: AxisModel,
    values: Mapping[str, Entry],
    *,
    report: Callable[[str, float], None],
    start: float | None = None,
) -> RouteResult:
    """Send the values, say where the axis stands if that is known [rad], then run every procedure.

    It stops at the first that refuses.

    Status "proven": all ran, and every verdict says so. "refused": a procedure, or the tuner, declined with a reason.
    "failed": a verdict missed what was asked, and the gains from before are in the drive again; or the link broke.
    """
    result = RouteResult()
    plant = IdentifiedPlant()
    if why := unsupported(axis):
        result.status, result.reason = "refused", why
        return result
    try:
        sent = load_project_values(drive, values, owner="commission")
        if start is not None:
            drive.set_position(start)
        left, returns = in_order(), 0
        while left:
            procedure, *left = left
            key = procedure.key
            if why := procedure.not_for(axis):
                result.status, result.reason = "refused", why
                break
            session = Session(
                drive=drive,
                axis=axis,
                consent=consent_for(key, axis, sent),
                plant=plant,
                report=_prefixed(report, key),
            )
            outcome = procedure.run(session)
            result.outcomes[key] = outcome
            plant = plant.with_part(outcome.plant)
            result.events += [{"kind": "note", "step": key, "text": n} for n in session.notes]
            if outcome.verdict is not None and not outcome.verdict.is_proven:
                back = procedure.again(outcome.verdict.missed) if returns < MOST_RETURNS else ""
                if back:  # it knows better now what that has to bear
                    left, returns = in_order(back), returns + 1
                    continue
                remarks = " ".join(outcome.verdict.remarks)  # what no tuning mends is among them
                result.reason = f"{key}, not proven: {outcome.verdict.reason}. {remarks}".rstrip()
                break
        result.status = result.status if result.status == "refused" else "failed" if result.reason else "proven"
        drive.store()
    except (ProcedureError, CoreError) as refusal:
        result.status, result.reason = "refused", refusal.text
    except LinkError as error:
        result.status, result.reason = "failed", error.text
    else:
        result.parameters = drive.read()
        result.events += drive.events()
        return result
    try:
        result.parameters, events = drive.read(), drive.events()
        result.events += events
    except LinkError as error:
        result.reason += " " + error.text
    return result
