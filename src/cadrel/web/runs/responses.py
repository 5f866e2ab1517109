"""The measured frequency responses of a run, as other programs may have them."""

from typing import Any

import numpy as np

from cadrel.exchange import NamedResponse
from cadrel.web.runs.models import Run

RATIO = "1"
# Curves that procedures keep: which, as what, in which unit; a unit of None is told by the run itself.
KEPT = (
    ("measured_open", "{loop} loop, open", RATIO),
    ("measured", "{loop} loop, closed", RATIO),
    ("plant_measured", "what is controlled", None),
)
OF_A_RESPONSE = (("plant", "what is controlled", None), ("open", "open", RATIO), ("closed", "closed", RATIO))
PLANT_UNIT = "rad/s per N·m"  # where a run does not say otherwise


def measured_responses(run: Run) -> list[NamedResponse]:
    """Return every frequency response that was measured in a run; empty where none was. SI at the motor shaft."""
    curves = run.curves
    loop = str(curves.get("loop", "")).capitalize()
    plant_unit = str(curves.get("plant_db", "")).removeprefix("dB (").removesuffix(")") or PLANT_UNIT
    found = [
        _named(curves[key], name.format(loop=loop).strip(), unit or plant_unit)
        for key, name, unit in KEPT
        if curves.get(key)
    ]
    for measured in curves.get("responses", ()):
        found += [
            _named(measured[key], f"{loop} loop, {name}, {measured['label']}", unit or plant_unit)
            for key, name, unit in OF_A_RESPONSE
        ]
    return found


def _named(curve: dict[str, Any], name: str, unit: str) -> NamedResponse:
    value = 10 ** (np.array(curve["db"]) / 20) * np.exp(1j * np.radians(curve["deg"]))
    coherence = curve.get("coherence")
    return NamedResponse(
        name=name, unit=unit, frequency=np.array(curve["f"], dtype=float), value=value,
        coherence=None if coherence is None else np.array(coherence, dtype=float),
    )  # fmt: skip
