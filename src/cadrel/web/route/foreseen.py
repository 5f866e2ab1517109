"""The planned move on the twin, for the page: figures against the goal, room, and the plot."""

import math
from typing import Any

import numpy as np

from cadrel.core.axis import AxisModel
from cadrel.core.errors import CadrelError
from cadrel.core.motion import move_profile
from cadrel.core.twin import Twin
from cadrel.procedures.foreseen import WIDEST_ROOM, Foreseen, Room, foresee, room_of
from cadrel.procedures.real_move import gentlest_limits
from cadrel.web.projects.models import Axis
from cadrel.web.runs.plant import plant_of
from cadrel.web.runs.plots import twin_plot

NO_TWIN = "Identify the load first: the twin is made of what runs have found."


def foreseen_context(axis: Axis, model: AxisModel, wanted: dict[str, float]) -> dict[str, Any]:
    """Return what the acceptance page shows of the twin: rows, room, plot; or why there is none, as `lacks`."""
    plant = plant_of(axis)
    if plant.total is None:
        return {"lacks": NO_TWIN}
    try:
        limits = gentlest_limits(model.goal, wanted)
        twin = Twin.of_identified(model, wanted, plant, axis.rates)
        foreseen = foresee(twin, move_profile(model.goal.distance, **limits), model.goal)
    except CadrelError as error:
        return {"lacks": error.text}
    room = room_of(twin, model.goal.distance, limits, model.goal)
    return {
        "rows": _rows(foreseen, model, wanted),
        "room": _room(room),
        "plot": twin_plot(foreseen.record, axis),
        "one_mass": plant.springy is None,
    }


def _rows(foreseen: Foreseen, model: AxisModel, wanted: dict[str, float]) -> list[dict[str, Any]]:
    goal, per, unit = model.goal, model.mechanism.unit_per_rad, model.mechanism.unit
    rated = model.motor.current_continuous
    return [
        _row("Settling time", foreseen.settling, goal.settling_time, factor=1e3, unit="ms"),
        _row("The load settles after", foreseen.load_settling, None, factor=1e3, unit="ms"),
        _row("Following error", foreseen.following_error, goal.following_error, factor=per, unit=unit),
        _row("Peak current", foreseen.current_peak, wanted["limit.current"], factor=1 / math.sqrt(2), unit="A rms"),
        _row("Effective current", foreseen.current_rms, rated, factor=1 / math.sqrt(2), unit="A rms"),
        _row("Time in a limit", foreseen.limited, None, factor=100.0, unit="%"),
    ]


def _row(what: str, value: float | None, limit: float | None, *, factor: float, unit: str) -> dict[str, Any]:
    return {
        "what": what,
        "value": "never" if value is None else f"{value * factor:.3g} {unit}",
        "limit": "" if limit is None else f"{limit * factor:.3g} {unit}",
        "good": None if limit is None else value is not None and value <= limit * (1 + 1e-9),
    }


def _room(room: Room) -> str:
    if room.inertia is None or room.quicker is None:
        return "With these gains it would not meet the goal: measure and tune the loops first, or ask for less."
    return (
        f"With the gains as they are it would still meet the goal with {_times(room.inertia)} the inertia, or with the "
        f"move {_times(room.quicker)} as fast, if the limits allowed it."
    )


def _times(factor: float) -> str:
    return (
        f"more than {WIDEST_ROOM:g} times" if factor > 0.97 * WIDEST_ROOM else f"{np.floor(factor * 10) / 10:.1f} times"
    )
