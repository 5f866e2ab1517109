"""The page that goes through everything that remains in one go."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from cadrel.core.errors import CadrelError
from cadrel.web.accounts.roles import engineer_required
from cadrel.web.notices import refuse
from cadrel.web.pages.requests import axis_of, number_of, ticked_at
from cadrel.web.rig import through
from cadrel.web.route.page import page_of
from cadrel.web.route.sheets import route_of
from cadrel.web.route.through import through_of


def page(request: HttpRequest, axis_id: int) -> HttpResponse:
    """What remains, the consent to all of it, and how far it is."""
    axis = axis_of(axis_id)
    context = page_of(request, axis, "through")
    context |= through_of(axis, context["route"])
    return render(request, "route/through.html", context)


def part(request: HttpRequest, axis_id: int) -> HttpResponse:
    """The rows alone, while a step runs; with the next one, and at the end, the page is loaded anew."""
    axis = axis_of(axis_id)
    context = through_of(axis, route_of(axis, "through"))
    response = render(request, "route/_through.html", {"axis": axis, **context})
    if not context.get("runs") or str(context["job"]) != request.GET.get("job"):
        response["HX-Refresh"] = "true"
    return response


@require_POST
@engineer_required
def start(request: HttpRequest, axis_id: int) -> HttpResponse:
    """Begin; what prevents it is said at once."""
    axis = axis_of(axis_id)
    try:
        here = (
            number_of(request, "here", 0.0, "Where the axis stands") if request.POST.get("here", "").strip() else None
        )
        through.start(
            axis,
            request.POST.get("first", ""),
            who=request.user,
            consented=request.POST.get("consent") == "1",
            ticked=ticked_at(request),
            unattended=request.POST.get("unattended") == "1",
            here=here,
        )
    except CadrelError as error:
        refuse(request, error)
    return redirect("through", axis_id=axis_id)
