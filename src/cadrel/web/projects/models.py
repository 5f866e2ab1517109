"""Project -> Drive -> Axis, and the numbered value sets of an axis."""

from typing import Any

from django.conf import settings
from django.db import models
from django.utils.functional import cached_property

from cadrel.core.axis import AxisModel, understand
from cadrel.core.control import Rates
from cadrel.core.parameters import Entry


class Project(models.Model):
    """A machine, for someone."""

    name = models.CharField(max_length=120)
    machine = models.CharField(max_length=200, blank=True)
    notes = models.TextField(blank=True, max_length=5000)
    archived = models.BooleanField(default=False)
    created = models.DateTimeField(auto_now_add=True)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, models.PROTECT, related_name="+")

    class Meta:
        ordering = ["name"]

    def __str__(self) -> str:
        return self.name


class Drive(models.Model):
    """A drive and where it is reached."""

    project = models.ForeignKey(Project, models.CASCADE, related_name="drives")
    name = models.CharField(max_length=120)
    host = models.CharField(max_length=100, default="127.0.0.1")
    port = models.PositiveIntegerField()
    notes = models.TextField(blank=True, max_length=5000)

    class Meta:
        ordering = ["pk"]

    def __str__(self) -> str:
        return self.name


class AxisQuerySet(models.QuerySet["Axis"]):
    """Questions about axes."""

    def with_newest_number(self) -> "AxisQuerySet":
        """Each with the number of its newest value set, in the same query."""
        return self.annotate(_newest_number=models.Max("value_sets__number"))


class Axis(models.Model):
    """One axis: what moves, under which name the drive knows it, and who leads it from here."""

    drive = models.ForeignKey(Drive, models.CASCADE, related_name="axes")
    name = models.CharField(max_length=120)
    remote = models.CharField(max_length=60, help_text="name of the axis in the drive")
    notes = models.TextField(blank=True, max_length=5000)
    archived = models.BooleanField(default=False)
    connected = models.BooleanField(default=False)
    lease = models.CharField(max_length=64, blank=True)
    leader = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, blank=True, related_name="+")
    _latest: "ValueSet | None" = None
    _newest_number: int | None
    objects = AxisQuerySet.as_manager()
    rating_peak = models.FloatField(null=True, blank=True, help_text="drive's peak current [A peak]")
    current_period = models.FloatField(null=True, blank=True, help_text="drive's current-loop tick [s]")
    velocity_period = models.FloatField(null=True, blank=True, help_text="drive's velocity sample [s]")

    class Meta:
        ordering = ["pk"]
        verbose_name_plural = "axes"

    def __str__(self) -> str:
        return self.name

    @property
    def rates(self) -> Rates:
        """Of the drive's loops, as it told when it was connected; assumed before."""
        if self.current_period and self.velocity_period:
            return Rates(current=self.current_period, velocity=self.velocity_period)
        return Rates()

    @property
    def newest_number(self) -> int:
        """Number of the newest value set; 0 without any."""
        if hasattr(self, "_newest_number"):
            return self._newest_number or 0
        latest = self.latest_set()
        return latest.number if latest else 0

    @property
    def values(self) -> dict[str, Entry]:
        """Entries in force in the project."""
        latest = self.latest_set()
        return dict(latest.entries) if latest else {}

    @property
    def understood(self) -> AxisModel:
        """The axis as its entries describe it. Raises `CoreError` while entries are missing or wrong."""
        latest = self.latest_set()
        return latest.understood if latest else understand({})

    def latest_set(self) -> "ValueSet | None":
        """The newest value set; read once and kept until `refresh_from_db`, since a page asks for it many times."""
        if self._latest is None:
            self._latest = self.value_sets.order_by("-number").first()
        return self._latest

    def refresh_from_db(self, *args: Any, **kwargs: Any) -> None:
        """As Django's, and the newest value set is read anew."""
        self._latest = None
        super().refresh_from_db(*args, **kwargs)


class ValueSet(models.Model):
    """An immutable, numbered snapshot of an axis's entries."""

    axis = models.ForeignKey(Axis, models.CASCADE, related_name="value_sets")
    number = models.PositiveIntegerField()
    entries: Any = models.JSONField()
    cause = models.CharField(max_length=200)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, models.PROTECT, related_name="+")
    parent = models.ForeignKey("self", models.SET_NULL, null=True, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["axis", "number"], name="one_number_per_axis")]

    def __str__(self) -> str:
        return f"{self.axis} values {self.number}"

    @cached_property
    def understood(self) -> AxisModel:
        """The axis these entries describe; worked out once. Raises `CoreError` while entries are missing or wrong."""
        return understand(self.entries)

    def save(self, *args: Any, **kwargs: Any) -> None:
        """Only once: a set that runs refer to does not change."""
        if self.pk is not None:
            raise ValueError("a value set is immutable; make a new one")
        super().save(*args, **kwargs)
