"""bin/demo: load the demonstration once, start everything, stop it all on Ctrl-C."""

import argparse
import os
import shutil
import signal
import sys
import time
from pathlib import Path
from types import FrameType

from cadrel.cli.services import CannotStart, is_free, require_free
from cadrel.cli.stack import Stack

CHILDREN_END = 8.0  # [s]
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
        "live": int(os.environ.get("CADREL_LIVE_PORT", "8463")),
    }
    for number in (signal.SIGTERM, signal.SIGINT):  # a shell that starts it in the background ignores the latter
        signal.signal(number, _as_interrupt)
    stack: Stack | None = None
    try:
        stack = Stack(
            var, name="demo", web=ports["web"], bench=ports["bench"], database=ports["db"], live=ports["live"], say=_say
        )
        left = stack.postgres.pid is not None  # by a supervisor that was killed: its database is taken over
        _await_children(ports, left)
        require_free({what: port for what, port in ports.items() if not (left and what == "db")})
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
            stack.look_after()
            time.sleep(0.2)
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


def _say(text: str) -> None:
    print(f"cadrel: {text}", flush=True)


def _await_children(ports: dict[str, int], left: bool) -> None:
    """Wait a moment for children of a killed supervisor: they end with it, but not in no time."""
    until = time.monotonic() + CHILDREN_END
    while left and time.monotonic() < until and not all(is_free(ports[k]) for k in ("web", "bench", "live")):
        time.sleep(0.1)


def _as_interrupt(number: int, frame: FrameType | None) -> None:
    raise KeyboardInterrupt


def _welcome(port: int, seconds: float) -> None:
    print(f"\nCadrel is at http://127.0.0.1:{port}/  (started in {seconds:.1f} s; Ctrl-C stops it)\n")
    for name, password, role in LOGINS:
        print(f"  {role:14} {name:6} {password}")
    print()


if __name__ == "__main__":
    sys.exit(main())
