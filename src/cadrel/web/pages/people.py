"""Users, for an administrator; one's own password, for everyone."""

from django.contrib.auth import update_session_auth_hash
from django.contrib.auth.models import User
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from cadrel.core.errors import CadrelError
from cadrel.web.accounts import people as actions
from cadrel.web.accounts.roles import ROLES, require_administrator
from cadrel.web.notices import refuse, say


def people(request: HttpRequest) -> HttpResponse:
    """All users, for an administrator."""
    require_administrator(request.user)
    return render(request, "accounts/people.html", {"people": actions.people(), "roles": ROLES, "title": "People"})


@require_POST
def add(request: HttpRequest) -> HttpResponse:
    """Add a user."""
    given = {k: request.POST.get(k, "") for k in ("name", "password", "role")}
    try:
        made = actions.add_person(given["name"], given["password"], given["role"], who=request.user)
        say(request, f"{made.username} can log in as {given['role']}.")
    except CadrelError as error:
        refuse(request, error)
    return redirect("people")


@require_POST
def change(request: HttpRequest, user_id: int, action: str) -> HttpResponse:
    """Change a user's role, password, or whether they may log in."""
    require_administrator(request.user)
    person = get_object_or_404(User, pk=user_id)
    try:
        if action == "role":
            actions.set_role(person, request.POST.get("role", ""), who=request.user)
            text = f"{person.username} is {request.POST.get('role')} now, and logs in anew."
        elif action == "password":
            actions.set_password_of(person, request.POST.get("password", ""), who=request.user)
            text = f"{person.username} has a new password; their sessions have ended."
        elif action in ("disable", "enable"):
            actions.set_active(person, action == "enable", who=request.user)
            text = f"{person.username} can {'log in again' if action == 'enable' else 'no longer log in'}."
        else:
            raise Http404
        say(request, text)
    except CadrelError as error:
        refuse(request, error)
    return redirect("people")


def account(request: HttpRequest) -> HttpResponse:
    """One's own password."""
    if request.method == "POST":
        assert isinstance(request.user, User)  # nobody else passes the login
        old, new = request.POST.get("old", ""), request.POST.get("new", "")
        try:
            if new != request.POST.get("again", ""):
                raise actions.NotPossible(what="The two new passwords differ.", remedy="Type both again.")
            actions.change_own_password(request.user, old, new, keep=request.session.session_key or "")
            update_session_auth_hash(request, request.user)
            say(request, "Your password is changed. Your other sessions have ended.")
            return redirect("account")
        except CadrelError as error:
            refuse(request, error)
    return render(request, "accounts/account.html", {"title": "Your account"})
