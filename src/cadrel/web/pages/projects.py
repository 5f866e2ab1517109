"""Projects, and a new one."""

import json

from django.conf import settings
from django.db.models import Prefetch
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from cadrel.exchange import FileProblem, axis_document, read_axis
from cadrel.link import LinkError, TcpLink
from cadrel.web.accounts.roles import engineer_required
from cadrel.web.changes.values import create_project, save_entries
from cadrel.web.notices import refuse, say
from cadrel.web.pages.requests import axis_of
from cadrel.web.projects.models import Axis, Drive, Project
from cadrel.web.route.sheets import route_of


def projects(request: HttpRequest) -> HttpResponse:
    """Every project with its axes and how far each is."""
    found = Project.objects.prefetch_related(
        Prefetch("drives", Drive.objects.prefetch_related(Prefetch("axes", Axis.objects.prefetch_related("findings"))))
    )
    rows = [
        {
            "project": p,
            "axes": [{"axis": a, "drive": d, "route": route_of(a, "")} for d in p.drives.all() for a in d.axes.all()],
        }
        for p in found
    ]
    return render(request, "projects/list.html", {"rows": rows, "title": "Projects"})


@engineer_required
def new(request: HttpRequest) -> HttpResponse:
    """A new project with a drive and an axis."""
    fields = {
        k: request.POST.get(k, "").strip() for k in ("name", "machine", "drive", "axis", "remote", "host", "port")
    }
    problems: dict[str, str] = {}
    if request.method == "POST":
        for key, label in (("name", "project"), ("drive", "drive"), ("axis", "axis"), ("remote", "axis in the drive")):
            if not fields[key]:
                problems[key] = f"Give the {label} a name."
            elif len(fields[key]) > 60:
                problems[key] = "Up to 60 letters, please."
        if not fields["port"].isdigit() or not 0 < int(fields["port"]) < 65536:
            problems["port"] = "A port is a whole number from 1 to 65535."
        if not problems:
            axis = create_project(
                name=fields["name"],
                machine=fields["machine"],
                drive=fields["drive"],
                host=fields["host"] or "127.0.0.1",
                port=int(fields["port"]),
                axis=fields["axis"],
                remote=fields["remote"],
                author=request.user,
            )
            return redirect("step", axis_id=axis.pk, step="motor")
    else:
        fields |= {"host": settings.BENCH_HOST, "port": str(settings.BENCH_PORT)}
    return render(
        request,
        "projects/new.html",
        {"fields": fields, "problems": problems, "title": "New project", "known": _axes_in_reach()},
        status=422 if problems else 200,
    )


def _axes_in_reach() -> list[str]:
    """Names of the axes the stand-in offers, for the form's suggestions; none if it is not there."""
    link = TcpLink(settings.BENCH_HOST, settings.BENCH_PORT, timeout=0.5)
    try:
        return [str(n) for n in link.call("bench.axes", {})]
    except LinkError:
        return []
    finally:
        link.close()


def export(request: HttpRequest, axis_id: int) -> HttpResponse:
    """An axis as an open file."""
    axis = axis_of(axis_id)
    text = json.dumps(axis_document(axis.name, axis.values), indent=1, ensure_ascii=False)
    response = HttpResponse(text + "\n", content_type="application/json; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="axis-{axis.pk}.json"'
    return response


@require_POST
@engineer_required
def load(request: HttpRequest, axis_id: int) -> HttpResponse:
    """Take an axis file into the project; all of it or nothing."""
    axis = axis_of(axis_id)
    upload = request.FILES.get("file")
    if upload is None:
        refuse(request, "Choose a file first.")
        return redirect("step", axis_id=axis_id, step="handover")
    try:
        _, values = read_axis(upload.read(2_000_001), name=upload.name or "file")
        # Nothing was identified here: a file can say what it likes of where its values come from.
        for entry in values.values():
            if entry.get("source") in ("identified", "computed"):
                entry["source"] = "typed"
        save_entries(axis, values, author=request.user, cause=f"loaded from {upload.name}"[:200])
        say(request, f"{len(values)} values taken from {upload.name}.")
    except FileProblem as problem:
        refuse(request, problem)
    return redirect("step", axis_id=axis_id, step="handover")
