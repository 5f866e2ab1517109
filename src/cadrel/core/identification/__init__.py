"""Recorded runs -> physical values with their standard deviation.

estimated.py    Estimated: value, std; the result of everything here
alignment.py    held vectors -> direction, pole pairs, offset, Hall map
electrical.py   resistance from the slope, inductance from the admittance, flux from spinning
load.py         inertia, friction, gravity from back-and-forth runs
two_mass.py     measured velocity plant -> two-mass model
"""

from cadrel.core.identification.alignment import (
    HallMap,
    OffsetResult,
    electrical_turns,
    learn_halls,
    offset_from_alignment,
)
from cadrel.core.identification.electrical import (
    angle_error_from_spinning,
    fit_admittance,
    flux_from_spinning,
    resistance_from_levels,
)
from cadrel.core.identification.estimated import Estimated
from cadrel.core.identification.load import LoadEstimate, fit_load
from cadrel.core.identification.two_mass import PlantFit, fit_two_mass

__all__ = [
    "Estimated",
    "HallMap",
    "LoadEstimate",
    "OffsetResult",
    "PlantFit",
    "angle_error_from_spinning",
    "electrical_turns",
    "fit_admittance",
    "fit_load",
    "fit_two_mass",
    "flux_from_spinning",
    "learn_halls",
    "offset_from_alignment",
    "resistance_from_levels",
]
