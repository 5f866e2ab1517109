"""The rig strip as plain values, in the engineer's units; the page and the event stream both use it."""

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from cadrel.core.feedback import signal_quality
from cadrel.core.parameters import DEVICE_KINDS, choice_of, full_label
from cadrel.web.projects.models import Axis
from cadrel.web.projects.understanding import unit_of
from cadrel.web.rig.links import owned_by, try_status

STATES = {
    "off": ("Power stage off", "off"),
    "vector": ("Enabled, vector", "on"),
    "current": ("Enabled, current", "on"),
    "velocity": ("Enabled, velocity", "on"),
    "position": ("Enabled, holding", "on"),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class AxisFacts:
    """What of an axis's rows the strip needs, as plain values."""

    pk: int
    name: str
    host: str
    port: int
    remote: str
    connected: bool
    lease: str
    leader_id: int | None
    leader_name: str
    newest_set: int
    unit: str
    per_rad: float  # units per motor radian
    feedback_kind: str
    has_halls: bool
    hall_spacing: int

    @property
    def address(self) -> tuple[str, int]:
        """Where the drive is."""
        return (self.host, self.port)


class Contact(NamedTuple):
    """One look at a drive: its status, or what was wrong with the line, and when that was by the monotonic clock."""

    status: Mapping[str, Any] | None
    problem: str | None
    at: float


def facts_of(axis: Axis, *, known: AxisFacts | None = None) -> AxisFacts:
    """Return the facts of an axis; what is worked out of its entries is taken from `known` if they are the same."""
    number = axis.newest_number
    if known is not None and known.newest_set == number:
        derived: dict[str, Any] = {
            k: getattr(known, k) for k in ("unit", "per_rad", "feedback_kind", "has_halls", "hall_spacing")
        }
    else:
        unit, per_rad = unit_of(axis)
        values = axis.values
        derived = {
            "unit": unit, "per_rad": per_rad, "feedback_kind": choice_of(values, "feedback.kind"),
            "has_halls": choice_of(values, "feedback.halls") == "1",
            "hall_spacing": int(choice_of(values, "feedback.hall_spacing")),
        }  # fmt: skip
    return AxisFacts(
        pk=axis.pk, name=axis.name, host=axis.drive.host, port=axis.drive.port, remote=axis.remote,
        connected=axis.connected, lease=axis.lease, leader_id=axis.leader_id,
        leader_name=axis.leader.get_username() if axis.leader else "", newest_set=number, **derived,
    )  # fmt: skip


def strip_of(axis: Axis, *, user_id: int | None, purpose: str = "page") -> dict[str, Any]:
    """Return what the strip shows: link, control, power stage, blockers, live values."""
    status, error = try_status(axis, purpose=purpose)
    return strip_from(facts_of(axis), Contact(status, error.text if error else None, 0.0), user_id=user_id)


def strip_from(facts: AxisFacts, contact: Contact, *, user_id: int | None) -> dict[str, Any]:
    """Return the strip of one look at a drive, for a user."""
    unit, scale, status = facts.unit, facts.per_rad, contact.status
    lead = (
        "you have control"
        if facts.lease and facts.leader_id == user_id
        else (f"{facts.leader_name} has control" if facts.leader_id and facts.lease else "nobody has control")
    )
    if status is None:
        waiting = facts.connected and contact.problem is None
        text = "Not connected" if not facts.connected else "Looking for the drive" if waiting else "No contact"
        return {
            "link": "none" if contact.problem is None else "lost",
            "state": text,
            "lamp": "none",
            "control": lead,
            "why": contact.problem or "Connect in the Drive step.",
            "blockers": [],
            "unit": unit,
            "not_stored": [],
            "position": None,
            "velocity": None,
            "current": None,
            "bus": None,
            "moving": False,
            "other": "",
            "leads": False,
            "storable": False,
            "mode": "off",
            "restart_needed": [],
            "switches": {},
            "time": None,
            "last_stop": None,
            "swung": None,
            "run": None,
        }
    text, lamp = STATES[status["mode"]]
    if status["mode"] == "position" and status["moving"]:
        text = "Enabled, moving"
    if status["fault"]:
        text, lamp = f"Fault: {status['fault'].replace('_', ' ')}", "fault"
    owner = status["owner"]
    held = bool(facts.lease) and owner == owned_by(facts.leader_name)
    return {
        "link": "up",
        "state": text,
        "lamp": "moving" if status["moving"] else lamp,
        "mode": status["mode"],
        "control": lead if held or owner is None else f"{owner} has control",
        "other": "" if held or owner is None else str(owner),
        "leads": held and facts.leader_id == user_id,
        "storable": held and facts.leader_id == user_id and bool(status["not_stored"]),
        "why": "",
        "blockers": status["blockers"],
        "unit": unit,
        "position": status["place"] * scale,  # what the position loop compares
        "velocity": status["velocity"] * scale,
        "current": status["current"] / math.sqrt(2),
        "bus": status["v_bus"],
        "not_stored": [full_label(k) for k in status["not_stored"]],
        "restart_needed": [full_label(k) for k in status["restart_needed"]],
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
        "brake": status["brake"],
        "resistor_hot": status["resistor_hot"],
        "signal": _signal_quality(facts, status),
        "index_counts": status["index_counts"] if status["index_seen"] else None,
        "index": "seen" if status["index_seen"] else "not yet",
        "time": status["time"],
        "last_stop": status["last_stop"],
        "swung": {"hz": status["swung_hz"], "time": status["swung_at"]} if status.get("swings") else None,
        "run": status["consent"],
    }


def _signal_quality(facts: AxisFacts, status: Mapping[str, Any]) -> str:
    """Good, usable or bad, as far as one look can tell."""
    signals, kind = status["signals"], DEVICE_KINDS[facts.feedback_kind]
    found = signal_quality(
        hall=status["hall"] if facts.has_halls or kind.tells_sectors_only else None,
        hall_spacing=facts.hall_spacing,
        circle=(signals["u"], signals["v"]) if signals else None,
        words=(status["word_errors"], status["words"]) if kind.has_words else None,
    )
    return str(found)
