"""The sheet of each step, its live preview and prediction."""

import math
from collections.abc import Mapping

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from cadrel.core.control import LoopName
from cadrel.core.errors import CadrelError
from cadrel.core.motor import check_motor
from cadrel.core.parameters import DRIVE_KEYS, REGISTRY, Entry, EntryProblem, check_entry, choice_of
from cadrel.core.quantities import units_of
from cadrel.web.accounts.roles import engineer_required
from cadrel.web.changes.outcomes import take_proposal
from cadrel.web.changes.values import save_entries
from cadrel.web.jobs.models import Job
from cadrel.web.notices import refuse, say
from cadrel.web.pages.requests import axis_of, id_of, next_of, notes_key
from cadrel.web.projects.models import Axis
from cadrel.web.projects.understanding import model_or_none
from cadrel.web.rig.actions import leading, send_values
from cadrel.web.rig.settling import job_of
from cadrel.web.route.asked import asked_keys
from cadrel.web.route.asked import set_asked as keep_asked
from cadrel.web.route.entries import asked_of, changed_by, first_to_fill, form_of, parse, presets_among, with_choices
from cadrel.web.route.facts import understood_of
from cadrel.web.route.front import front_of_axis
from cadrel.web.route.meanwhile import meanwhile
from cadrel.web.route.page import KEYS, SAVED, following, page_of
from cadrel.web.route.phasing import phasing_context
from cadrel.web.route.predict import ALONG, SLIDERS, asked_rows, loop_of, predict
from cadrel.web.route.sheets import ENTRY_STEPS, sheet_of
from cadrel.web.route.sources import choose_source
from cadrel.web.runs.models import Proposal


def step(request: HttpRequest, axis_id: int, step: str) -> HttpResponse:
    """One step's sheet."""
    if step not in KEYS:
        raise Http404
    axis = axis_of(axis_id)
    context = page_of(request, axis, step)
    context |= sheet_of(axis, step, context["strip"], request.user)
    model = model_or_none(axis)
    if step == "commutation" and model is not None:
        context["phasing"] = phasing_context(axis, model, request.session.get(notes_key(axis), []))
    return render(request, f"route/{'entries' if step in ENTRY_STEPS else step_template(step)}.html", context)


def step_template(key: str) -> str:
    """Template of a step that is not a form."""
    return key if key in ("drive", "handover") else "procedure"


@require_POST
@engineer_required
def save(request: HttpRequest, axis_id: int, step: str) -> HttpResponse:
    """Keep a step's entries, or show what is wrong beside each field; nothing typed is lost."""
    if step not in ENTRY_STEPS:
        raise Http404
    axis = axis_of(axis_id)
    entries, problems = parse(step, request.POST, axis.values)
    other = meanwhile(axis, _based_on(request, axis), entries)
    if not problems and other is None:
        saved = save_entries(
            axis, changed_by(entries, axis.values), author=request.user, cause=f"{step} entered",
            presets=presets_among(entries, axis.values),
        )  # fmt: skip
        newest = axis.latest_set()
        if saved:
            say(request, f"Saved as value set {saved.number}.")
        elif newest:
            say(request, f"Nothing was changed: value set {newest.number} stands.")
        request.session[SAVED] = request.POST.get("draft", "")[:40]
        on = request.POST.get("save") == "next"
        return redirect("step", axis_id=axis_id, step=following(step) if on else step)
    held = other.entries if other else entries
    context = page_of(request, axis, step)
    context |= sheet_of(axis, step, context["strip"], request.user)
    chosen = with_choices(step, axis.values, request.POST)
    fields = form_of(step, held, problems, values=_with(chosen, held))
    context |= {"fields": fields, "asked": asked_of(fields), "focus": first_to_fill(fields)}
    context |= {"unsaved": len(problems), "meanwhile": other}
    return render(request, "route/entries.html", context, status=422 if problems else 409)


def _based_on(request: HttpRequest, axis: Axis) -> int:
    """The value set a form was drawn from; the newest if it does not say."""
    return id_of(request, "based_on") or axis.newest_number


def _with(values: Mapping[str, Entry], entries: Mapping[str, Entry | None]) -> dict[str, Entry]:
    return {**values, **{k: e for k, e in entries.items() if e is not None}}


@require_POST
def preview(request: HttpRequest, axis_id: int, step: str) -> HttpResponse:
    """What would be understood of a form as it stands, per field and as a whole."""
    axis = axis_of(axis_id)
    entries, problems = parse(step, request.POST, axis.values)
    chosen = with_choices(step, axis.values, request.POST)
    good: dict[str, Entry] = dict(chosen)
    for key, entry in entries.items():
        if entry is None or key in problems:
            good.pop(key, None)
        else:
            good[key] = entry
    # What is still empty is not wrong yet: saving says so.
    shown = {k: why for k, why in problems.items() if entries.get(k) is not None}
    fields = form_of(step, entries, shown, values=_with(chosen, entries))
    context = {"axis": axis, "step": step, "facts": understood_of(step, good), "fields": fields}
    # Another choice asks for other things: the whole form is drawn anew, with what was typed still in it.
    asked = request.POST.get("asked", "")
    context |= {"asked": asked_of(fields), "kind_before": choice_of(chosen, "sheet.kind")}
    context["renew"] = asked != context["asked"]
    return render(request, "route/_preview.html", context)


@require_POST
@engineer_required
def relabel(request: HttpRequest, axis_id: int) -> HttpResponse:
    """Take a relabelling that a check offers."""
    axis = axis_of(axis_id)
    wanted = set(request.POST.getlist("change"))
    for check in check_motor(axis.values):
        for remedy in check.remedies:
            if {f"{c.key}|{c.field}|{c.value}" for c in remedy} == wanted:
                entries: dict[str, Entry | None] = {}
                for c in remedy:
                    entries[c.key] = c.applied(axis.values)[c.key]
                save_entries(axis, entries, author=request.user, cause="label corrected")
                return redirect("step", axis_id=axis_id, step="motor")
    refuse(request, "That relabelling is no longer offered: the values have changed.")
    return redirect("step", axis_id=axis_id, step="motor")


@require_POST
def prediction(request: HttpRequest, axis_id: int, loop: str) -> JsonResponse:
    """Curves and margins of gains as they are being dragged."""
    axis, named = axis_of(axis_id), _loop(loop)
    try:
        result = predict(axis, named, _gains(named, request))
    except EntryProblem as problem:
        return JsonResponse({"problem": problem.parts[0]}, status=422)
    except CadrelError as error:
        return JsonResponse({"problem": error.text}, status=409)
    model = model_or_none(axis)
    assert model is not None
    r = model.robustness
    result["table"] = asked_rows(
        loop,
        {"phase_margin": r.phase_margin, "gain_margin_db": r.gain_margin_db, "sensitivity_peak": r.sensitivity_peak},
        result,
    )
    return JsonResponse(result)


def front(request: HttpRequest, axis_id: int) -> JsonResponse:
    """The family of gains around those kept, robust against quick."""
    try:
        return JsonResponse(front_of_axis(axis_of(axis_id)))
    except CadrelError as error:
        return JsonResponse({"problem": error.text}, status=409)


def _loop(name: str) -> LoopName:
    loop = loop_of(name)
    if loop is None:
        raise Http404
    return loop


def _gains(loop: LoopName, request: HttpRequest) -> dict[str, float]:
    found = {}
    for key in (*SLIDERS[loop], *ALONG.get(loop, ())):
        if key in request.POST:
            p = REGISTRY[key]
            found[key] = check_entry(key, {"value": request.POST[key], "unit": p.unit or units_of(p.quantity)[0]})
    return found


@require_POST
@engineer_required
def set_asked(request: HttpRequest, axis_id: int, step: str) -> HttpResponse:
    """Keep what is asked of a loop; what the drive holds of it is sent if it is led from here."""
    axis = axis_of(axis_id)
    if not asked_keys(step):
        raise Http404
    try:
        changed = keep_asked(axis, step, request.POST, who=request.user)
        say(request, f"{len(changed)} values kept." if changed else "Nothing was changed.")
        held = [k for k in changed if k in DRIVE_KEYS]
        if held and axis.connected and axis.leader_id == request.user.pk:
            send_values(axis_of(axis_id), who=request.user, keys=held)
    except CadrelError as error:
        refuse(request, error)
    return redirect("step", axis_id=axis_id, step=step)


@require_POST
@engineer_required
def keep_gains(request: HttpRequest, axis_id: int, loop: str) -> HttpResponse:
    """Keep hand-set gains in the project, and send them if the drive is led from here."""
    axis, named = axis_of(axis_id), _loop(loop)
    try:
        gains = _gains(named, request)
        result = predict(axis, named, gains)
        if not result["now"]["stable"]:
            refuse(request, "These gains are unstable on the model; they were not kept.")
            return redirect("step", axis_id=axis_id, step=loop)
        entries: dict[str, Entry] = {}
        for key in gains:
            p = REGISTRY[key]
            entry: Entry = {
                "value": float(request.POST[key]),
                "unit": p.unit or units_of(p.quantity)[0],
                "source": "typed",
            }
            before = axis.values.get(key)
            # A slider shows five digits: leave a value alone that was not touched.
            if before is None or not math.isclose(float(before["value"]), float(entry["value"]), rel_tol=1e-4):
                entries[key] = entry
        save_entries(axis, entries, author=request.user, cause=f"{loop} loop by hand")
        if request.POST.get("send") == "1":
            leading(axis, request.user)
            send_values(axis, who=request.user, keys=list(gains))
            say(request, "Kept and sent; not yet stored.")
    except CadrelError as error:
        refuse(request, error)
    return redirect("step", axis_id=axis_id, step=loop)


@require_POST
@engineer_required
def decide(request: HttpRequest, axis_id: int, proposal_id: int) -> HttpResponse:
    """Take a proposal whole, in part, or refuse it; what is refused is put back into the drive."""
    axis = axis_of(axis_id)
    proposal = Proposal.objects.filter(pk=proposal_id, axis=axis, state__in=("open", "withheld")).first()
    if proposal is None:
        raise Http404
    keys = request.POST.getlist("key") if request.POST.get("take") == "1" else []
    try:
        drive = leading(axis, request.user)
        if proposal.state == "withheld" and keys:  # the drive holds the values from before
            drive.write({c["key"]: c["after"] for c in proposal.changes if c["key"] in keys})
        back = {c["key"]: c["before"] for c in proposal.changes if c["key"] not in keys and c["before"] is not None}
        if back:
            drive.write(back)
        take_proposal(proposal, keys, who=request.user)
    except CadrelError as error:
        refuse(request, error)
    return redirect("step", axis_id=axis_id, step=proposal.step)


@require_POST
@engineer_required
def choose(request: HttpRequest, axis_id: int) -> HttpResponse:
    """Take the sheet's value for what is sent, or what was found."""
    axis = axis_of(axis_id)
    try:
        text = choose_source(axis, request.POST.get("key", ""), request.POST.get("source", ""), who=request.user)
        say(request, text)
    except CadrelError as error:
        refuse(request, error)
    return redirect(next_of(request, f"/axis/{axis_id}/motor/"))


def job_part(request: HttpRequest, axis_id: int, job_id: int) -> HttpResponse:
    """Progress of a run; when it has ended the page is loaded anew."""
    job = Job.objects.select_related("axis__drive").filter(pk=job_id, axis_id=axis_id).first()
    if job is None:
        raise Http404
    if job.is_active:
        job = job_of(job.axis) or Job.objects.select_related("axis").get(pk=job_id)
    response = render(request, "route/_job.html", {"job": job, "axis": job.axis})
    if not job.is_active:
        response["HX-Refresh"] = "true"
    return response
