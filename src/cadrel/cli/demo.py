"""bin/demo: load the demonstration once, start everything, stop it all on Ctrl-C."""

import argparse
import os
import shutil
import signal
import sys
import time
from pathlib import Path
from types import FrameType

from cadrel.cli.services import CannotStart, require_free
from cadrel.cli.stack import Stack

LOGINS = (
    ("enno", "glaze-and-fire", "engineer"),
    ("vera", "look-only-please", "observer"),
    ("amir", "keys-of-the-line", "administrator"),
)


def main() -> int:
    """Run the demonstration until Ctrl-C; returns the exit status."""
    parser = argparse.ArgumentParser(prog="bin/demo")
    parser.add_argument("--reset", action="store_true", help="throw the demonstration's data away and start over")
    arguments = parser.parse_args()
    var = Path(os.environ["CADREL_VAR"])
    ports = {
        "web": int(os.environ.get("CADREL_WEB_PORT", "8460")),
        "bench": int(os.environ.get("CADREL_BENCH_PORT", "8461")),
        "db": int(os.environ.get("CADREL_DB_PORT", "8462")),
    }
    for number in (signal.SIGTERM, signal.SIGINT):  # a shell that starts it in the background ignores the latter
        signal.signal(number, _as_interrupt)
    stack: Stack | None = None
    try:
        require_free(ports)
        stack = Stack(var, name="demo", web=ports["web"], bench=ports["bench"], database=ports["db"])
        if arguments.reset:
            stack.postgres.remove()
            shutil.rmtree(var / "bench-demo", ignore_errors=True)
        begun = time.monotonic()
        stack.start_database()
        from cadrel.cli.scenario import load_scenario

        load_scenario(var / "bench-demo", bench_port=ports["bench"], logins=LOGINS)
        stack.start_processes()
        _welcome(ports["web"], time.monotonic() - begun)
        while True:
            stack.children.revive()
            time.sleep(0.3)
    except CannotStart as error:
        print(f"cadrel: {error}", file=sys.stderr)
        return 2
    except KeyboardInterrupt:
        print("\nstopping ...")
        return 0
    finally:
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, signal.SIG_IGN)
        if stack is not None:
            stack.stop()


def _as_interrupt(number: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


def _welcome(port: int, seconds: float) -> None:
    print(f"\nCadrel is at http://127.0.0.1:{port}/  (started in {seconds:.1f} s; Ctrl-C stops it)\n")
    for name, password, role in LOGINS:
        print(f"  {role:14} {name:6} {password}")
    print()


if __name__ == "__main__":
    sys.exit(main())
