"""Library records with their history, and which axes use them."""

from typing import Any

from django.conf import settings
from django.db import models
from django.db.models import Q

KINDS = (("motor", "motor"), ("feedback", "feedback device"))


class RecordQuerySet(models.QuerySet["Record"]):
    """Questions about records."""

    def found_by(self, text: str) -> "RecordQuerySet":
        """Those whose name, maker, part number or comment holds every word."""
        found = self
        for word in text.split()[:8]:
            found = found.filter(
                Q(name__icontains=word)
                | Q(maker__icontains=word)
                | Q(part__icontains=word)
                | Q(comment__icontains=word)
            )
        return found


class Record(models.Model):
    """A motor or feedback device; its values stand in its revisions."""

    kind = models.CharField(max_length=10, choices=KINDS)
    name = models.CharField(max_length=120)
    maker = models.CharField(max_length=120, blank=True)
    part = models.CharField(max_length=120, blank=True)
    comment = models.TextField(blank=True, max_length=5000)
    copied_from = models.ForeignKey("self", models.SET_NULL, null=True, blank=True, related_name="copies")

    objects = RecordQuerySet.as_manager()

    class Meta:
        ordering = ["kind", "maker", "name", "pk"]

    def __str__(self) -> str:
        return f"{self.maker} {self.name}".strip()

    def newest(self) -> "Revision":
        """The revision that counts."""
        return self.revisions.order_by("-number")[0]


class Revision(models.Model):
    """The values of a record at a time. Does not change."""

    record = models.ForeignKey(Record, models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    entries: Any = models.JSONField()
    cause = models.CharField(max_length=200)
    author = models.ForeignKey(settings.AUTH_USER_MODEL, models.PROTECT, related_name="+")
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["record", "number"], name="one_number_per_record")]

    def __str__(self) -> str:
        return f"{self.record}, revision {self.number}"

    def save(self, *args: Any, **kwargs: Any) -> None:
        """Only once."""
        if self.pk is not None:
            raise ValueError("a revision is immutable; make a new one")
        super().save(*args, **kwargs)


class Use(models.Model):
    """The revision an axis took its motor or its feedback device from."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, related_name="uses")
    kind = models.CharField(max_length=10, choices=KINDS)
    revision = models.ForeignKey(Revision, models.PROTECT, related_name="uses")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["axis", "kind"], name="one_record_of_a_kind_per_axis")]

    def __str__(self) -> str:
        return f"{self.axis}: {self.revision}"
