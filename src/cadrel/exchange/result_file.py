"""RESULT.json: what headless commissioning gave."""

from collections.abc import Mapping
from typing import Any

from cadrel.core.identification import SpringyLoad
from cadrel.procedures.outcome import Outcome

IDENTIFIED = {"commutation": "commutation_offset", "load": "inertia", "flux": "flux_linkage"}


def result_document(
    *,
    status: str,
    reason: str,
    outcomes: Mapping[str, Outcome],
    parameters: Mapping[str, float],
    events: list[dict[str, Any]],
    drive_time: float,
    compute_time: float,
) -> dict[str, Any]:
    """Return the document: identified values by their own names, SI, per phase."""
    identified: dict[str, dict[str, Any]] = {}
    margins: dict[str, Any] = {}
    acceptance: dict[str, Any] = {}
    verdicts = {step: o.verdict.as_dict() for step, o in outcomes.items() if o.verdict is not None}
    for outcome in outcomes.values():
        for f in outcome.findings:
            identified[IDENTIFIED.get(f.kind, f.kind)] = {"value": f.value, "unit": f.unit, "std": f.std}
        for loop, found in outcome.margins.items():
            margins[loop] = found
        acceptance = outcome.acceptance or acceptance
        if isinstance(outcome.plant, SpringyLoad):
            for key in ("inertia_motor", "inertia_load", "stiffness", "damping", "viscous_load"):
                value = getattr(outcome.plant.load, key)
                if value is not None:
                    identified[f"model_{key}"] = {"value": value, "unit": "SI", "std": None}
    for derived in ("acceptance", "velocity_loop", "velocity_margin", "velocity_peak", "position_loop", "current_loop"):
        identified.pop(derived, None)
    return {
        "format": "cadrel-result",
        "version": 2,
        "status": status,
        "reason": reason,
        "identified": identified,
        "parameters": dict(parameters),
        "margins": margins,
        "verdicts": verdicts,
        "acceptance": acceptance,
        "cost": {"drive_time_s": round(drive_time, 3), "compute_time_s": round(compute_time, 3)},
        "events": events,
    }
