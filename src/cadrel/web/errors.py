"""Failure pages in plain words."""

import contextlib
import logging
import sys

from django.conf import settings
from django.core.exceptions import SuspiciousOperation
from django.db import DataError, InterfaceError, OperationalError
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.template.loader import render_to_string

from cadrel.web.live import passes

DISK_FULL = "53100"  # SQLSTATE disk_full
log = logging.getLogger("cadrel.web")


def csrf_failure(request: HttpRequest, reason: str = "") -> HttpResponse:
    """The form is too old, or came from elsewhere."""
    return render(
        request,
        "problem.html",
        {
            "happened": "The form is no longer valid.",
            "means": "Nothing was changed.",
            "remedy": "Go back, reload the page and send it again.",
        },
        status=403,
    )


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """No such page."""
    return render(
        request,
        "problem.html",
        {
            "happened": "There is no such page.",
            "means": "It may have been removed.",
            "remedy": "Start from the projects.",
        },
        status=404,
    )


def not_allowed(request: HttpRequest, exception: Exception) -> HttpResponse:
    """The role does not allow it."""
    return render(
        request,
        "problem.html",
        {
            "happened": "Your role does not allow this.",
            "means": "Nothing was changed.",
            "remedy": "Ask an administrator for the engineer role.",
        },
        status=403,
    )


def broken(request: HttpRequest) -> HttpResponse:
    """A fault of ours, or a database that is away where no view was reached."""
    error = sys.exc_info()[1]
    known = answer_to(request, error) if error is not None else None
    return known or plain(
        request, 500, "Cadrel failed at this.", "It was noted in the log; a drive keeps its own safety.",
        "Try again; if it comes back, report what you did.",
    )  # fmt: skip


def answer_to(request: HttpRequest, error: BaseException) -> HttpResponse | None:
    """Return the answer to a database that is away, full, or cannot keep a value; None for anything else."""
    if not isinstance(error, OperationalError | InterfaceError | DataError):
        return None
    log.warning("%s %s: %s", request.method, request.path, str(error).splitlines()[0] if str(error) else error)
    if isinstance(error, DataError):
        return plain(
            request, 400, "The database cannot keep one of these values.", "Nothing was changed.",
            "Look for a number out of all bounds or a text that is too long.",
        )  # fmt: skip
    if getattr(error.__cause__, "sqlstate", "") == DISK_FULL:
        return plain(
            request, 507, "The database's disk is full.",
            "Nothing was changed; nothing is kept by halves. Drives keep their own safety.",
            "Make room on the disk, then do it again: it goes on by itself.",
        )  # fmt: skip
    return plain(
        request, 503, "The database does not answer.",
        "Nothing was changed. Runs in progress go on, and what they find is kept until it is back.",
        "It is started again by itself as a rule; try again in a few seconds. STOP works meanwhile.",
    )  # fmt: skip


def live_address(request: HttpRequest) -> str:
    """Where the live process answers, as this browser reaches it: the same host, another port."""
    with contextlib.suppress(SuspiciousOperation):
        return f"http://{request.get_host().partition(':')[0]}:{settings.LIVE_PORT}"
    return ""


def plain(request: HttpRequest, status: int, happened: str, means: str, remedy: str) -> HttpResponse:
    """An answer that needs no database, no session and no user; a script gets its text."""
    accept = request.headers.get("Accept", "*/*")
    scripted = request.headers.get("Sec-Fetch-Dest") == "empty" and not request.headers.get("HX-Request")
    if scripted or not ("text/html" in accept or "*/*" in accept):
        return JsonResponse({"text": f"{happened} {means} {remedy}"}, status=status)
    context = {
        "happened": happened, "means": means, "remedy": remedy, "live": live_address(request),
        "can_stop": passes.read(dict(request.COOKIES)) is not None,
    }  # fmt: skip
    return HttpResponse(render_to_string("unwell.html", context), status=status)
