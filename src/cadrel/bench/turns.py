"""A lock that is given in the order in which it was asked for."""

import threading


class Turns:
    """First come, first served, as a context manager. Not to be entered twice by one thread.

    A plain lock is given to whoever runs when it falls free. The clock of drives that are behind asks for it again at
    once, and does run: commands would wait for seconds, among them the one that keeps a run alive.
    """

    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._asked = 0  # how many have asked
        self._left = 0  # how many have left

    def __enter__(self) -> None:
        with self._changed:
            turn = self._asked
            self._asked += 1
            self._changed.wait_for(lambda: self._left == turn)

    def __exit__(self, *exc: object) -> None:
        with self._changed:
            self._left += 1
            self._changed.notify_all()
