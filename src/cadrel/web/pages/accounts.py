"""Logging in; guesses are limited by name and address, and by address alone."""

from datetime import timedelta
from typing import Any

from axes.models import AccessAttempt
from django.conf import settings
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.views import LoginView
from django.db.models import Sum
from django.http import HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import render
from django.utils import timezone
from django.utils.decorators import method_decorator


@method_decorator(login_not_required, name="dispatch")
class LogIn(LoginView):
    """Django's, behind the limit per address."""

    template_name = "accounts/login.html"
    redirect_authenticated_user = True

    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponseBase:
        """Refuse an address that has guessed too often, whatever names it tried."""
        if request.method == "POST" and failures_of(address_of(request)) >= settings.ADDRESS_FAILURE_LIMIT:
            return locked(request)
        return super().dispatch(request, *args, **kwargs)


def address_of(request: HttpRequest) -> str:
    """Return where a request comes from."""
    return str(request.META.get("REMOTE_ADDR", ""))


def failures_of(address: str) -> int:
    """Return how many logins of an address failed within the cool-off."""
    since = timezone.now() - timedelta(hours=settings.AXES_COOLOFF_TIME)
    attempts = AccessAttempt.objects.filter(ip_address=address, attempt_time__gt=since)
    return int(attempts.aggregate(n=Sum("failures_since_start"))["n"] or 0)


def locked(request: HttpRequest) -> HttpResponse:
    """Too many guesses."""
    return render(request, "accounts/locked.html", status=429)
