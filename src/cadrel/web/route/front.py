"""Robust against quick, for an axis: the family of gains around those kept, in the units its page shows."""

from collections.abc import Mapping, Sequence
from typing import Any

from cadrel.core.control import Gains, Winding
from cadrel.core.errors import UnusableInput
from cadrel.core.parameters import REGISTRY
from cadrel.core.quantities import from_si, units_of
from cadrel.core.tuning import FrontPoint, front_of, moves_with_quickness
from cadrel.web.projects.models import Axis
from cadrel.web.projects.understanding import model_or_none
from cadrel.web.rig.actions import wanted_values
from cadrel.web.route.predict import SLIDERS
from cadrel.web.runs.plant import plant_of

DIGITS = 5  # as the sliders show


def front_of_axis(axis: Axis) -> dict[str, Any]:
    """Return the points of the family, each with its gains by key in their printed unit, and what is asked for.

    Raises
    ------
    UnusableInput
        Nothing is identified yet.
    """
    model, plant = model_or_none(axis), plant_of(axis)
    if model is None or plant.springy is None:
        raise UnusableInput(what="The plant is not measured yet.", remedy="Run the velocity loop's measurement first.")
    values = wanted_values(axis)
    gains = Gains.from_drive(values, axis.rates)
    working = Winding.from_drive(values)
    asked = plant.asked(model.robustness)
    continuous = model.motor.torque_constant * min(model.motor.current_continuous, values["limit.current"])
    points = front_of(
        plant.springy.load, [plant.winding(working), working], gains, asked, measured=plant.springy.measured,
        noise=plant.springy.noise, continuous=continuous,
    )  # fmt: skip
    moved = _moved_of(gains, values)
    return {
        "points": [{**p.as_dict(), "gains": _gains_of(p, moved)} for p in points],
        "asked": {
            "sensitivity_peak": asked.sensitivity_peak, "phase_margin": asked.phase_margin,
            "gain_margin_db": asked.gain_margin_db, "ripple": asked.ripple,
        },
    }  # fmt: skip


def along_of(axis: Axis, values: Mapping[str, float]) -> list[str]:
    """Return the keys that move with the sliders of the velocity page and have none there."""
    return [k for k in _moved_of(Gains.from_drive(values, axis.rates), values) if k not in SLIDERS["velocity"]]


def _moved_of(gains: Gains, values: Mapping[str, float]) -> list[str]:
    """Return what a point moves, by key. A section typed behind an empty one stands at another number: it stays."""
    kept = gains.to_drive()
    return [k for k in moves_with_quickness(gains) if kept[k] == values[k]]


def _gains_of(point: FrontPoint, moved: Sequence[str]) -> dict[str, float]:
    """What the point puts into the sliders, by key."""
    shown = {}
    for key in moved:
        p = REGISTRY[key]
        si = from_si(point.changes[key], quantity=p.quantity, unit=p.unit or units_of(p.quantity)[0])
        shown[key] = float(f"{si:.{DIGITS}g}")
    return shown
