"""An ending becomes rows: runs, findings, proposal and the job's state in one transaction."""

import contextlib
import logging

from django.db import transaction

from cadrel.link.heart import Heart
from cadrel.procedures import PROCEDURES
from cadrel.web.changes.outcomes import keep_outcome, keep_unfinished
from cadrel.web.jobs import spool
from cadrel.web.jobs.chain import go_on
from cadrel.web.jobs.models import Job
from cadrel.web.jobs.patience import patiently
from cadrel.web.jobs.running import Ending, Pulse, assignment_of, carry_out

log = logging.getLogger("cadrel.worker")


@transaction.atomic
def record(ending: Ending) -> None:
    """Write an ending; a second time changes nothing. The one who ran it knows best: its word replaces any guess."""
    job = Job.objects.select_for_update().filter(pk=ending.job).first()
    if job is None or job.recorded_end:
        return
    axis = job.axis
    if ending.state == "done" and ending.outcome is not None:
        keep_outcome(
            axis, job.step, ending.outcome, before=ending.before, after=ending.after, who=job.who, notes=ending.notes,
            value_set=ending.value_set, finds=PROCEDURES[job.procedure].finds if job.procedure in PROCEDURES else (),
        )  # fmt: skip
    elif ending.state in ("refused", "interrupted"):
        keep_unfinished(
            axis, job.step, ending.partial, after=ending.before, who=job.who, kind=ending.state, why=ending.parts[0],
            codes=ending.codes,
        )  # fmt: skip
    job.state, job.ended, job.recorded_end = ending.state, ending.ended, True
    job.happened, job.means, job.remedy = ending.parts
    job.notes = ending.notes
    job.summary = ending.outcome.summary[:200] if ending.outcome and ending.state == "done" else ""
    job.save()


def keep(ending: Ending) -> None:
    """See an ending into the database, however long that is away; until then the disk has it."""
    spool.put(ending)
    try:
        patiently(lambda: record(ending))
    except Exception as error:  # not the database's absence: what was recorded is unusable as it is
        log.exception("the ending of job %d cannot be recorded", ending.job)
        spool.set_aside(ending.job)
        parts = (
            "The run ended, but its result could not be kept.",
            "Nothing of it counts.",
            f"The worker's log says why ({type(error).__name__}); what it recorded is kept in the spool folder.",
        )
        patiently(lambda: record(Ending(job=ending.job, state="interrupted", parts=parts)))
    else:
        spool.drop(ending.job)


def run_job(job_id: int) -> None:
    """Claim a queued job, run it, keep its end and queue what follows, in this thread; for tests and for a shell.

    A heart beats for it as for a worker's run: on a busy machine the procedure's own words alone come too late.
    """
    if Job.objects.filter(pk=job_id).claim():
        task = assignment_of(job_id)
        with contextlib.closing(Heart()) as heart, Pulse(job_id) as pulse:
            heart.start()
            ending = carry_out(task, pulse, heart)
        keep(ending)
        go_on(task)
