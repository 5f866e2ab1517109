"""What gains would give, on the identified load or, before that, on what was entered."""

import math
from collections.abc import Mapping
from typing import Any

from cadrel.core.control import (
    Gains,
    LoopName,
    Winding,
)
from cadrel.core.parameters import SECTIONS
from cadrel.core.tuning import load_of, predict_loop
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import wanted_values
from cadrel.web.runs.plant import plant_of

SLIDERS: dict[LoopName, tuple[str, ...]] = {
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


# Moved with them, without a slider here: the position gain, and sections that lie below the crossover.
ALONG: dict[LoopName, tuple[str, ...]] = {
    "velocity": ("position.gain", *(f"velocity.section{n}_{key}" for n in SECTIONS for key in ("zero", "pole")))
}


def loop_of(name: str) -> LoopName | None:
    """Return the loop of that name that has gains to set, or None."""
    return next((loop for loop in SLIDERS if loop == name), None)


def predict(axis: Axis, loop: LoopName, changed: Mapping[str, float]) -> dict[str, Any]:
    """Return curves, step and margins of a loop with some gains changed, beside those in the project.

    Raises
    ------
    CoreError
        Entries are missing.
    """
    kept = wanted_values(axis)
    plant = plant_of(axis)
    load, origin = load_of(plant, kept)
    # Loops around the motor meet the winding as small currents do; the current loop itself is shown at a bias.
    winding = Winding.from_drive(kept)
    if loop != "current":
        winding = plant.winding(winding)
    result: dict[str, Any] = {"origin": origin}

    def of(values: Mapping[str, float]) -> dict[str, Any]:
        return predict_loop(loop, load, winding, Gains.from_drive(values, axis.rates), plant)

    result["kept"] = of(kept)
    result["now"] = of({**kept, **changed}) if changed else result["kept"]
    proposal = axis.proposals.filter(step=loop, state="open").first()
    if proposal is not None:
        proposed = {**kept, **{c["key"]: c["after"] for c in proposal.changes}}
        if changed:
            result["proposed"] = of(proposed)
        else:
            result["now"], result["named"] = of(proposed), "proposed"
    return result


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
