"""bin/test's second half: PostgreSQL on loopback, then pytest with the arguments given."""

import os
import subprocess
import sys
from pathlib import Path

from cadrel.cli.services import CannotStart, Postgres, environment, is_free
from cadrel.cli.stack import ROOT


def main() -> int:
    """Start a database of its own, run pytest, stop it; returns pytest's status."""
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
    os.environ.update(environment(database, web=8473, bench=8474))
    try:
        return subprocess.call([sys.executable, "-m", "pytest", *sys.argv[1:]], cwd=ROOT)
    finally:
        database.remove()


if __name__ == "__main__":
    sys.exit(main())
