"""An axis's values as far as they can be understood."""

import math

from cadrel.core.axis import AxisModel
from cadrel.core.errors import CadrelError
from cadrel.core.mechanics import mechanism_from_entries
from cadrel.web.projects.models import Axis


def unit_of(axis: Axis) -> tuple[str, float]:
    """Return the axis's unit and units per motor radian; motor revolutions while mechanics is not entered."""
    try:
        mechanism = mechanism_from_entries(axis.values)
    except CadrelError:
        return "rev", 1 / (2 * math.pi)
    return mechanism.unit, mechanism.unit_per_rad


def model_or_none(axis: Axis) -> AxisModel | None:
    """Return the axis as understood, or None while entries are missing or wrong."""
    try:
        return axis.understood
    except CadrelError:
        return None
