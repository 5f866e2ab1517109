"""Each axis at a glance: what it does now, who leads it, what is wrong or stale, what comes next."""

from dataclasses import dataclass
from typing import Any

from cadrel.web.projects.models import Axis, Project
from cadrel.web.rig.links import try_status
from cadrel.web.rig.strip import STATES
from cadrel.web.route.sheets import WAITS, route_of

ATTENTION = ("missed", "stale")  # states of a step that ask for a look


@dataclass(frozen=True, slots=True)
class AxisRow:
    """One axis, as the projects page lists it. `urgent`: 0 moves or is enabled, 1 asks for a look, 2 rests."""

    axis: Axis
    route: list[dict[str, Any]]
    now: str
    lamp: str
    leader: str
    asks: list[dict[str, Any]]
    next_step: dict[str, Any] | None
    urgent: int


def overview_of(axis: Axis) -> AxisRow:
    """Return an axis's row; its drive is asked how it stands."""
    route = route_of(axis, "")
    now, lamp = _now(axis)
    asks = [s for s in route if s["state"] in ATTENTION or s["line"] == WAITS]
    coming = next((s for s in route if s in asks or (s["state"] == "open" and s["key"] != "handover")), None)
    leader = axis.leader.get_username() if axis.leader is not None and axis.lease else ""
    urgent = 0 if lamp in ("moving", "on", "fault") else 1 if asks else 2
    return AxisRow(axis, route, now, lamp, leader, asks, coming, urgent)


def _now(axis: Axis) -> tuple[str, str]:
    if not axis.connected:
        return "not connected", "none"
    status, problem = try_status(axis)
    if status is None:
        return ("no contact" if problem else "not connected"), "fault" if problem else "none"
    if status["fault"]:
        return f"fault: {status['fault'].replace('_', ' ')}", "fault"
    if status["moving"]:
        return "moves", "moving"
    text, lamp = STATES[status["mode"]]
    return text.lower(), lamp


@dataclass(frozen=True, slots=True)
class ProjectRow:
    """A project with its axes, what asks for attention first."""

    project: Project
    axes: list[AxisRow]
    laid_aside: int

    @property
    def urgent(self) -> int:
        """That of its most urgent axis."""
        return min((a.urgent for a in self.axes), default=3)


def projects_with_axes(*, archived: bool) -> list[ProjectRow]:
    """Return every project, laid aside or not, those that ask for attention first."""
    rows = []
    for project in Project.objects.filter(archived=archived).prefetch_related("drives"):
        axes = Axis.objects.filter(drive__project=project).select_related("drive", "leader")
        held = [a for a in axes if archived or not a.archived]
        made = sorted((overview_of(a) for a in held), key=lambda r: (r.urgent, r.axis.pk))
        rows.append(ProjectRow(project, made, len(axes) - len(held)))
    return sorted(rows, key=lambda r: (r.urgent, r.project.name.lower()))
