"""What gains would give, on the identified load or, before that, on what was entered."""

import math
from collections.abc import Mapping
from typing import Any

import numpy as np

from cadrel.core.control import (
    Gains,
    TwoMass,
    Winding,
    feedback_filter,
    loop_responses,
    position_open,
    read_margins,
    spectral_radius,
    step_response,
    velocity_open,
    velocity_plant,
)
from cadrel.core.identification import IdentifiedPlant
from cadrel.procedures.electrical import curve_of
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import wanted_values
from cadrel.web.runs.plant import plant_of

GRIDS = {"current": (10.0, 7000.0), "velocity": (1.0, 1900.0), "position": (0.5, 1900.0)}
STEP_SECONDS = {"current": 0.006, "velocity": 0.12, "position": 0.25}
SLIDERS = {
    "current": ("current.gain", "current.reset_time"),
    "velocity": (
        "velocity.gain",
        "velocity.reset_time",
        "velocity.feedback_filter",
        "velocity.torque_filter",
        "velocity.notch_frequency",
        "velocity.notch_depth",
    ),
    "position": ("position.gain",),
}


def load_of(plant: IdentifiedPlant, values: Mapping[str, float]) -> tuple[TwoMass, str]:
    """Return the load to predict with, and where it comes from."""
    if plant.springy is not None:
        return plant.springy.load, "identified model"
    viscous = plant.total.viscous_total if plant.total is not None else 0.0
    origin = "identified inertia, rigid" if plant.total is not None else "entered inertia, rigid"
    return TwoMass(inertia_motor=values["load.inertia"], viscous=viscous), origin


def predict(axis: Axis, loop: str, changed: Mapping[str, float]) -> dict[str, Any]:
    """Return curves, step and margins of a loop with some gains changed, beside those in the project.

    Raises
    ------
    CoreError
        Entries are missing.
    """
    kept = wanted_values(axis)
    values = {**kept, **changed}
    plant = plant_of(axis)
    load, origin = load_of(plant, kept)
    # Loops around the motor meet the winding as small currents do; the current loop itself is shown at a bias.
    winding = Winding.from_drive(kept)
    if loop != "current":
        winding = plant.winding(winding)
    result: dict[str, Any] = {"origin": origin}
    result["kept"] = _one(loop, load, winding, Gains.from_drive(kept, axis.rates), plant)
    tried = Gains.from_drive(values, axis.rates)
    result["now"] = _one(loop, load, winding, tried, plant) if changed else result["kept"]
    return result


def _one(loop: str, load: TwoMass, winding: Winding, gains: Gains, plant: IdentifiedPlant) -> dict[str, Any]:
    low, high = GRIDS[loop]
    f = np.geomspace(low, high, 330)
    responses = loop_responses(load, winding, gains, f)[loop]
    radius = spectral_radius(loop, load, winding, gains)  # type: ignore[arg-type]
    margins = read_margins(responses.open, f, closed_loop=responses.closed)
    time, y = step_response(loop, load, winding, gains, duration=STEP_SECONDS[loop])
    every = max(1, len(time) // 400)
    stable = radius < 1
    result = {
        "open": curve_of(f, responses.open),
        "closed": curve_of(f, responses.closed),
        "sensitivity": curve_of(f, responses.sensitivity),
        "stable": stable,
        "margins": margins.as_dict(),
        "step": {"t": time[::every].tolist(), "y": np.clip(y, -5, 5)[::every].tolist()},
    }
    if loop != "current":
        result["plant"] = curve_of(f, velocity_plant(load, winding, gains, f))
        _on_measured(loop, gains, plant, result)
    return result


def _on_measured(loop: str, gains: Gains, plant: IdentifiedPlant, result: dict[str, Any]) -> None:
    """The same gains on the measured plant, where one is kept."""
    if plant.springy is None:
        return
    f, value = plant.springy.measured.frequency, plant.springy.measured.value
    opened = velocity_open(value, gains, f) if loop == "velocity" else position_open(value, gains, f)
    result["measured_open"] = curve_of(f, opened)
    # Command to measured value: the filter in the velocity feedback is outside the forward path.
    closed = opened / (1 + opened) / (feedback_filter(gains, f) if loop == "velocity" else 1.0)
    result["measured_closed"] = curve_of(f, closed)
    result["measured_plant"] = curve_of(f, value)
    result["measured_margins"] = read_margins(opened, f).as_dict()


def asked_rows(loop: str, values: Mapping[str, Any], prediction: dict[str, Any]) -> list[dict[str, Any]]:
    """Return the table of predictions against what was asked for."""
    now, kept = prediction["now"]["margins"], prediction["kept"]["margins"]
    asked = {
        "phase_margin_deg": math.degrees(values["phase_margin"]),
        "gain_margin_db": values["gain_margin_db"],
        "sensitivity_peak": values["sensitivity_peak"],
    }
    rows = [
        ("bandwidth_hz", "Bandwidth", "Hz", 0, None),
        ("crossover_hz", "Crossover", "Hz", 0, None),
        ("phase_margin_deg", "Phase margin", "°", 1, 1),
        ("gain_margin_db", "Gain margin", "dB", 1, 1),
        ("sensitivity_peak", "Peak sensitivity", "", 2, -1),
    ]
    table = []
    for key, label, unit, digits, sense in rows:
        a, b = kept[key], now[key]
        wanted = asked.get(key) if loop != "current" else None
        good = None
        if sense and wanted is not None:
            good = b is None or (b - wanted) * sense >= -1e-6
        table.append(
            {
                "label": label,
                "unit": unit,
                "kept": "–" if a is None else f"{a:.{digits}f}",
                "now": "–" if b is None else f"{b:.{digits}f}",
                "good": good,
                "asked": ""
                if wanted is None
                else f"{'≥' if sense == 1 else '≤'} {wanted:.{0 if unit == '°' else 1}f} {unit}",
            }
        )
    return table
