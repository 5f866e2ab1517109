"""A procedure on its way through the worker."""

from datetime import timedelta
from typing import Any

from django.conf import settings
from django.db import models
from django.utils import timezone

from cadrel.core.parameters import STEPS
from cadrel.procedures import PROCEDURES

SILENT = timedelta(seconds=4)  # of a run in the database, before the drive is asked what it knows
NEVER_TAKEN = timedelta(seconds=10)  # a worker takes what is queued within a moment, on a busy machine a little later
NO_WORKER = timedelta(seconds=5)  # without a sign of life in the database


def step_of(procedure: str) -> str:
    """Return the step a procedure belongs to; its own name if there is no such procedure any more."""
    declared = PROCEDURES.get(procedure)
    return declared.step if declared else procedure


class JobQuerySet(models.QuerySet["Job"]):
    """Questions about jobs."""

    def active(self) -> "JobQuerySet":
        """Waiting or running."""
        return self.filter(state__in=("queued", "running"))

    def silent(self) -> "JobQuerySet":
        """Running, and not heard of in the database for a while: the drive knows what became of it."""
        return self.filter(state="running", heartbeat__lt=timezone.now() - SILENT)

    def never_taken(self) -> "JobQuerySet":
        """Queued for so long that no worker will take it."""
        return self.filter(state="queued", created__lt=timezone.now() - NEVER_TAKEN)

    def claim(self) -> bool:
        """Take a queued one for running; whether there was one."""
        now = timezone.now()
        return bool(self.filter(state="queued").update(state="running", started=now, heartbeat=now))


class Job(models.Model):
    """One start of a procedure. `state`: queued, running, done, refused, interrupted, aborted."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, related_name="jobs")
    procedure = models.CharField(max_length=20)
    state = models.CharField(max_length=12, default="queued")
    phase = models.CharField(max_length=120, blank=True)
    share = models.FloatField(default=0.0)
    consent: Any = models.JSONField(default=dict)
    arguments: Any = models.JSONField(default=dict)
    chain: Any = models.JSONField(default=list, help_text="procedures that follow under the same consent, in order")
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
    recorded_end = models.BooleanField(default=False, help_text="the one who ran it has written how it ended")

    doubt = ""  # what is not known about it just now; never stored

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
        """The step's title, or what a procedure beside it is called."""
        titles = {s.key: s.title for s in STEPS} | {"power_up": "The search for the angle"}
        return titles.get(self.procedure, self.procedure.replace("_", " ").capitalize())

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


class WorkerSign(models.Model):
    """When a worker was last heard, by the database's clock."""

    name = models.CharField(max_length=40, unique=True)
    heard = models.DateTimeField()

    def __str__(self) -> str:
        return f"{self.name}, heard {self.heard}"

    @classmethod
    def is_there(cls) -> bool:
        """Whether a worker was heard just now."""
        return cls.objects.filter(heard__gt=timezone.now() - NO_WORKER).exists()
