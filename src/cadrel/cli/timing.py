"""How long a call takes."""

import statistics
import time
from collections.abc import Callable
from typing import Any


def median_time(call: Callable[[], Any], repeats: int) -> float:
    """Return the median time of a call after one warm-up. [s]"""
    call()
    times = []
    for _ in range(repeats):
        begun = time.perf_counter()
        call()
        times.append(time.perf_counter() - begun)
    return statistics.median(times)
