"""What is read from a request, the same way on every page."""

import math

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from django.utils.http import url_has_allowed_host_and_scheme

from cadrel.web.projects.models import Axis
from cadrel.web.rig.errors import NotANumber


def axis_of(axis_id: int) -> Axis:
    """The axis with its drive and leader, or 404."""
    return get_object_or_404(Axis.objects.select_related("drive__project", "leader"), pk=axis_id)


def id_of(request: HttpRequest, name: str) -> int:
    """A posted id; 0, which nothing has, if it is none."""
    raw = request.POST.get(name, "")
    return int(raw) if raw.isascii() and raw.isdecimal() and len(raw) < 10 else 0


def next_of(request: HttpRequest, otherwise: str) -> str:
    """Where to go on: the address the form asks for, if it is one of ours."""
    asked = request.POST.get("next", "")
    inside = asked.startswith("/") and url_has_allowed_host_and_scheme(asked, allowed_hosts=None)
    return asked if inside and len(asked) < 500 and asked.isprintable() else otherwise


def number_of(request: HttpRequest, name: str, otherwise: float, label: str) -> float:
    """Return a posted number. Raises `NotANumber` if it is none, or not finite."""
    raw = request.POST.get(name)
    try:
        value = otherwise if raw is None else float(raw[:40].replace(",", "."))
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise NotANumber(what=label)
    return value


def ticked_at(request: HttpRequest) -> float | None:
    """The drive's time at which the consent was ticked, as the page noted it; None if it noted none. [s]"""
    raw = request.POST.get("ticked_at", "")
    return number_of(request, "ticked_at", 0.0, "The time of the consent") if raw else None


def tab_of(request: HttpRequest) -> str:
    """Name of the browser's tab that asks."""
    return "".join(c for c in request.POST.get("tab", "") if c.isalnum() and c.isascii())[:40]


def notes_key(axis: Axis) -> str:
    """Where a user's noted readings of an axis are kept."""
    return f"phasing-notes-{axis.pk}"
