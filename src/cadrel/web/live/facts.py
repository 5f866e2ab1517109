"""What of the database the strip needs: read by one thread on one connection, kept when the database goes away."""

import json
import os
import threading
import time
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.sessions.models import Session
from django.db import connection
from django.utils import timezone

from cadrel.web.jobs.patience import AWAY
from cadrel.web.projects.models import Axis
from cadrel.web.rig.strip import AxisFacts, facts_of

PERIOD = 0.25  # [s] between looks
SESSIONS = 2.0  # [s] between looks at who is still logged in
FRESH = 2.0  # [s] without an answer before the page is told that the database is away


class FactsKeeper:
    """Keeps facts of every axis, and which sessions have ended. Reading it never waits."""

    def __init__(self) -> None:
        self._facts: dict[int, AxisFacts] = {}
        self._ended: set[str] = set()
        self._asked: set[str] = set()
        self._answered = 0.0
        self._asked_for = threading.Event()
        self._over = threading.Event()
        self._round = 0
        self._thread = threading.Thread(target=self._keep, daemon=True)

    def start(self) -> None:
        """Begin to read."""
        self._thread.start()

    def stop(self) -> None:
        """End reading."""
        self._over.set()
        self._asked_for.set()

    @property
    def is_fresh(self) -> bool:
        """Whether the database answered just now."""
        return time.monotonic() - self._answered < FRESH

    @property
    def rounds(self) -> int:
        """How often it has read."""
        return self._round

    def hurry(self) -> None:
        """Look at once: somebody has just opened a page."""
        self._asked_for.set()

    def of(self, axis_id: int) -> AxisFacts | None:
        """Facts of an axis as last read."""
        return self._facts.get(axis_id)

    def all(self) -> list[AxisFacts]:
        """Facts of every axis."""
        return list(self._facts.values())

    def watch_session(self, key: str) -> None:
        """Look from now on whether this session is still there."""
        self._asked.add(key)

    def has_ended(self, key: str) -> bool:
        """Whether a session is over; False while nobody can tell."""
        return key in self._ended

    def forget_session(self, key: str) -> None:
        """Nobody looks with it any more."""
        self._asked.discard(key)
        self._ended.discard(key)

    def _keep(self) -> None:
        looked = 0.0
        while not self._over.is_set():
            try:
                self._read()
                if time.monotonic() - looked > SESSIONS:
                    looked = time.monotonic()
                    self._read_sessions()
            except AWAY:
                connection.close()
            self._asked_for.wait(PERIOD)
            self._asked_for.clear()
        connection.close()

    def _read(self) -> None:
        found = {}
        for axis in Axis.objects.select_related("drive", "leader").with_newest_number():
            before = self._facts.get(axis.pk)
            # What is understood of the entries is worked out anew only when they changed.
            found[axis.pk] = facts_of(axis, known=before)
        if {a.pk: a.address for a in found.values() if a.connected} != {
            a.pk: a.address for a in self._facts.values() if a.connected
        }:
            write_known(list(found.values()))
        self._facts = found
        self._answered = time.monotonic()
        self._round += 1

    def _read_sessions(self) -> None:
        asked = set(self._asked)
        if not asked:
            return
        there = Session.objects.filter(session_key__in=asked, expire_date__gt=timezone.now())
        self._ended |= asked - set(there.values_list("session_key", flat=True))


def write_known(facts: list[AxisFacts]) -> None:
    """Keep on disk what STOP must reach, whole or not at all; a full disk costs nothing but the memory."""
    path = Path(settings.KNOWN_AXES)
    rows = [
        {"pk": f.pk, "name": f.name, "host": f.host, "port": f.port, "remote": f.remote} for f in facts if f.connected
    ]
    scratch = path.with_suffix(".new")
    try:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        scratch.write_text(json.dumps(rows))
        os.replace(scratch, path)
    except OSError:
        scratch.unlink(missing_ok=True)


def read_known() -> list[dict[str, Any]]:
    """What STOP must reach, as last written; nothing if it cannot be read."""
    try:
        rows = json.loads(Path(settings.KNOWN_AXES).read_text())
        return [r for r in rows if {"pk", "name", "host", "port", "remote"} <= set(r)]
    except (OSError, ValueError, TypeError):
        return []
