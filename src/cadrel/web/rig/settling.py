"""What became of a run nobody has been heard of: the drive is asked; silence alone proves nothing."""

import contextlib
from typing import Any

from django.utils import timezone

from cadrel.link import LinkError
from cadrel.web.jobs import spool
from cadrel.web.jobs.models import Job
from cadrel.web.projects.models import Axis
from cadrel.web.rig.links import drive_of

VOICELESS = 3.0  # [s] of drive time without a sign of life from the run, after which it is taken back


def job_of(axis: Axis) -> Job | None:
    """Return the axis's active job, settled if nothing has been heard of it; its `doubt` says what is not known."""
    job = axis.jobs.active().first()
    if job is None:
        return None
    if axis.jobs.never_taken().filter(pk=job.pk).exists():
        return _never_taken(axis, job)
    if axis.jobs.silent().filter(pk=job.pk).exists():
        return _silent(axis, job)
    return job


def _never_taken(axis: Axis, job: Job) -> Job | None:
    ended = _end(
        job, "queued",
        happened="No worker took the run.",
        means="Nothing moved, and the consent has ended.",
        remedy="The supervisor starts a lost worker again; look at the axis, consent and start once more.",
    )  # fmt: skip
    if ended:
        _revoke(axis, job, "no worker took the run")
    return None if ended else axis.jobs.active().first()


def _silent(axis: Axis, job: Job) -> Job | None:
    if spool.holds(job.pk):
        job.doubt = "It has ended; its result waits to be written into the database."
        return job
    drive = drive_of(axis, "page")
    try:
        drive.lease = ""
        status = drive.status()
    except LinkError as error:
        job.doubt = f"Not known: neither its worker nor the drive answers. {error.parts[0]}"
        return job
    run = status["consent"]
    if run is not None and run["label"] == job.consent.get("label") and run["silent"] < VOICELESS:
        job.doubt = "It goes on, says the drive; its worker does not reach the database just now."
        return job
    _revoke(axis, job, "the worker of the run was not heard of")
    ended = _end(
        job, "running",
        happened="The worker was lost during the run.",
        means=f"The drive says: {stands(status)} The run does not count.",
        remedy="Look at the axis, then start it again.",
    )  # fmt: skip
    return None if ended else axis.jobs.active().first()


def stands(status: dict[str, Any]) -> str:
    """How an axis is, in a sentence, from what its drive says."""
    if status["fault"]:
        return f"fault, {status['fault'].replace('_', ' ')}; power stage off."
    if status["mode"] == "off":
        return "power stage off."
    return f"enabled in {status['mode']} mode, {'moving' if status['moving'] else 'standing'}."


def _revoke(axis: Axis, job: Job, why: str) -> None:
    drive = drive_of(axis, "page")
    with contextlib.suppress(LinkError):  # without contact, or led by another by now: it ends by itself after 20 s
        drive.revoke_consent(str(job.consent.get("label", "")), why)


def _end(job: Job, state: str, **parts: str) -> bool:
    """End a job that is still in that state; whether it was."""
    rows = Job.objects.filter(pk=job.pk, state=state, recorded_end=False)
    return bool(rows.update(state="interrupted", ended=timezone.now(), **parts))
