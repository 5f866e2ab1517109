"""What was asked of a step against what its runs measured, and whether that still stands."""

import math
from collections.abc import Sequence
from typing import Any, NamedTuple

from cadrel.procedures.phasing.run import TURN_NOT_SEEN_TEXT
from cadrel.web.projects.models import Axis
from cadrel.web.runs.models import Finding, Verdict

ONE_TURN = 0.1  # of a turn, that a mark turned by hand may be off


class Standing(NamedTuple):
    """What a verdict is worth now, and what made it stale.

    "proven"; "waits" for the proposal it came with to be taken; "stale"; "replaced" by a later run's; "missed".
    """

    state: str
    because: str = ""


MISSED = Standing("missed")


def judged_of(axis: Axis, step: str, model: Any) -> list[dict[str, Any]]:
    """Return the newest verdict on each claim of a step, the newest first, with its rows and what it is worth now."""
    newest: dict[str, Verdict] = {}
    for verdict in axis.verdicts.filter(step=step).select_related("run").prefetch_related("findings")[:12]:
        newest.setdefault(verdict.claim, verdict)
    return [
        {
            "verdict": v,
            "standing": _standing(list(v.findings.all())) if v.is_proven else MISSED,
            "rows": [_criterion_row(c, model) for c in v.criteria],
            "remarks": _remarks(axis, v),
        }
        for v in newest.values()
    ]


def _standing(findings: Sequence[Finding]) -> Standing:
    """Of a verdict that was content once: its findings say whether it still counts, and no page does."""
    if any(f.state == "proven" for f in findings):
        return Standing("proven")
    stale = next((f for f in findings if f.state == "stale"), None)
    if stale is not None:
        return Standing("stale", stale.stale_because)
    return Standing("waits") if findings else Standing("replaced")


def _remarks(axis: Axis, verdict: Verdict) -> list[str]:
    """What stands beside a verdict; that one turn was not seen no longer does once it was turned by hand and fits."""
    by_hand = axis.findings.filter(kind="hand_test").exclude(state="stale").first()
    counts = axis.understood.counts_per_rev if by_hand is not None else 0.0
    seen = by_hand is not None and abs(abs(by_hand.value) / counts - 1) <= ONE_TURN
    return [r for r in verdict.remarks if not (seen and r == TURN_NOT_SEEN_TEXT)]


def _newest_verdicts(axis: Axis, step: str) -> list[Verdict]:
    """The newest verdict on each claim of a step, the newest first."""
    newest: dict[str, Verdict] = {}
    for verdict in axis.verdicts.filter(step=step).select_related("run")[:12]:
        newest.setdefault(verdict.claim, verdict)
    return list(newest.values())


def _criterion_row(c: dict[str, Any], model: Any) -> dict[str, Any]:
    """A criterion in the axis's own unit."""
    factor, unit = 1.0, c["unit"]
    if unit == "rad" and model is not None:
        factor, unit = model.mechanism.unit_per_rad, model.mechanism.unit
    found = None if c["found"] is None else factor * c["found"]
    return c | {"asked": factor * c["asked"], "found": found, "unit": unit}


def _told(value: float | None, scale: float, unit: str = "") -> str:
    return "never" if value is None else f"{value * scale:.3g} {unit}".rstrip()


def accepted_move(axis: Axis, run: Any, model: Any) -> dict[str, Any]:
    """Return what the newest acceptance run showed against its goal, and whether that still stands."""
    per, unit = model.mechanism.unit_per_rad, model.mechanism.unit
    rows, twin = [], run.metrics.get("twin", {})
    of_twin = {"Settling time": "settling_time", "Following error": "following_error"}
    for c in run.metrics.get("criteria", []):
        scale, shown = {"s": (1e3, "ms"), "rad": (per, unit)}.get(c["unit"], (1.0, c["unit"]))
        rows.append(
            {
                "what": c["what"],
                "passed": c["passed"],
                "value": _told(c["value"], scale, shown),
                "limit": _told(c["limit"], scale, shown),
                "twin": "" if c["what"] not in of_twin or not twin else _told(twin[of_twin[c["what"]]], scale),
            }
        )
    return {
        "standing": _standing(list(run.findings.all())) if run.metrics.get("accepted") else MISSED,
        "twin": bool(twin),
        "accepted": run.metrics.get("accepted"),
        "rows": rows,
        "run": run,
        "current_peak": run.metrics["current_peak"] / math.sqrt(2),
        "current_rms": run.metrics["current_rms"] / math.sqrt(2),
        "bus": run.metrics["bus_peak"],
        "limited": 100 * max(run.metrics["voltage_limited"], run.metrics["current_limited"]),
    }
