"""Pages of the library."""

import json
from typing import Any

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from cadrel.core.errors import CadrelError
from cadrel.exchange import RecordFile, motor_csv, read_motor_csv, read_record, record_document
from cadrel.web.accounts.roles import engineer_required
from cadrel.web.library import actions
from cadrel.web.library.models import Record
from cadrel.web.notices import refuse, say
from cadrel.web.pages.requests import axis_of, id_of
from cadrel.web.projects.models import Axis
from cadrel.web.route.arrival import comparison
from cadrel.web.route.entries import form_of
from cadrel.web.route.facts import understood_of
from cadrel.web.route.page import page_of

LARGEST = 2_000_001


def library(request: HttpRequest) -> HttpResponse:
    """All records, or those a search finds; with `axis`, to take one into it."""
    search = request.GET.get("q", "").strip()[:200]
    kind = request.GET.get("kind", "")
    records = Record.objects.found_by(search).prefetch_related("revisions__uses__axis")
    if kind in ("motor", "feedback"):
        records = records.filter(kind=kind)
    target = _target(request)
    context: dict[str, Any] = {
        "records": [_row(r) for r in records[:200]],
        "search": search,
        "kind": kind,
        "target": target,
        "title": "Library",
    }
    part = request.headers.get("HX-Request") and not request.headers.get("HX-History-Restore-Request")
    return render(request, "library/_records.html" if part else "library/list.html", context)


def _target(request: HttpRequest) -> Axis | None:
    number = request.GET.get("axis", "")
    return axis_of(int(number)) if number.isascii() and number.isdecimal() and len(number) < 9 else None


def _row(record: Record) -> dict[str, Any]:
    revisions = list(record.revisions.all())
    axes = {u.axis.name for r in revisions for u in r.uses.all()}
    return {"record": record, "revision": revisions[0], "axes": sorted(axes)}


def record(request: HttpRequest, record_id: int) -> HttpResponse:
    """One record: its values, what was understood, its history, who uses it."""
    found = get_object_or_404(Record, pk=record_id)
    revisions = list(found.revisions.select_related("author"))
    number = request.GET.get("revision", "")
    shown = next((r for r in revisions if str(r.number) == number), revisions[0])
    uses = [u for r in found.revisions.prefetch_related("uses__axis__drive__project") for u in r.uses.all()]
    context = {
        "record": found,
        "revisions": revisions,
        "shown": shown,
        "changed": _changed(revisions, shown),
        "fields": [
            f for f in form_of(found.kind, shown.entries, {}, values=shown.entries) if f.value and f.source != "default"
        ],
        "facts": understood_of(found.kind, shown.entries),
        "uses": [{"use": u, "altered": actions.is_altered(u)} for u in uses],
        "target": _target(request),
        "title": str(found),
    }
    return render(request, "library/record.html", context)


def _changed(revisions: list[Any], shown: Any) -> set[str]:
    before = next((r for r in revisions if r.number == shown.number - 1), None)
    if before is None:
        return set()
    keys = set(before.entries) | set(shown.entries)
    return {k for k in keys if before.entries.get(k) != shown.entries.get(k)}


def _of(found: Record) -> RecordFile:
    return RecordFile(
        kind=found.kind,
        name=found.name,
        maker=found.maker,
        part=found.part,
        comment=found.comment,
        values=found.newest().entries,
    )


def export(request: HttpRequest, record_id: int, form: str) -> HttpResponse:
    """A record as an open file: JSON, or two columns for a motor."""
    found = get_object_or_404(Record, pk=record_id)
    if form == "csv" and found.kind == "motor":
        text, mime = motor_csv(_of(found)), "text/csv"
    elif form == "json":
        text, mime = json.dumps(record_document(_of(found)), indent=1, ensure_ascii=False) + "\n", "application/json"
    else:
        raise Http404
    response = HttpResponse(text, content_type=f"{mime}; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="{found.kind}-{found.pk}.{form}"'
    return response


@require_POST
@engineer_required
def load(request: HttpRequest) -> HttpResponse:
    """Add a record from a file, all of it or nothing."""
    upload = request.FILES.get("file")
    if upload is None:
        refuse(request, "Choose a file first.")
        return redirect("library")
    name = upload.name or "file"
    try:
        read = read_motor_csv if name.lower().endswith((".csv", ".tsv", ".txt")) else read_record
        made = actions.add_record(
            read(upload.read(LARGEST), name=name), author=request.user, cause=f"loaded from {name}"[:200]
        )
    except CadrelError as problem:
        refuse(request, problem)
        return redirect("library")
    say(request, f"{made} was added.")
    return redirect("record", record_id=made.pk)


@require_POST
@engineer_required
def copy(request: HttpRequest, record_id: int) -> HttpResponse:
    """A copy of one's own."""
    made = actions.copy_record(get_object_or_404(Record, pk=record_id), author=request.user)
    say(request, f"{made} was added.")
    return redirect("record", record_id=made.pk)


@require_POST
@engineer_required
def take(request: HttpRequest, record_id: int) -> HttpResponse:
    """Put a record into an axis: first a comparison, then all of it."""
    found = get_object_or_404(Record, pk=record_id)
    axis = axis_of(id_of(request, "axis"))
    if request.POST.get("sure") != "1":
        context = page_of(request, axis, found.kind) | {
            "comparison": comparison(axis, str(found), found.newest().entries, actions.keys_of(found.kind)),
            "action": reverse("take_record", args=[found.pk]),
            "back": reverse("step", args=[axis.pk, found.kind]),
            "title": "Compare",
        }
        return render(request, "route/arrival.html", context)
    saved = actions.take_into_axis(found, axis, author=request.user)
    say(request, f"{found} taken" + (f" as value set {saved.number}." if saved else "; the values were the same."))
    return redirect("step", axis_id=axis.pk, step=found.kind)


@require_POST
@engineer_required
def keep(request: HttpRequest, axis_id: int, kind: str) -> HttpResponse:
    """Keep an axis's motor or feedback device as a record, or revise the record it came from."""
    if kind not in ("motor", "feedback"):
        raise Http404
    axis = axis_of(axis_id)
    try:
        if request.POST.get("record"):
            found = get_object_or_404(Record, pk=id_of(request, "record"), kind=kind)
            revision = actions.revise_from_axis(found, axis, author=request.user)
            text = (
                f"Revision {revision.number} of {found} made." if revision else "The record holds these values already."
            )
        else:
            name = request.POST.get("name", "").strip()[:120] or f"{kind} of {axis}"
            maker, part = (request.POST.get(k, "").strip()[:120] for k in ("maker", "part"))
            made = actions.keep_from_axis(axis, kind, name=name, maker=maker, part=part, author=request.user)
            text = f"{made} is in the library now."
        say(request, text)
    except CadrelError as problem:
        refuse(request, problem)
    return redirect("step", axis_id=axis_id, step=kind)
