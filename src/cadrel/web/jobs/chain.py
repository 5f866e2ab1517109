"""Several procedures under one consent: what follows a job that came through, or why nothing does.

A job of a chain that is done and proven has its proposal taken into the project; the next job is queued under the same
consent. One whose procedure knows what helps where it missed sends the chain back there, once. Anything else ends the
chain there, with the reason that its last job has: nothing is lost, and it can be gone on from that step.
"""

import contextlib
import logging
from typing import Any

from django.conf import settings
from django.db import transaction

from cadrel.core.axis import drive_values
from cadrel.core.errors import CadrelError
from cadrel.link import LinkedDrive, LinkError, TcpLink
from cadrel.procedures import PROCEDURES
from cadrel.procedures.declaration import MOST_RETURNS, in_order
from cadrel.web.changes.outcomes import take_proposal
from cadrel.web.jobs.models import Job
from cadrel.web.jobs.patience import patiently
from cadrel.web.jobs.queue import tell_worker
from cadrel.web.jobs.running import PATIENCE, Assignment
from cadrel.web.projects.models import Axis
from cadrel.web.runs.models import Event, Verdict

log = logging.getLogger("cadrel.worker")


def go_on(task: Assignment) -> None:
    """Take what a proven job proposes and queue the next of its chain, or end the consent. Never raises."""
    if not task.chained:
        return
    link = TcpLink(task.host, task.port, timeout=PATIENCE, secret=settings.LINK_SECRET)
    drive = LinkedDrive(link, task.remote)
    drive.lease = task.lease
    label = str(task.consent.get("label", ""))
    try:
        why = patiently(lambda: _next(task.job, drive))
        if why:
            drive.revoke_consent(label, why)
    except Exception as error:
        if not isinstance(error, CadrelError):
            log.exception("the chain of job %d was left behind", task.job)
        _told(task.job, error)
        with contextlib.suppress(LinkError):
            drive.revoke_consent(label, "the chain of runs could not go on")
    finally:
        link.close()


def _told(job_id: int, error: Exception) -> None:
    """Let the job say why nothing follows it."""
    parts = error.parts if isinstance(error, CadrelError) else ("Cadrel failed between two steps.", "", "See its log.")
    with contextlib.suppress(Exception):
        Job.objects.filter(pk=job_id).update(happened=parts[0], means="The next step was not begun.", remedy=parts[2])


def _next(job_id: int, drive: LinkedDrive) -> str:
    """Queue what follows; returns why nothing does, empty if something does."""
    with transaction.atomic():
        job = Job.objects.select_for_update().select_related("axis__drive", "who").get(pk=job_id)
        if job.state != "done" or job.abort:
            return f"{job.title} was {job.state}"
        if job.axis.jobs.active().exists():
            return ""  # it was queued, and only the answer was lost
        verdict = job.axis.verdicts.filter(step=job.step, created__gte=job.started).order_by("-pk").first()
        if verdict is not None and not verdict.is_proven:
            return "" if _sent_back(job, verdict) else f"{job.title} is not proven"
        _take(job, drive)
        if job.chain:
            following(job)
            return ""
    drive.store()
    Event.objects.create(axis=job.axis, who=job.who, kind="stored", text="In one go to the end; stored in the drive.")
    return "all of it came through"


def _sent_back(job: Job, verdict: Verdict) -> bool:
    """Queue again what a procedure begins at by what it missed, if any and not more often than a route may."""
    missed = [row["what"] for row in verdict.criteria if not row["passed"]]
    back = PROCEDURES[job.procedure].again(missed)
    returns = int(job.consent.get("went_back", 0))
    if not back or returns >= MOST_RETURNS:
        return False
    job.consent, job.chain = {**job.consent, "went_back": returns + 1}, [p.key for p in in_order(back)]
    job.save(update_fields=["consent", "chain"])
    begun = following(job)
    text = f"{job.title} missed {', '.join(missed)}: once more from {begun.title} on, which bears it now."
    Event.objects.create(axis=job.axis, who=job.who, kind="went_back", text=text[:400])
    return True


def _take(job: Job, drive: LinkedDrive) -> None:
    """Take what the job proposes; what the project then holds and the drive does not yet is sent."""
    for proposal in job.axis.proposals.filter(step=job.step, state="open"):
        take_proposal(proposal, [c["key"] for c in proposal.changes], who=job.who)
    axis = Axis.objects.select_related("drive").get(pk=job.axis_id)
    wanted = drive_values(axis.values, drive_current_peak=axis.rating_peak, rates=axis.rates, axis=axis.understood)
    drive.write(wanted)


def following(job: Job) -> Job:
    """Make the next job of a chain, under the consent of the one before."""
    first, *rest = job.chain
    declared = PROCEDURES[first]
    axis = Axis.objects.select_related("drive").get(pk=job.axis_id)
    wanted = drive_values(axis.values, drive_current_peak=axis.rating_peak, rates=axis.rates, axis=axis.understood)
    asked = declared.consent(axis.understood, wanted)
    agreed: dict[str, Any] = {
        **job.consent,
        "travel": min(asked.travel, job.consent["most_travel"]),
        "speed": min(asked.speed, job.consent["most_speed"]),
    }
    made = Job.objects.create(axis=axis, procedure=first, who=job.who, consent=agreed, chain=rest)
    tell_worker(made)
    return made
