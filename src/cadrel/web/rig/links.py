"""Connections of this process to drives, one per purpose so that a jog never waits behind a recording."""

import threading
from typing import Any

from django.conf import settings

from cadrel.core.errors import CadrelError
from cadrel.link import Drive, LinkError, TcpLink
from cadrel.web.projects.models import Axis

_links: dict[tuple[str, int, str], TcpLink] = {}
_lock = threading.Lock()


def drive_of(axis: Axis, purpose: str = "command") -> Drive:
    """Return the drive of an axis over a shared connection, with the lease the project holds."""
    key = (axis.drive.host, axis.drive.port, purpose)
    with _lock:
        link = _links.setdefault(key, TcpLink(axis.drive.host, axis.drive.port, secret=settings.LINK_SECRET))
    drive = Drive(link, axis.remote)
    drive.lease = axis.lease
    return drive


def owned_by(username: str) -> str:
    """Return the name under which a user leads a drive."""
    return f"{username} (Cadrel)"


def try_status(axis: Axis, *, purpose: str = "page") -> tuple[dict[str, Any] | None, CadrelError | None]:
    """Return the status, or why there is none. A page that is drawn renews no lease: only one that stays open does."""
    if not axis.connected:
        return None, None
    drive = drive_of(axis, purpose)
    drive.lease = ""
    try:
        return drive.status(), None
    except LinkError as error:
        return None, error
