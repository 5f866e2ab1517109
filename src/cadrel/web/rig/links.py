"""Connections of this process to drives, one per purpose so that a jog never waits behind a recording."""

import threading
import time
from typing import Any

from django.conf import settings

from cadrel.core.errors import CadrelError
from cadrel.link import Drive, LinkDown, LinkedDrive, LinkError, TcpLink
from cadrel.link.stand_in import StandIn
from cadrel.web.projects.models import Axis

ANSWER = 2.0  # [s] a drive has for a command
ANSWER_TO_PAGE = 0.7  # [s] it has while a page is drawn, which can say that there was none
QUIET = 1.5  # [s] after no answer, in which no page waits for the same drive again


class PageLink(TcpLink):
    """A link for drawing pages: a drive that has just not answered is not waited for by every page anew."""

    def __init__(self, host: str, port: int, *, secret: str) -> None:
        super().__init__(host, port, timeout=ANSWER_TO_PAGE, secret=secret)
        self._silent_until = 0.0

    def call(self, method: str, params: dict[str, Any]) -> Any:
        """As the link's own."""
        if time.monotonic() < self._silent_until:
            raise LinkDown(address=self.address, why="no answer a moment ago")
        try:
            return super().call(method, params)
        except LinkDown:
            self._silent_until = time.monotonic() + QUIET
            raise


_links: dict[tuple[str, int, str], TcpLink] = {}
_lock = threading.Lock()


def drive_of(axis: Axis, purpose: str = "command") -> Drive:
    """Return the drive of an axis over a shared connection, with the lease the project holds."""
    drive = LinkedDrive(_link_to(axis, purpose), axis.remote)
    drive.lease = axis.lease
    return drive


def stand_in_of(axis: Axis, purpose: str = "command") -> StandIn:
    """Return what only a stand-in has: its mains switch, its wires, the hand on its shaft."""
    return StandIn(_link_to(axis, purpose), axis.remote)


def _link_to(axis: Axis, purpose: str) -> TcpLink:
    key = (axis.drive.host, axis.drive.port, purpose)
    with _lock:
        if key not in _links:
            host, port, secret = axis.drive.host, axis.drive.port, settings.LINK_SECRET
            made = PageLink(host, port, secret=secret) if purpose == "page" else None
            _links[key] = made or TcpLink(host, port, timeout=ANSWER, secret=secret)
        return _links[key]


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
