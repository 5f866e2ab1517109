"""Projects, and what they are made of; axis files."""

import json
from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from cadrel.core.axis import arriving, parts_of
from cadrel.core.errors import CadrelError
from cadrel.exchange import FileProblem, axis_document, read_axis
from cadrel.link import LinkError, TcpLink
from cadrel.web.accounts.roles import engineer_required
from cadrel.web.changes import projects as changes
from cadrel.web.changes.values import save_entries
from cadrel.web.notices import refuse, say
from cadrel.web.pages.requests import axis_of
from cadrel.web.projects.models import Axis, Drive, Project
from cadrel.web.route.arrival import comparison
from cadrel.web.route.overview import projects_with_axes
from cadrel.web.route.page import page_of

LARGEST = 2_000_001  # [bytes] of a file that is read at all


def projects(request: HttpRequest) -> HttpResponse:
    """Every project with its axes: what moves, what asks for a look, what comes next."""
    archived = request.GET.get("archived") == "1"
    context = {
        "rows": projects_with_axes(archived=archived),
        "archived": archived,
        "laid_aside": Project.objects.filter(archived=True).count(),
        "title": "Laid aside" if archived else "Projects",
    }
    return render(request, "projects/list.html", context)


@engineer_required
def new(request: HttpRequest) -> HttpResponse:
    """A new project with a drive and an axis."""
    names = ("name", "machine", "drive", "axis", "remote", "host", "port")
    fields = {k: request.POST.get(k, "").strip() for k in names}
    problem = None
    if request.method == "POST":
        try:
            axis = changes.create_project(**fields, author=request.user)
            return redirect("step", axis_id=axis.pk, step="motor")
        except changes.NotPossible as error:
            problem = error
    else:
        fields |= {"host": settings.BENCH_HOST, "port": str(settings.BENCH_PORT)}
    return render(
        request,
        "projects/new.html",
        {"fields": fields, "problem": problem, "title": "New project", "known": _axes_in_reach()},
        status=422 if problem else 200,
    )


def project(request: HttpRequest, project_id: int) -> HttpResponse:
    """What a project is made of: names, notes, drives, axes."""
    found = get_object_or_404(Project, pk=project_id)
    drives = [{"drive": d, "axes": list(d.axes.order_by("archived", "pk"))} for d in found.drives.all()]
    context = {"project": found, "drives": drives, "known": _axes_in_reach(), "title": found.name}
    return render(request, "projects/project.html", context)


THINGS: dict[str, type[Project] | type[Drive] | type[Axis]] = {"project": Project, "drive": Drive, "axis": Axis}


@require_POST
@engineer_required
def change(request: HttpRequest, thing: str, thing_id: int, action: str) -> HttpResponse:
    """Name, copy, lay aside or delete a project, drive or axis, or add to one."""
    if thing not in THINGS or (thing, action) not in ACTIONS:
        raise Http404
    found: Any = get_object_or_404(THINGS[thing], pk=thing_id)
    home = found if thing == "project" else found.project if thing == "drive" else found.drive.project
    given = {k: request.POST.get(k, "") for k in ("name", "machine", "notes", "host", "port", "remote", "typed")}
    try:
        text, home = ACTIONS[thing, action](found, home, given, request.user)
        say(request, text)
    except CadrelError as error:
        refuse(request, error)
    return redirect("project", project_id=home.pk) if home is not None else redirect("projects")


Answer = tuple[str, Project | None]


def _describe(found: Any, home: Project, given: dict[str, str], who: Any) -> Answer:
    name, notes = given["name"], given["notes"]
    if isinstance(found, Project):
        changes.describe_project(found, name=name, machine=given["machine"], notes=notes, author=who)
    elif isinstance(found, Drive):
        changes.describe_drive(found, name=name, host=given["host"], port=given["port"], notes=notes, author=who)
    else:
        changes.describe_axis(found, name=name, notes=notes, remote=given["remote"], author=who)
    return f"{found.name} is saved.", Project.objects.get(pk=home.pk)


def _copy(found: Any, home: Project, given: dict[str, str], who: Any) -> Answer:
    if isinstance(found, Project):
        made = changes.copy_project(found, name=given["name"], author=who)
        return f"{made.name} is a copy of {found.name}; what was found there is not proven here.", made
    if isinstance(found, Drive):
        changes.copy_drive(found, name=given["name"], author=who)
    else:
        changes.copy_axis(found, name=given["name"], remote=given["remote"], author=who)
    return f"{given['name']} is a copy of {found.name}; what was found there is not proven here.", home


def _aside(aside: bool) -> Callable[[Any, Project, dict[str, str], Any], Answer]:
    def act(found: Any, home: Project, given: dict[str, str], who: Any) -> Answer:
        changes.lay_aside(found, aside, author=who)
        return f"{found.name} is {'laid aside' if aside else 'back'}.", home

    return act


def _delete(found: Any, home: Project, given: dict[str, str], who: Any) -> Answer:
    name = found.name
    changes.delete(found, typed=given["typed"], author=who)
    return f"{name} is deleted.", None if isinstance(found, Project) else home


def _add_drive(found: Any, home: Project, given: dict[str, str], who: Any) -> Answer:
    made = changes.add_drive(found, name=given["name"], host=given["host"], port=given["port"], author=who)
    return f"{made.name} is added.", home


def _add_axis(found: Any, home: Project, given: dict[str, str], who: Any) -> Answer:
    made = changes.add_axis(found, name=given["name"], remote=given["remote"], author=who)
    return f"{made.name} is added.", home


ACTIONS: dict[tuple[str, str], Callable[[Any, Project, dict[str, str], Any], Answer]] = {
    **{(thing, "describe"): _describe for thing in THINGS},
    **{(thing, "copy"): _copy for thing in THINGS},
    **{(thing, "delete"): _delete for thing in THINGS},
    **{(thing, "archive"): _aside(True) for thing in ("project", "axis")},
    **{(thing, "restore"): _aside(False) for thing in ("project", "axis")},
    ("project", "add_drive"): _add_drive,
    ("drive", "add_axis"): _add_axis,
}


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
    text = json.dumps(axis_document(axis.name, axis.values, comment=axis.notes), indent=1, ensure_ascii=False)
    response = HttpResponse(text + "\n", content_type="application/json; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="axis-{axis.pk}.json"'
    return response


@engineer_required
def load(request: HttpRequest, axis_id: int) -> HttpResponse:
    """Take an axis file into an axis: first a comparison, then all of it or nothing."""
    axis = axis_of(axis_id)
    kept = f"axis-file-{axis.pk}"
    if request.POST.get("sure") == "1" and kept in request.session:
        return _take_file(request, axis, request.session.pop(kept))
    upload = request.FILES.get("file")
    if upload is not None:
        name = (upload.name or "file")[:120]
        try:
            read = read_axis(upload.read(LARGEST), name=name)
        except FileProblem as problem:
            refuse(request, problem)
            return redirect("step", axis_id=axis_id, step="handover")
        request.session[kept] = {
            "file": name, "name": read.name[:120], "comment": read.comment, "values": read.values
        }  # fmt: skip
        return redirect("load_file", axis_id=axis_id)
    found = request.session.get(kept)
    if found is None:
        refuse(request, "Choose a file first.")
        return redirect("step", axis_id=axis_id, step="handover")
    values = found["values"]
    context = page_of(request, axis, "handover") | {
        "comparison": comparison(axis, found["file"], values, parts_of(values)),
        "action": reverse("load_file", args=[axis_id]),
        "back": reverse("step", args=[axis_id, "handover"]),
        "names": found["name"],
        "title": "Compare",
    }
    return render(request, "route/arrival.html", context)


def _take_file(request: HttpRequest, axis: Axis, found: dict[str, Any]) -> HttpResponse:
    values = found["values"]
    brought = arriving(axis.values, values, parts_of(values)).changes
    saved = save_entries(axis, brought, author=request.user, cause=f"loaded from {found['file']}"[:200])
    if request.POST.get("names") == "1":
        name, notes = found["name"] or axis.name, found["comment"] or axis.notes
        changes.describe_axis(axis, name=name[:60], notes=notes, author=request.user)
    say(request, f"Taken as value set {saved.number}." if saved else "The values were the same.")
    return redirect("step", axis_id=axis.pk, step="handover")
