"""What an administrator does with users, and a user with their own password. No request here."""

from typing import Any

from django.contrib.auth.models import Group, User
from django.contrib.auth.password_validation import validate_password
from django.contrib.sessions.models import Session
from django.core.exceptions import ValidationError
from django.db import transaction

from cadrel.web.accounts.errors import NotPossible
from cadrel.web.accounts.roles import ROLES, require_administrator, role_of


def people() -> list[dict[str, Any]]:
    """Every user with role, newest login first among those who may log in."""
    users = User.objects.prefetch_related("groups").order_by("-is_active", "username")
    return [{"user": u, "role": role_of(u)} for u in users]


@transaction.atomic
def add_person(name: str, password: str, role: str, *, who: Any) -> User:
    """Add a user. Raises `NotPossible`, `PermissionDenied`."""
    require_administrator(who)
    name = name.strip()
    if not name or len(name) > 60 or not all(c.isalnum() or c in "._-@+" for c in name):
        raise NotPossible(what="A user name has letters, digits and . _ - @ +", remedy="Choose another one.")
    if User.objects.filter(username__iexact=name).exists():
        raise NotPossible(what=f"There is a user {name} already.", remedy="Choose another name.")
    made = User(username=name)
    _set_password(made, password)
    made.save()
    _set_role(made, role)
    return made


@transaction.atomic
def set_role(person: User, role: str, *, who: Any) -> None:
    """Give a user a role; their sessions end, so that no page keeps what it may no longer do."""
    require_administrator(who)
    if person.pk == who.pk:
        raise NotPossible(what="Your own role cannot be changed by you.", remedy="Ask another administrator.")
    _set_role(person, role)
    end_sessions(person)


@transaction.atomic
def set_active(person: User, active: bool, *, who: Any) -> None:
    """Let a user log in, or no longer; then their sessions end at once."""
    require_administrator(who)
    if person.pk == who.pk:
        raise NotPossible(what="You cannot shut yourself out.", remedy="Ask another administrator.")
    User.objects.filter(pk=person.pk).update(is_active=active)
    if not active:
        end_sessions(person)


@transaction.atomic
def set_password_of(person: User, password: str, *, who: Any) -> None:
    """Give a user a new password; their sessions end."""
    require_administrator(who)
    _set_password(person, password)
    person.save(update_fields=["password"])
    end_sessions(person)


@transaction.atomic
def change_own_password(user: Any, old: str, new: str, *, keep: str) -> None:
    """Change one's own password; all sessions but the one with key `keep` end."""
    if not user.check_password(old):
        raise NotPossible(what="The present password is another one.", remedy="Type it again.")
    _set_password(user, new)
    user.save(update_fields=["password"])
    end_sessions(user, keep=keep)


def end_sessions(user: Any, *, keep: str = "") -> int:
    """End a user's sessions, streams and all; returns how many."""
    mine = [s for s in Session.objects.all() if str(s.get_decoded().get("_auth_user_id", "")) == str(user.pk)]
    over = [s.pk for s in mine if s.session_key != keep]
    return int(Session.objects.filter(pk__in=over).delete()[0])


def _set_password(user: User, password: str) -> None:
    try:
        validate_password(password, user)
    except ValidationError as error:
        raise NotPossible(what=" ".join(error.messages), remedy="Choose a longer one.") from error
    user.set_password(password)


def _set_role(user: User, role: str) -> None:
    if role not in ROLES:
        raise NotPossible(what="There is no such role.", remedy=f"There are {', '.join(ROLES)}.")
    user.groups.set([Group.objects.get_or_create(name=role)[0]])
