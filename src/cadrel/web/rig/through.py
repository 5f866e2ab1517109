"""In one go: everything that remains between data and accepted move, under one consent."""

from typing import Any

from cadrel.procedures import Procedure
from cadrel.procedures.declaration import in_order
from cadrel.web.jobs.models import Job
from cadrel.web.projects.models import Axis
from cadrel.web.rig import actions
from cadrel.web.rig.errors import NotReady
from cadrel.web.rig.links import drive_of, owned_by


def remaining(first: str) -> list[Procedure]:
    """Return the procedures of the unattended route from one on. Raises `NotReady` for one that is not among them."""
    if first not in [p.key for p in in_order()]:
        raise NotReady(what="There is no such step to begin with.", remedy="Choose one of those listed.")
    return in_order(first)


def start(
    axis: Axis, first: str, *, who: Any, consented: bool, ticked: float | None, unattended: bool, here: float | None
) -> Job:
    """Connect, take control, send what the project holds, and queue all that remains from a step on.

    Control is taken where nobody has it; from another it is not. `here` is where the axis stands, in its unit, if that
    is to be said.

    Raises
    ------
    WebRefused, LinkError
        Before anything moves, with what is in the way.
    """
    every = remaining(first)
    if not consented:
        raise NotReady(what="Motion was not consented to.", remedy="Read what will move, then tick the consent.")
    if not axis.connected:
        actions.connect(axis, who=who)
    # A drive that was without supply has forgotten who led it.
    led = axis.lease and axis.leader_id == who.pk and drive_of(axis).status()["owner"] == owned_by(who.get_username())
    if not led:
        actions.take_control(axis, who=who)
    axis.refresh_from_db()
    actions.send_values(axis, who=who)
    if drive_of(axis).status()["restart_needed"]:
        actions.store(axis, who=who)
        actions.restart(axis, who=who)
        axis.refresh_from_db()
    if here is not None:
        actions.set_position(axis, who=who, user_value=here)
    for procedure in every:
        if why := procedure.not_for(axis.understood):
            raise NotReady(what=why, remedy="Enter, check and keep it here; commission it with a drive that can.")
    return actions.queue_job(
        axis, first, who=who, consented=consented, ticked=ticked, unattended=unattended,
        followed_by=[p.key for p in every[1:]],
    )  # fmt: skip


def jobs_of_last(axis: Axis) -> list[Job]:
    """Return the jobs of the newest chain, in the order they ran; none if there was none."""
    last = axis.jobs.filter(consent__has_key="most_travel").order_by("-pk").first()
    if last is None:
        return []
    return list(axis.jobs.filter(consent__label=last.consent["label"]).order_by("pk"))
