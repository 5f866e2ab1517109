"""The identified plant of an axis, from the parts that are in force."""

from typing import Any

from cadrel.core.identification import (
    ChainLoad,
    HeldLoad,
    IdentifiedPlant,
    PlantPart,
    RubbedLoad,
    SpringyLoad,
    TotalLoad,
    Unrest,
)
from cadrel.web.projects.models import Axis
from cadrel.web.runs import models

PARTS: dict[type[PlantPart], str] = {
    TotalLoad: "total", SpringyLoad: "springy", HeldLoad: "held", RubbedLoad: "rubbed", ChainLoad: "chain",
    Unrest: "unrest",
}  # fmt: skip


def plant_of(axis: Axis) -> IdentifiedPlant:
    """Return what was identified last and nothing has retired; nothing at all while the load finding is stale."""
    if axis.findings.filter(step="load", state="stale").exists():
        return IdentifiedPlant()
    return IdentifiedPlant.from_dict({p.part: p.values for p in axis.plant_parts.in_force()})


def keep_part(axis: Axis, part: PlantPart, *, run: models.Run, values: Any) -> None:
    """Keep a part found anew; it retires the one before, and a total load what was found on another one."""
    name = PARTS[type(part)]
    replaced = ("total", "springy", "rubbed", "chain", "unrest") if isinstance(part, TotalLoad) else (name,)
    gone = axis.plant_parts.in_force().filter(part__in=replaced)
    gone.update(retired_because=f"found anew by {run}")
    models.PlantPart.objects.create(axis=axis, part=name, values=part.as_dict(), run=run, value_set=values)
