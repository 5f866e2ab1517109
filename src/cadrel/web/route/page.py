"""What every page of an axis shows around its sheet."""

from typing import Any

from django.http import HttpRequest

from cadrel.core.parameters import STEPS
from cadrel.web.projects.models import Axis
from cadrel.web.rig.settling import job_of
from cadrel.web.rig.strip import strip_of
from cadrel.web.route.sheets import route_of

SAVED = "saved-draft"  # the name of the form that was kept last: what the browser held of it for the case of loss goes
KEYS = [s.key for s in STEPS]


def following(step: str) -> str:
    """The step after one."""
    return KEYS[min(KEYS.index(step) + 1, len(KEYS) - 1)]


def last_refusal(axis: Axis) -> dict[str, Any] | None:
    """The newest refusal, as long as no later run of the same step has come through; None without one."""
    refused = axis.events.filter(kind="refused").order_by("-pk").first()
    if refused is None:
        return None
    step, _, why = refused.text.partition(" was refused. ")
    if axis.events.filter(kind="run", pk__gt=refused.pk, text__startswith=f"{step}:").exists():
        return None
    title = next((s.title for s in STEPS if s.key == step), step)
    return {"step": step if step in KEYS else "handover", "title": title, "why": why, "when": refused.created}


def page_of(request: HttpRequest, axis: Axis, step: str) -> dict[str, Any]:
    """Context every axis page shares: strip, route, shelf."""
    at = KEYS.index(step) if step in KEYS else 0
    shelf = list(axis.runs.light()[:8])
    return {
        "axis": axis,
        "step": step,
        "title": next((s.title for s in STEPS if s.key == step), ""),
        "strip": strip_of(axis, user_id=request.user.pk),
        "route": route_of(axis, step),
        "shelf": shelf,
        "run_count": shelf[0].number if shelf else 0,
        "active": job_of(axis),
        # On every page until another is kept: one that is left before its scripts run says it to nobody.
        "saved_draft": request.session.get(SAVED, ""),
        "refusal": last_refusal(axis),
        "next_step": KEYS[min(at + 1, len(KEYS) - 1)],
        "previous_step": KEYS[max(at - 1, 0)],
    }
