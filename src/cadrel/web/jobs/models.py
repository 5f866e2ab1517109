"""A procedure on its way through the worker."""

from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import models
from django.utils import timezone

from cadrel.core.parameters import STEPS

SILENT = timedelta(seconds=6)  # a worker not heard for so long is gone
NEVER_STARTED = timedelta(seconds=20)


STEP_OF = {"power_up": "commutation"}  # where a procedure belongs that is no step of its own


def step_of(procedure: str) -> str:
    """Return the step a procedure belongs to."""
    return STEP_OF.get(procedure, procedure)


class JobQuerySet(models.QuerySet["Job"]):
    """Questions about jobs."""

    def active(self) -> "JobQuerySet":
        """Waiting or running."""
        return self.filter(state__in=("queued", "running"))

    def close_lost(self) -> int:
        """End as "interrupted" what a dead worker left behind; nothing runs for ever."""
        text = {
            "happened": "The worker ended during the run.",
            "means": "The drive stopped the axis by itself; the run does not count.",
            "remedy": "Start it again.",
        }
        return self.lost().update(state="interrupted", ended=timezone.now(), **text)

    def lost(self) -> "JobQuerySet":
        """What no worker has been heard of for too long."""
        now = timezone.now()
        return self.filter(state="running", heartbeat__lt=now - SILENT) | self.filter(
            state="queued", created__lt=now - NEVER_STARTED
        )

    def current(self) -> "Job | None":
        """The active one, unless nothing was heard of it for too long: then it is ended."""
        job = self.active().first()
        if job is not None and self.lost().filter(pk=job.pk).exists():
            self.close_lost()
            return None
        return job


class Job(models.Model):
    """One start of a procedure. `state`: queued, running, done, refused, interrupted, aborted."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, related_name="jobs")
    procedure = models.CharField(max_length=20)
    state = models.CharField(max_length=12, default="queued")
    phase = models.CharField(max_length=120, blank=True)
    share = models.FloatField(default=0.0)
    consent: Any = models.JSONField(default=dict)
    abort = models.BooleanField(default=False)
    happened = models.TextField(blank=True)
    means = models.TextField(blank=True)
    remedy = models.TextField(blank=True)
    notes = models.TextField(blank=True)
    summary = models.CharField(max_length=200, blank=True)
    who = models.ForeignKey(settings.AUTH_USER_MODEL, models.PROTECT, related_name="+")
    created = models.DateTimeField(auto_now_add=True)
    started = models.DateTimeField(null=True)
    ended = models.DateTimeField(null=True)
    heartbeat = models.DateTimeField(null=True)

    objects = JobQuerySet.as_manager()

    class Meta:
        ordering = ["-pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["axis"], condition=models.Q(state__in=("queued", "running")), name="one_job_at_a_time"
            )
        ]

    def __str__(self) -> str:
        return f"{self.procedure}: {self.state}"

    @property
    def title(self) -> str:
        """The step's title."""
        titles = {s.key: s.title for s in STEPS} | {"power_up": "The search for the angle"}
        return titles.get(self.procedure, self.procedure)

    @property
    def step(self) -> str:
        """The step it belongs to."""
        return step_of(self.procedure)

    @property
    def recorded(self) -> int | None:
        """Number of the run that a refused or interrupted one left behind."""
        if self.state not in ("refused", "interrupted") or self.started is None:
            return None
        left = self.axis.runs.filter(kind=self.state, created__gte=self.started).order_by("-number")
        return left.values_list("number", flat=True).first()

    @property
    def is_active(self) -> bool:
        """Waiting or running."""
        return self.state in ("queued", "running")
