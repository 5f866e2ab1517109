"""A long computation in a thread of its own, so that who asked for it can go on looking after something else."""

import threading
from collections.abc import Callable
from typing import Generic, TypeVar

T = TypeVar("T")
EVERY = 0.25  # [s] between looks of the one who waits


class _Computation(Generic[T]):
    """One computation: what came of it, once it has ended."""

    def __init__(self, work: Callable[[], T]) -> None:
        self.ended = threading.Event()
        self._work = work
        self._result: list[T] = []
        self._error: BaseException | None = None

    def run(self) -> None:
        """Carry it out."""
        try:
            self._result.append(self._work())
        except BaseException as error:  # it belongs to the one who waits
            self._error = error
        finally:
            self.ended.set()

    def result(self) -> T:
        """Return what it gave, or raise what it raised."""
        if self._error is not None:
            raise self._error
        return self._result[0]


def computed(work: Callable[[], T], *, meanwhile: Callable[[], None], every: float = EVERY) -> T:
    """Return what `work` gives; until then `meanwhile` is called every so often, in the calling thread. [s]

    Raises
    ------
    BaseException
        What either raises. Where `meanwhile` does, the computation is left to itself: it must change nothing that
        others use.
    """
    computation = _Computation(work)
    threading.Thread(target=computation.run, daemon=True).start()
    while not computation.ended.wait(every):
        meanwhile()
    return computation.result()
