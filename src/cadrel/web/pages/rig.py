"""Control, values, power, jog, STOP; each view parses, calls one action, answers."""

import math
from collections.abc import Callable
from functools import wraps
from typing import Any

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from cadrel.core.errors import CadrelError
from cadrel.link import LinkDown
from cadrel.procedures import PROCEDURES
from cadrel.web.accounts.roles import engineer_required
from cadrel.web.jobs.models import step_of
from cadrel.web.notices import refuse, say
from cadrel.web.pages.requests import axis_of, next_of, notes_key, number_of, tab_of, ticked_at
from cadrel.web.projects.models import Axis
from cadrel.web.rig import actions, bench, brake, phasing
from cadrel.web.rig.errors import NoControl, NotANumber

Action = Callable[..., Any]


def _command(action: Action) -> Callable[[HttpRequest, int], HttpResponse]:
    """A POST that calls one action on an axis and returns to where it came from."""

    @require_POST
    @engineer_required
    @wraps(action)
    def view(request: HttpRequest, axis_id: int) -> HttpResponse:
        axis = axis_of(axis_id)
        try:
            text = action(request, axis)
        except CadrelError as error:
            refuse(request, error)
        else:
            if text:
                say(request, text)
        return redirect(next_of(request, f"/axis/{axis_id}/drive/"))

    return view


def _connect(request: HttpRequest, axis: Axis) -> str:
    identity = actions.connect(axis, who=request.user)
    return f"Connected to {identity['name']}."


def _send(request: HttpRequest, axis: Axis) -> str:
    changed = actions.send_values(axis, who=request.user, keys=request.POST.getlist("key") or None)
    return f"{len(changed)} values sent; not yet stored." if changed else "The drive held them already."


def _fetch(request: HttpRequest, axis: Axis) -> str:
    return f"{actions.fetch_values(axis, who=request.user, keys=request.POST.getlist('key'))} values taken."


def _store(request: HttpRequest, axis: Axis) -> str:
    actions.store(axis, who=request.user)
    return "Stored: these values survive power-off."


def _switch(request: HttpRequest, axis: Axis) -> None:
    closed = request.POST.get("closed") == "1"
    actions.set_switch(axis, who=request.user, name=request.POST.get("name", ""), closed=closed)


def _position(request: HttpRequest, axis: Axis) -> str:
    value = number_of(request, "value", 0.0, "The position")
    actions.set_position(axis, who=request.user, user_value=value)
    return f"Here is {value:g} now."


connect = _command(_connect)
disconnect = _command(lambda r, a: actions.disconnect(a, who=r.user))
take = _command(lambda r, a: actions.take_control(a, who=r.user, force=r.POST.get("force") == "1"))
give = _command(lambda r, a: actions.give_control(a, who=r.user))
send = _command(_send)
fetch = _command(_fetch)
store = _command(_store)
restart = _command(lambda r, a: actions.restart(a, who=r.user))
reset = _command(lambda r, a: actions.reset_fault(a, who=r.user))
power = _command(lambda r, a: actions.power_switch(a, who=r.user, on=r.POST.get("on") == "1"))
switch = _command(_switch)
enable_jog = _command(lambda r, a: actions.enable_jog(a, who=r.user, tab=tab_of(r), ticked=ticked_at(r)))
disable = _command(lambda r, a: actions.disable(a, who=r.user))


def _turn(request: HttpRequest, axis: Axis) -> None:
    turns = number_of(request, "turns", 1.0, "The number of turns")
    actions.turn_by_hand(axis, who=request.user, turns=turns, seconds=max(0.5, 2.5 * abs(turns)))


turn = _command(_turn)
enable_vector = _command(lambda r, a: phasing.enable_vector(a, who=r.user, tab=tab_of(r), ticked=ticked_at(r)))
exchange = _command(lambda r, a: phasing.exchange_phases(a, who=r.user))
invert = _command(lambda r, a: phasing.invert_direction(a, who=r.user))


def _note_angle(request: HttpRequest, axis: Axis) -> None:
    notes = request.session.get(notes_key(axis), [])
    request.session[notes_key(axis)] = [*notes, phasing.reading(axis)][-12:]


def _take_offset(request: HttpRequest, axis: Axis) -> str:
    text = phasing.take_offset(axis, request.session.get(notes_key(axis), []), who=request.user)
    request.session.pop(notes_key(axis), None)
    return text


def _forget_notes(request: HttpRequest, axis: Axis) -> None:
    request.session.pop(notes_key(axis), None)


def _rewire(request: HttpRequest, axis: Axis) -> str:
    try:
        return bench.rewire(axis, request.POST, who=request.user)
    except ValueError as error:
        return f"Not rewired. {error}"


set_phasing = _command(
    lambda r, a: phasing.set_phasing(
        a, who=r.user, current=r.POST.get("current", ""), power_up=r.POST.get("power_up", "")
    )
)
note_angle = _command(_note_angle)
take_offset = _command(_take_offset)
forget_notes = _command(_forget_notes)
rewire = _command(_rewire)


def bench_page(request: HttpRequest, axis_id: int) -> HttpResponse:
    """The stand-in's own page."""
    axis = axis_of(axis_id)
    context: dict[str, Any] = {"axis": axis, "title": f"Stand-in of {axis.name}"}
    try:
        context |= bench.wiring_of(axis)
    except CadrelError as error:
        context["problem"] = error.text
    return render(request, "rig/bench.html", context)


def _heartbeat(beat: Callable[[HttpRequest, Axis], HttpResponse]) -> Callable[[HttpRequest, int], HttpResponse]:
    """A POST that a held button repeats; what went wrong is told in the answer's `text`."""

    @require_POST
    @engineer_required
    @wraps(beat)
    def view(request: HttpRequest, axis_id: int) -> HttpResponse:
        try:
            return beat(request, axis_of(axis_id))
        except NotANumber as error:
            return JsonResponse({"text": error.text}, status=422)
        except NoControl as error:
            return JsonResponse({"text": error.text}, status=423)
        except LinkDown as error:
            return JsonResponse({"text": error.text}, status=503)
        except CadrelError as error:
            return JsonResponse({"text": error.text}, status=409)

    return view


@_heartbeat
def vector(request: HttpRequest, axis: Axis) -> HttpResponse:
    """One heartbeat of a held phasing button."""
    target = phasing.hold_vector(
        axis,
        who=request.user,
        way=number_of(request, "way", 0.0, "The direction"),
        by=math.radians(number_of(request, "by", 0.0, "The step")) if "by" in request.POST else None,
        target=math.radians(number_of(request, "target", 0.0, "The angle")) if "target" in request.POST else None,
        share=number_of(request, "share", 0.0, "The current"),
        speed=number_of(request, "speed", 1.0, "The speed"),
        holder=request.POST.get("holder", "")[:40],
    )
    return JsonResponse({"target": math.degrees(target)})


@_heartbeat
def jog(request: HttpRequest, axis: Axis) -> HttpResponse:
    """One heartbeat of a held jog button."""
    share = number_of(request, "share", 0.0, "The share of the speed")
    actions.jog(axis, who=request.user, share=share, holder=request.POST.get("holder", "")[:40])
    return HttpResponse(status=204)


@_heartbeat
def hold_brake(request: HttpRequest, axis: Axis) -> HttpResponse:
    """One heartbeat of the held button that opens the brake."""
    brake.hold_open(
        axis,
        who=request.user,
        is_open=number_of(request, "share", 0.0, "The share") > 0,
        is_safe=request.POST.get("safe") == "1",
        holder=request.POST.get("holder", "")[:40],
    )
    return HttpResponse(status=204)


set_position = _command(_position)


@require_POST
@engineer_required
def start(request: HttpRequest, axis_id: int, procedure: str) -> HttpResponse:
    """Start a procedure after consent; what prevents it is said at once."""
    axis = axis_of(axis_id)
    try:
        actions.queue_job(
            axis,
            procedure,
            who=request.user,
            consented=request.POST.get("consent") == "1",
            ticked=ticked_at(request),
            unattended=request.POST.get("unattended") == "1",
            arguments=request.POST,
        )
    except CadrelError as error:
        refuse(request, error)
        if procedure in PROCEDURES:
            actions.log_refusal(axis, request.user, step_of(procedure), error)
    return redirect("step", axis_id=axis_id, step=step_of(procedure) if procedure in PROCEDURES else "drive")


@require_POST
@engineer_required
def abort(request: HttpRequest, axis_id: int) -> HttpResponse:
    """Abort the run in progress."""
    actions.abort_run(axis_of(axis_id), who=request.user)
    return redirect(next_of(request, f"/axis/{axis_id}/commutation/"))
