"""Failure pages in plain words."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


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
    """A fault of ours."""
    return render(
        request,
        "problem.html",
        {
            "happened": "Cadrel failed at this.",
            "means": "It was noted in the log; a drive keeps its own safety.",
            "remedy": "Try again; if it comes back, report what you did.",
        },
        status=500,
    )
