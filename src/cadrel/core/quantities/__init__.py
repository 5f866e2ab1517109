"""Printed units and conventions, and the SI floats understood from them.

    units.py        printed unit -> quantity and factor; start reading here
    printed.py      a cell as printed -> number, unit, convention
    conventions.py  line-to-line, rms, poles ... -> factor to per-phase peak SI

A `Measure` is a value as printed: number, unit, convention. Nothing here knows a parameter.
"""

from cadrel.core.quantities.conventions import CONVENTIONS, Convention, convention_factor
from cadrel.core.quantities.printed import Printed, UnreadableCell, read_printed
from cadrel.core.quantities.units import UNITS, Unit, UnknownUnit, from_si, to_si, unit_of, units_of

__all__ = [
    "CONVENTIONS",
    "UNITS",
    "Convention",
    "Printed",
    "Unit",
    "UnknownUnit",
    "UnreadableCell",
    "convention_factor",
    "from_si",
    "read_printed",
    "to_si",
    "unit_of",
    "units_of",
]
