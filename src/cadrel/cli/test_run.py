"""bin/test's second half: PostgreSQL on loopback, then pytest with the arguments given.

Without arguments the whole suite runs in two goes: what computes, on every core, then the browser's tests one after
another, because they drive one real stack against the clock.
"""

import os
import subprocess
import sys
from pathlib import Path

from cadrel.cli.services import CannotStart, Postgres, environment, is_free
from cadrel.cli.stack import ROOT

BROWSER = "tests/browser"


def goes(arguments: list[str], cores: int) -> list[list[str]]:
    """The argument lists of pytest's goes: the user's own as they are, else the whole suite in two."""
    if arguments:
        return [arguments]
    return [["tests", f"--ignore={BROWSER}", "-n", str(cores), "--dist", "loadfile"], [BROWSER]]


def main() -> int:
    """Start a database of its own, run pytest, stop it; returns pytest's first status that is not zero."""
    port = next((p for p in range(8472, 8500) if is_free(p)), None)
    try:
        if port is None:
            raise CannotStart("no port from 8472 to 8499 is free for the test database.")
        database = Postgres(Path(os.environ["CADREL_VAR"]), port=port, name="test")
        database.remove()
        database.start()
    except CannotStart as error:
        print(f"cadrel: {error}", file=sys.stderr)
        return 2
    os.environ.update(environment(database, web=8473, bench=8474, live=8475))
    try:
        ended = [
            subprocess.call([sys.executable, "-m", "pytest", *go], cwd=ROOT)
            for go in goes(sys.argv[1:], len(os.sched_getaffinity(0)))
        ]
    finally:
        database.remove()
    return next((status for status in ended if status), 0)


if __name__ == "__main__":
    sys.exit(main())
