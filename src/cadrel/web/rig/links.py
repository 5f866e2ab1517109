"""Connections of this process to drives, one per purpose so that a jog never waits behind a recording."""

import threading

from cadrel.link import Drive, TcpLink
from cadrel.web.projects.models import Axis

_links: dict[tuple[str, int, str], TcpLink] = {}
_lock = threading.Lock()


def drive_of(axis: Axis, purpose: str = "command") -> Drive:
    """Return the drive of an axis over a shared connection, with the lease the project holds."""
    key = (axis.drive.host, axis.drive.port, purpose)
    with _lock:
        link = _links.setdefault(key, TcpLink(axis.drive.host, axis.drive.port))
    drive = Drive(link, axis.remote)
    drive.lease = axis.lease
    return drive
