"""Drawn benches worked off on every core, each row kept as it is done: an interrupted draw goes on from there."""

import json
import multiprocessing
import os
import time
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any, Protocol, TypeVar


class Row(Protocol):
    """What is kept of a bench: a dataclass of plain values."""

    bench: int


R = TypeVar("R", bound=Row)


def worked_off(
    one: Callable[[tuple[int, int]], R], kind: type[R], *, benches: int, seed: int, kept: Path, said: Callable[[R], str]
) -> list[R]:
    """Return the rows of all benches, in order; those that are in `kept` are not done again.

    `one` gets (seed, number). `said` is what is printed of a row, with progress and the time left.
    """
    kept.parent.mkdir(parents=True, exist_ok=True)
    done: dict[int, R] = {}
    if kept.exists():
        for line in kept.read_text().splitlines():
            plain: dict[str, Any] = json.loads(line)
            done[int(plain["bench"])] = kind(**plain)
    missing = [(seed, k) for k in range(benches) if k not in done]
    begun = time.monotonic()
    with multiprocessing.Pool(len(os.sched_getaffinity(0))) as pool, kept.open("a") as file:
        for k, row in enumerate(pool.imap_unordered(one, missing), 1):
            done[row.bench] = row
            file.write(json.dumps(asdict(row)) + "\n")  # type: ignore[call-overload]
            file.flush()
            print(said_of(row, said, len(done), benches, begun, len(missing), len(missing) - k), flush=True)
    return [done[k] for k in sorted(done) if k < benches]


def said_of(row: R, said: Callable[[R], str], done: int, benches: int, begun: float, asked: int, left: int) -> str:
    """Return the line that tells of a row, with progress and the time left; `begun` by the monotonic clock. [s]"""
    taken = time.monotonic() - begun
    minutes = taken / max(asked - left, 1) * left / 60
    return f"{done}/{benches} bench {row.bench} {said(row)} ({minutes:.0f} min left)"
