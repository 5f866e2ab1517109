"""bin/test's second half: PostgreSQL on loopback, then pytest with the arguments given.

Without arguments the whole suite runs in two goes at once. The browser's tests drive one real stack, one after another,
and mostly wait for an axis that moves at the pace of a real one; what computes takes what they leave of every core.
"""

import os
import subprocess
import sys
from pathlib import Path

from cadrel.cli.services import CannotStart, Postgres, environment, is_free
from cadrel.cli.stack import ROOT

BROWSER = "tests/browser"
MORE = 1  # processes than cores: of those that compute one in three waits for a drive at its own pace
BEHIND = ["nice", "-n", "15"]  # what computes gives way at once to processes that answer a browser


def goes(arguments: list[str], cores: int) -> list[list[str]]:
    """The argument lists of pytest's goes: the user's own as they are, else the whole suite in two."""
    if arguments:
        return [arguments]
    return [[BROWSER], ["tests", f"--ignore={BROWSER}", "-n", str(cores + MORE), "--dist", "loadfile"]]


def run(every: list[list[str]], log: Path) -> list[int]:
    """Run pytest's goes side by side, the first one at the fore; return their statuses.

    What the others say comes when they have ended, whole: two reports line by line are none.
    """
    first, *others = every
    behind = []
    for k, go in enumerate(others):
        out = log.with_suffix(f".{k}.log")
        with out.open("wb") as kept:
            command = [*BEHIND, sys.executable, "-m", "pytest", *go]
            behind.append((subprocess.Popen(command, cwd=ROOT, stdout=kept, stderr=subprocess.STDOUT), out))
    ended = [subprocess.call([sys.executable, "-m", "pytest", *first], cwd=ROOT)]
    for process, out in behind:
        ended.append(process.wait())
        sys.stdout.write(out.read_text(errors="replace"))
        sys.stdout.flush()
    return ended


def main() -> int:
    """Start a database of its own, run pytest, stop it; returns pytest's first status that is not zero."""
    var = Path(os.environ["CADREL_VAR"])
    port = next((p for p in range(8472, 8500) if is_free(p)), None)
    try:
        if port is None:
            raise CannotStart("no port from 8472 to 8499 is free for the test database.")
        database = Postgres(var, port=port, name="test")
        database.remove()
        database.start()
    except CannotStart as error:
        print(f"cadrel: {error}", file=sys.stderr)
        return 2
    os.environ.update(environment(database, web=8473, bench=8474, live=8475))
    try:
        ended = run(goes(sys.argv[1:], len(os.sched_getaffinity(0))), var / "test-beside")
    finally:
        database.remove()
    return next((status for status in ended if status), 0)


if __name__ == "__main__":
    sys.exit(main())
