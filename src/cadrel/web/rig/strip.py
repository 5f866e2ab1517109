"""The rig strip as plain values, in the engineer's units; the page and the event stream both use it."""

import math
from collections.abc import Mapping
from typing import Any

from cadrel.core.axis import AxisModel
from cadrel.core.errors import CadrelError
from cadrel.core.feedback import signal_quality
from cadrel.core.mechanics import mechanism_from_entries
from cadrel.core.parameters import REGISTRY, choice_of
from cadrel.web.projects.models import Axis
from cadrel.web.rig.actions import owner_name, try_status

STATES = {
    "off": ("Power stage off", "off"),
    "vector": ("Enabled, vector", "on"),
    "current": ("Enabled, current", "on"),
    "velocity": ("Enabled, velocity", "on"),
    "position": ("Enabled, holding", "on"),
}


def strip_of(axis: Axis, *, user_id: int | None, purpose: str = "page") -> dict[str, Any]:
    """Return what the strip shows: link, control, power stage, blockers, live values."""
    unit, scale = unit_of(axis)
    status, error = try_status(axis, renew_for=user_id, purpose=purpose)
    lead = (
        "you have control"
        if axis.leader_id == user_id and axis.lease
        else (f"{axis.leader.get_username()} has control" if axis.leader_id and axis.lease else "nobody has control")
    )
    if status is None:
        text = "Not connected" if error is None else "No contact"
        return {
            "link": "none" if error is None else "lost",
            "state": text,
            "lamp": "none",
            "control": lead,
            "why": error.text if error else "Connect in the Drive step.",
            "blockers": [],
            "unit": unit,
            "not_stored": [],
            "position": None,
            "velocity": None,
            "current": None,
            "bus": None,
            "moving": False,
            "leads": False,
            "mode": "off",
            "restart_needed": [],
            "switches": {},
        }
    text, lamp = STATES[status["mode"]]
    if status["mode"] == "position" and status["moving"]:
        text = "Enabled, moving"
    if status["fault"]:
        text, lamp = f"Fault: {status['fault'].replace('_', ' ')}", "fault"
    owner = status["owner"]
    held = bool(axis.lease) and axis.leader is not None and owner == owner_name(axis.leader)
    return {
        "link": "up",
        "state": text,
        "lamp": "moving" if status["moving"] else lamp,
        "mode": status["mode"],
        "control": lead if held or owner is None else f"{owner} has control",
        "leads": held and axis.leader_id == user_id,
        "why": "",
        "blockers": status["blockers"],
        "unit": unit,
        "position": status["position"] * scale,
        "velocity": status["velocity"] * scale,
        "current": status["current"] / math.sqrt(2),
        "bus": status["v_bus"],
        "not_stored": [REGISTRY[k].label for k in status["not_stored"]],
        "restart_needed": [REGISTRY[k].label for k in status["restart_needed"]],
        "moving": status["moving"],
        "switches": status["switches"],
        "angle_quality": status["angle_quality"],
        "hall": status["hall"],
        "counts": status["counts"],
        "vector_deg": math.degrees(status["vector_angle"]) % 360 if status["mode"] == "vector" else None,
        "shaft_deg": math.degrees(status["shaft_angle"]) % 360,
        "signals": status["signals"],
        "words": status["words"],
        "word_errors": status["word_errors"],
        "latency_us": 1e6 * status["latency"],
        "levels": "".join(str(level) for level in status["levels"]),
        "signal": _signal_quality(axis, status),
        "index_counts": status["index_counts"] if status["index_seen"] else None,
        "index": "seen" if status["index_seen"] else "not yet",
    }


def _signal_quality(axis: Axis, status: Mapping[str, Any]) -> str:
    """Good, usable or bad, as far as one look can tell."""
    signals, has_halls = status["signals"], choice_of(axis.values, "feedback.halls") == "1"
    kind = choice_of(axis.values, "feedback.kind")
    found = signal_quality(
        hall=status["hall"] if has_halls or kind == "halls" else None,
        hall_spacing=int(choice_of(axis.values, "feedback.hall_spacing")),
        circle=(signals["u"], signals["v"]) if signals else None,
        words=(status["word_errors"], status["words"]) if kind == "serial" else None,
    )
    return str(found)


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
