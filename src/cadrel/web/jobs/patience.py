"""Try again while the database is away: a lost connection is no reason to lose a result."""

import time
from collections.abc import Callable
from typing import TypeVar

from django.db import InterfaceError, OperationalError, connection

T = TypeVar("T")
AWAY = (OperationalError, InterfaceError)  # what Django raises when the server is gone, full, or starting
FIRST, LONGEST = 0.1, 1.0  # [s] between tries


class GaveUp(Exception):
    """Told to end before the database came back."""


def patiently(call: Callable[[], T], *, is_over: Callable[[], bool] = lambda: False) -> T:
    """Return what a call on the database gives, trying anew on a fresh connection until it does.

    Raises
    ------
    GaveUp
        `is_over` said so first.
    """
    pause = FIRST
    while True:
        try:
            return call()
        except AWAY:
            connection.close()
        if is_over():
            raise GaveUp
        time.sleep(pause)
        pause = min(2 * pause, LONGEST)
