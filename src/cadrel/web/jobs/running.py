"""The run of a job: everything it needs is read beforehand, and its end is one value; no database in between."""

import contextlib
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.conf import settings
from django.db import connection
from django.utils import timezone

from cadrel.core.axis import AxisModel
from cadrel.core.errors import CadrelError
from cadrel.core.identification import IdentifiedPlant
from cadrel.link import LinkDown, LinkedDrive, LinkError, TcpLink
from cadrel.link.heart import Heart, Patient
from cadrel.procedures import PROCEDURES, Aborted, Consent, Outcome, RunRecord, Session, StoppedByHand
from cadrel.web.jobs.models import Job
from cadrel.web.jobs.patience import AWAY
from cadrel.web.runs.plant import plant_of

BEAT = 1.0  # [s] between two signs of life in the database
PATIENCE = 5.0  # [s] for an answer: a stalled machine is no dead line, and the drive guards itself by its lease


@dataclass(frozen=True, slots=True, kw_only=True)
class Assignment:
    """What a run needs to know, read from the database before it begins."""

    job: int
    procedure: str
    step: str
    host: str
    port: int
    remote: str
    lease: str
    consent: dict[str, Any]
    arguments: dict[str, float]
    axis: AxisModel
    plant: IdentifiedPlant
    value_set: int
    chained: bool = False  # others follow, or went before, under the same consent


@dataclass(slots=True, kw_only=True)
class Ending:
    """How a run ended, and all of it that is to be kept. What the disk keeps while the database is away."""

    job: int
    state: str
    parts: tuple[str, str, str] = ("", "", "")
    ended: datetime = field(default_factory=timezone.now)
    value_set: int | None = None
    outcome: Outcome | None = None
    partial: RunRecord | None = None
    before: dict[str, float] = field(default_factory=dict)
    after: dict[str, float] = field(default_factory=dict)
    notes: str = ""
    codes: tuple[str, ...] = ()


def assignment_of(job_id: int) -> Assignment:
    """Return what a job's run needs. Reads the database; raises `CoreError` while entries are missing or wrong."""
    job = Job.objects.select_related("axis__drive").get(pk=job_id)
    axis, values = job.axis, job.axis.latest_set()
    assert values is not None
    return Assignment(
        job=job.pk, procedure=job.procedure, step=job.step, host=axis.drive.host, port=axis.drive.port,
        remote=axis.remote, lease=axis.lease, consent=dict(job.consent), arguments=dict(job.arguments),
        axis=axis.understood, plant=plant_of(axis),
        value_set=values.pk, chained="most_travel" in job.consent,
    )  # fmt: skip


class SpokenLink(TcpLink):
    """A link that tells the heart whenever the procedure has spoken to its drive."""

    def __init__(self, host: str, port: int, *, spoke: Callable[[], None]) -> None:
        super().__init__(host, port, timeout=PATIENCE, secret=settings.LINK_SECRET)
        self._spoke = spoke

    def call(self, method: str, params: dict[str, Any]) -> Any:
        """As the link's own."""
        result = super().call(method, params)
        self._spoke()
        return result


def carry_out(task: Assignment, pulse: "Pulse", heart: Heart | None = None) -> Ending:
    """Run a procedure to its end, whatever that is. Never raises: the ending says what happened."""
    run = str(task.job)
    token = str(task.consent.get("token", ""))
    patient = Patient(
        host=task.host, port=task.port, secret=settings.LINK_SECRET, axis=task.remote, lease=task.lease, consent=token
    )
    link = SpokenLink(task.host, task.port, spoke=lambda: heart.spoke(run) if heart else None)
    drive = LinkedDrive(link, task.remote)
    drive.lease, drive.consent = task.lease, token
    ending = Ending(job=task.job, state="interrupted", value_set=task.value_set)
    session = Session(
        drive=drive,
        axis=task.axis,
        consent=Consent(travel=task.consent["travel"], speed=task.consent["speed"]),
        arguments=task.arguments,
        report=pulse.report,
        is_aborted=lambda: pulse.abort,
        plant=task.plant,
    )
    out_of_contact = False
    if heart:
        heart.begin(run, patient)
    try:
        ending.before = drive.read()
        ending.outcome = PROCEDURES[task.procedure].run(session)
        ending.after = drive.read()
        ending.state = "done"
    except (Aborted, StoppedByHand) as error:
        ending.state, ending.parts = "aborted", error.parts
    except LinkError as error:
        ending.state, ending.parts, ending.outcome = "interrupted", error.parts, None
        out_of_contact = isinstance(error, LinkDown)
    except CadrelError as error:
        ending.state, ending.parts = "refused", error.parts
        ending.codes = tuple(getattr(error, "codes", ()))
    except Exception:
        # The job must not stay "running", and a page shows no trace: the worker's log has it.
        ending.parts = (
            "Cadrel failed during the run.",
            "Nothing of it counts; the axis was stopped.",
            "The worker's log says where. Start it again; if it fails again, report it with that log.",
        )
        _log_failure(task)
    finally:
        ending.ended = timezone.now()
        ending.notes = "\n".join(session.notes)
        if ending.state != "done":
            ending.partial = session.partial
        if heart:
            heart.end(run)
        if not out_of_contact and not (task.chained and ending.state == "done"):
            with contextlib.suppress(LinkError):
                drive.revoke_consent(str(task.consent.get("label", "")), "the run ended")
        link.close()
    return ending


def _log_failure(task: Assignment) -> None:
    import logging

    logging.getLogger("cadrel.worker").exception("%s of job %d failed", task.procedure, task.job)


class Pulse:
    """A thread that writes how far a run is, and learns whether the engineer aborted it.

    The run itself never waits for the database. A lost connection is made anew; what was not written meanwhile is
    written then.
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

    def __enter__(self) -> "Pulse":
        self._thread.start()
        return self

    def __exit__(self, *exc: object) -> None:
        self._ended.set()
        self._thread.join(timeout=3)

    def _beat(self) -> None:
        last, pause = 0.0, 0.15
        while not self._ended.wait(pause):
            progress = self._progress
            try:
                rows = Job.objects.filter(pk=self._job_id)
                self.abort = self.abort or bool(rows.values_list("abort", flat=True).first())
                if progress or time.monotonic() - last > BEAT:
                    rows.filter(state="running").update(heartbeat=timezone.now(), **progress)
                    last = time.monotonic()
            except AWAY:
                connection.close()
                pause = min(2 * pause, 1.0)
                continue
            pause = 0.15
            if self._progress is progress:
                self._progress = {}
        connection.close()
