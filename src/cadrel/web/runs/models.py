"""Runs, findings, proposals and events: the evidence."""

import zlib
from typing import Any

import numpy as np
from django.conf import settings
from django.db import models
from numpy.typing import NDArray

from cadrel.core.response import folded, with_injected_position

HEAVY = ("data", "curves", "drive_values", "metrics")  # what a list of runs has no use for


class RunQuerySet(models.QuerySet["Run"]):
    """Questions about runs."""

    def light(self) -> "RunQuerySet":
        """Without what only an opened run shows."""
        return self.defer(*HEAVY)

    def to_draw(self, step: str) -> list["Run"]:
        """Return, of a step's eight newest, the newest two of each kind, whole and newest first."""
        kinds: dict[str, list[int]] = {}
        for pk, kind in self.filter(step=step).order_by("-number").values_list("pk", "kind")[:8]:
            kinds.setdefault(kind, []).append(pk)
        return list(self.filter(pk__in=[pk for found in kinds.values() for pk in found[:2]]).order_by("-number"))


class FindingQuerySet(models.QuerySet["Finding"]):
    """Questions about findings."""

    def with_run(self) -> "FindingQuerySet":
        """With the run each rests on, without its recording."""
        return self.select_related("run").defer(*(f"run__{name}" for name in HEAVY))


class Run(models.Model):
    """A recording with what was excited, what was read from it, and the values in force."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, related_name="runs")
    number = models.PositiveIntegerField()
    kind = models.CharField(max_length=40)
    step = models.CharField(max_length=20)
    title = models.CharField(max_length=120)
    value_set = models.ForeignKey("projects.ValueSet", models.PROTECT, related_name="runs")
    drive_values: Any = models.JSONField()
    period = models.FloatField()
    channels: Any = models.JSONField()
    data = models.BinaryField()
    excitation: Any = models.JSONField(default=dict)
    metrics: Any = models.JSONField(default=dict)
    curves: Any = models.JSONField(default=dict)
    changed: Any = models.JSONField(default=list, help_text="labels of what changed since the run before")
    notes = models.TextField(blank=True)
    thumbnail = models.TextField(blank=True, help_text="points of the miniature plot")
    pinned = models.BooleanField(default=False)
    who = models.ForeignKey(settings.AUTH_USER_MODEL, models.PROTECT, related_name="+")
    created = models.DateTimeField(auto_now_add=True)

    objects = RunQuerySet.as_manager()

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["axis", "number"], name="one_run_number_per_axis")]

    def __str__(self) -> str:
        return f"run {self.number}"

    def arrays(self) -> dict[str, NDArray[np.float32]]:
        """Channels as arrays."""
        if not self.channels:
            return {}
        flat = np.frombuffer(zlib.decompress(bytes(self.data)), dtype="<f4")
        return dict(zip(self.channels, flat.reshape(len(self.channels), -1), strict=True))

    def shown(self) -> dict[str, NDArray[np.floating[Any]]]:
        """Channels as a step's plot shows them: the mean over repeats, worked out anew from what was recorded."""
        arrays: dict[str, NDArray[np.floating[Any]]] = dict(self.arrays())
        repeat = self.excitation.get("repeat", 0)
        if not arrays or not repeat or not self.kind.endswith("_step"):
            return arrays
        mean = folded(arrays, int(repeat))
        return dict(with_injected_position(mean)) if self.excitation.get("point") == "position" else dict(mean)

    @staticmethod
    def packed(channels: dict[str, NDArray[np.float64]]) -> bytes:
        """Return channels as compressed float32, channel after channel."""
        if not channels:
            return b""
        return zlib.compress(np.stack(list(channels.values())).astype("<f4").tobytes(), 1)


class Verdict(models.Model):
    """What was asked of a step against what its run measured; `core.verdict` worked out its state."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, related_name="verdicts")
    step = models.CharField(max_length=20)
    claim = models.CharField(max_length=40)
    run = models.ForeignKey(Run, models.CASCADE, related_name="verdicts")
    value_set = models.ForeignKey("projects.ValueSet", models.PROTECT, related_name="+")
    state = models.CharField(max_length=12)
    reason = models.TextField(blank=True)
    criteria: Any = models.JSONField()
    remarks: Any = models.JSONField(default=list)  # sentences that stand beside it and decide nothing
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{self.claim}: {self.state}"

    @property
    def is_proven(self) -> bool:
        """Whether everything asked for was measured."""
        return self.state == "proven"


class PlantPartQuerySet(models.QuerySet["PlantPart"]):
    """Questions about what was found of a plant."""

    def in_force(self) -> "PlantPartQuerySet":
        """What nothing has retired yet."""
        return self.filter(retired_because="")


class PlantPart(models.Model):
    """A part of an axis's identified plant, with the run that shows it and the values it was found at."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, related_name="plant_parts")
    part = models.CharField(
        max_length=10,
        help_text="total, springy, held, rubbed, chain or unrest, of `core.identification.IdentifiedPlant`",
    )
    values: Any = models.JSONField(help_text="as its `as_dict` gives it")
    run = models.ForeignKey(Run, models.CASCADE, related_name="plant_parts")
    value_set = models.ForeignKey("projects.ValueSet", models.PROTECT, related_name="+")
    retired_because = models.CharField(max_length=100, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    objects = PlantPartQuerySet.as_manager()

    class Meta:
        ordering = ["-pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["axis", "part"], condition=models.Q(retired_because=""), name="one_plant_part_in_force"
            )
        ]

    def __str__(self) -> str:
        return f"{self.part} load of {self.run}"


class Finding(models.Model):
    """A claim with its value, the run that shows it, its verdict if it has one, and its state."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, related_name="findings")
    step = models.CharField(max_length=20)
    kind = models.CharField(max_length=40)
    label = models.CharField(max_length=120)
    value = models.FloatField()
    unit = models.CharField(max_length=20)
    std = models.FloatField(null=True)
    run = models.ForeignKey(Run, models.CASCADE, related_name="findings")
    verdict = models.ForeignKey(Verdict, models.SET_NULL, null=True, related_name="findings")
    value_set = models.ForeignKey("projects.ValueSet", models.PROTECT, related_name="+")
    state = models.CharField(max_length=12)
    stale_because = models.CharField(max_length=200, blank=True)
    summary = models.CharField(max_length=120, blank=True)
    created = models.DateTimeField(auto_now_add=True)

    objects = FindingQuerySet.as_manager()

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"{self.label}: {self.value:g} {self.unit}"


class Proposal(models.Model):
    """Changes a procedure made in the drive, for the engineer to take or refuse."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, related_name="proposals")
    step = models.CharField(max_length=20)
    changes: Any = models.JSONField(help_text="[{key, before, after}], drive values")
    reason = models.CharField(max_length=300, blank=True)
    first_run = models.PositiveIntegerField(null=True, help_text="number of the first run it came with")
    state = models.CharField(max_length=10, default="open")
    who = models.ForeignKey(settings.AUTH_USER_MODEL, models.PROTECT, related_name="+")
    created = models.DateTimeField(auto_now_add=True)
    decided = models.DateTimeField(null=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return f"proposal for {self.step}: {self.state}"


class Event(models.Model):
    """Who did what, when; and what the drive reported."""

    axis = models.ForeignKey("projects.Axis", models.CASCADE, null=True, related_name="events")
    who = models.ForeignKey(settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="+")
    kind = models.CharField(max_length=40)
    text = models.CharField(max_length=400)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]

    def __str__(self) -> str:
        return self.text
