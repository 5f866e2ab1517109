"""Observer, engineer, administrator."""

from collections.abc import Callable
from functools import wraps
from typing import Any

from django.core.exceptions import PermissionDenied
from django.http import HttpRequest, HttpResponse

ROLES = ("observer", "engineer", "administrator")


def is_engineer(user: Any) -> bool:
    """Whether the user may change and move things."""
    if not user.is_authenticated:
        return False
    if not hasattr(user, "_cadrel_groups"):
        user._cadrel_groups = set(user.groups.values_list("name", flat=True))
    return bool(user._cadrel_groups & {"engineer", "administrator"})


def role_of(user: Any) -> str:
    """The most that the user may: a name of `ROLES`."""
    is_engineer(user)
    held: set[str] = getattr(user, "_cadrel_groups", set())
    return next((role for role in reversed(ROLES) if role in held), ROLES[0])


def require_engineer(user: Any) -> None:
    """Refuse everyone else, wherever the action was called from. Raises `PermissionDenied`."""
    if not is_engineer(user):
        raise PermissionDenied


def is_administrator(user: Any) -> bool:
    """Whether the user may add people and delete what others made."""
    return is_engineer(user) and role_of(user) == "administrator"


def require_administrator(user: Any) -> None:
    """Refuse everyone else. Raises `PermissionDenied`."""
    if not is_administrator(user):
        raise PermissionDenied


def engineer_required(view: Callable[..., HttpResponse]) -> Callable[..., HttpResponse]:
    """Refuse everyone else with a page that says so."""

    @wraps(view)
    def guarded(request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponse:
        if not is_engineer(request.user):
            raise PermissionDenied
        return view(request, *args, **kwargs)

    return guarded
