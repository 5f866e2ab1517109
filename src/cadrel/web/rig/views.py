"""Control, values, power, jog, STOP; each view parses, calls one action, answers."""

import asyncio
import json
import math
from collections.abc import AsyncIterator, Callable
from functools import wraps
from typing import Any

from asgiref.sync import sync_to_async
from django.contrib import messages
from django.db import connection
from django.http import HttpRequest, HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from cadrel.core.errors import CadrelError
from cadrel.link import LinkDown
from cadrel.web.accounts.roles import engineer_required
from cadrel.web.jobs.models import Job
from cadrel.web.projects.models import Axis
from cadrel.web.rig import actions, bench, phasing
from cadrel.web.rig.errors import NoControl, WebRefused
from cadrel.web.rig.strip import strip_of

LIVE_PERIOD = 0.12  # [s] between status lines; the lease lives 0.5 s
Action = Callable[..., Any]


def axis_of(axis_id: int) -> Axis:
    """The axis with its drive and leader, or 404."""
    return get_object_or_404(Axis.objects.select_related("drive__project", "leader"), pk=axis_id)


def say_problem(request: HttpRequest, error: CadrelError) -> None:
    """Keep an error's three parts for the next page."""
    messages.error(request, json.dumps(error.parts))


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
            say_problem(request, error)
        else:
            if text:
                messages.success(request, text)
        return redirect(request.POST.get("next") or f"/axis/{axis_id}/drive/")

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
    actions.set_switch(axis, who=request.user, name=request.POST["name"], closed=request.POST["closed"] == "1")


def _position(request: HttpRequest, axis: Axis) -> str:
    try:
        value = float(request.POST.get("value", "0"))
    except ValueError:
        return "That is not a number; the position was not set."
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
power = _command(lambda r, a: actions.power_switch(a, who=r.user, on=r.POST["on"] == "1"))
switch = _command(_switch)
enable_jog = _command(lambda r, a: actions.enable_jog(a, who=r.user))
disable = _command(lambda r, a: actions.disable(a, who=r.user))


def _turn(request: HttpRequest, axis: Axis) -> None:
    turns = max(-5.0, min(5.0, float(request.POST.get("turns", "1"))))
    actions.turn_by_hand(axis, who=request.user, turns=turns, seconds=max(0.5, 2.5 * abs(turns)))


turn = _command(_turn)
enable_vector = _command(lambda r, a: phasing.enable_vector(a, who=r.user))
exchange = _command(lambda r, a: phasing.exchange_phases(a, who=r.user))
invert = _command(lambda r, a: phasing.invert_direction(a, who=r.user))


def notes_key(axis: Axis) -> str:
    """Where a user's noted readings of an axis are kept."""
    return f"phasing-notes-{axis.pk}"


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
        except NoControl as error:
            return JsonResponse({"text": error.text}, status=423)
        except LinkDown as error:
            return JsonResponse({"text": error.text}, status=503)
        except CadrelError as error:
            return JsonResponse({"text": error.text}, status=409)
        except ValueError:
            return JsonResponse({"text": "Current or speed is not a number."}, status=422)

    return view


@_heartbeat
def vector(request: HttpRequest, axis: Axis) -> HttpResponse:
    """One heartbeat of a held phasing button."""
    target = phasing.hold_vector(
        axis,
        who=request.user,
        way=float(request.POST.get("way", "0")),
        by=math.radians(float(request.POST.get("by", "nan"))),
        target=math.radians(float(request.POST.get("target", "nan"))),
        share=float(request.POST.get("share", "0")),
        speed=float(request.POST.get("speed", "1")),
    )
    return JsonResponse({"target": math.degrees(target)})


@_heartbeat
def jog(request: HttpRequest, axis: Axis) -> HttpResponse:
    """One heartbeat of a held jog button."""
    actions.jog(axis, who=request.user, share=float(request.POST.get("share", "0")))
    return HttpResponse(status=204)


set_position = _command(_position)


@require_POST
def stop(request: HttpRequest) -> HttpResponse:
    """STOP: every connected axis, for everyone who is logged in."""
    unreached = actions.stop_all(who=request.user)
    if "text/html" in request.headers.get("Accept", ""):  # sent by the form itself, without script
        messages.error(request, f"STOP sent. {' '.join(unreached)}")
        return redirect("projects")
    return JsonResponse({"unreached": unreached})


async def live(request: HttpRequest, axis_id: int) -> StreamingHttpResponse:
    """The strip as server-sent events. Leaving the page ends the stream, and with it the lease's renewal."""
    user = await request.auser()

    def look() -> str:
        try:
            axis = Axis.objects.select_related("drive", "leader").get(pk=axis_id)
            return json.dumps(strip_of(axis, user_id=user.pk, purpose="live"))
        finally:
            connection.close()  # back to the pool: this thread belongs to no request

    async def lines() -> AsyncIterator[str]:
        while True:
            try:
                yield f"data: {await sync_to_async(look, thread_sensitive=False)()}\n\n"
            except Axis.DoesNotExist:
                return
            await asyncio.sleep(LIVE_PERIOD)

    response = StreamingHttpResponse(lines(), content_type="text/event-stream")
    response.headers["Cache-Control"] = "no-store"
    return response


@require_POST
@engineer_required
def start(request: HttpRequest, axis_id: int, procedure: str) -> HttpResponse:
    """Queue a procedure after consent."""
    from cadrel.web.jobs.models import step_of
    from cadrel.web.jobs.tasks import run_procedure

    axis = axis_of(axis_id)
    try:
        job = actions.queue_job(axis, procedure, who=request.user, consented=request.POST.get("consent") == "1")
        run_procedure.defer(job_id=job.pk)
    except (WebRefused, CadrelError) as error:
        say_problem(request, error)
    step = step_of(procedure)
    return redirect("step", axis_id=axis_id, step=step)


@require_POST
@engineer_required
def abort(request: HttpRequest, axis_id: int) -> HttpResponse:
    """Abort the run in progress."""
    axis = axis_of(axis_id)
    Job.objects.filter(axis=axis).active().update(abort=True)
    return redirect(request.POST.get("next") or f"/axis/{axis_id}/commutation/")
