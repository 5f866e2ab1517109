"""The task that runs a procedure in the worker."""

import threading
import time
from typing import Any

from django.db import close_old_connections, connections
from django.utils import timezone
from procrastinate.contrib.django import app

from cadrel.core.errors import CadrelError
from cadrel.link import Drive, LinkError, TcpLink
from cadrel.procedures import PROCEDURES, Aborted, Consent, Session
from cadrel.web.jobs.models import Job
from cadrel.web.runs.actions import keep_outcome, keep_unfinished

BEAT = 1.0  # [s]
PATIENCE = 5.0  # [s] for an answer: a stalled machine is no dead line, and the drive guards itself by its lease


@app.task(queue="procedures")
def run_procedure(*, job_id: int) -> None:
    """Run one job to its end; whatever happens, it ends in a state that says how."""
    close_old_connections()
    job = Job.objects.select_related("axis__drive", "who").get(pk=job_id)
    if job.state != "queued":
        return
    Job.objects.filter(pk=job_id).update(state="running", started=timezone.now(), heartbeat=timezone.now())
    with _Pulse(job_id) as pulse:
        _run(job, pulse)


def _run(job: Job, pulse: "_Pulse") -> None:
    axis, step = job.axis, job.step
    link = TcpLink(axis.drive.host, axis.drive.port, timeout=PATIENCE)
    drive = Drive(link, axis.remote)
    drive.lease = axis.lease
    before: dict[str, float] = {}
    session: Session | None = None
    try:
        session = Session(
            drive=drive,
            axis=axis.understood,
            consent=Consent(**job.consent),
            report=pulse.report,
            is_aborted=lambda: pulse.abort,
            model=dict(axis.model),
        )
        before = drive.read()
        outcome = PROCEDURES[job.procedure](session)
        keep_outcome(
            axis, step, outcome, before=before, after=drive.read(), who=job.who, notes="\n".join(session.notes)
        )
        _end(job, "done", summary=outcome.summary, notes="\n".join(session.notes))
    except LinkError as error:
        _keep(job, step, session, error, before, "interrupted")
        _end(job, "interrupted", error=error)
    except Aborted as error:
        _end(job, "aborted", error=error)
    except CadrelError as error:
        _keep(job, step, session, error, before, "refused")
        _end(job, "refused", error=error, notes="\n".join(session.notes) if session else "")
    except Exception as error:  # the job must not stay "running"; the log keeps the trace
        _end(job, "interrupted", text=f"{type(error).__name__}: {error}")
        raise
    finally:
        link.close()


def _keep(
    job: Job, step: str, session: Session | None, error: CadrelError, values: dict[str, float], kind: str
) -> None:
    """What was recorded until the end came is kept with the reason."""
    keep_unfinished(
        job.axis, step, session.partial if session else None, after=values, who=job.who, kind=kind,
        why=error.parts[0], codes=getattr(error, "codes", ()),
    )  # fmt: skip


def _end(job: Job, state: str, *, error: CadrelError | None = None, text: str = "", **fields: str) -> None:
    parts = error.parts if error else (text, "", "")
    Job.objects.filter(pk=job.pk).update(
        state=state, ended=timezone.now(), happened=parts[0], means=parts[1], remedy=parts[2], **fields
    )


class _Pulse:
    """A thread that says the worker lives and how far it is, and learns whether the engineer aborted.

    The procedure itself never waits for the database: a slow write there would cost it the control lease.
    """

    def __init__(self, job_id: int) -> None:
        self.abort = False
        self._progress: dict[str, Any] = {}
        self._job_id = job_id
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._beat, daemon=True)

    def report(self, phase: str, share: float) -> None:
        """Note phase and share done; they are written at the next beat."""
        self._progress = {"phase": phase[:120], "share": share}

    def __enter__(self) -> "_Pulse":
        self._thread.start()
        return self

    def __exit__(self, *exc: object) -> None:
        self._ended.set()
        self._thread.join(timeout=3)

    def _beat(self) -> None:
        last = 0.0
        while not self._ended.wait(0.15):
            rows = Job.objects.filter(pk=self._job_id)
            self.abort = self.abort or bool(rows.values_list("abort", flat=True).first())
            progress, self._progress = self._progress, {}
            if progress or time.monotonic() - last > BEAT:
                rows.update(heartbeat=timezone.now(), **progress)
                last = time.monotonic()
        connections.close_all()
