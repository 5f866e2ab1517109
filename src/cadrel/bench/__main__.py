"""Run the bench: `python -m cadrel.bench --port N name=RIG.json ...`."""

import argparse
import json
import os
import signal
import sys
import threading
from pathlib import Path
from types import FrameType

from cadrel.bench.server import BenchServer
from cadrel.bench.service import DriveService
from cadrel.bench.store import load_permanent, save_permanent
from cadrel.core.errors import CadrelError
from cadrel.core.simulation import RigTruth, SimulatedDrive


def main() -> int:
    """Serve the rigs named on the command line until told to end."""
    parser = argparse.ArgumentParser(prog="cadrel.bench")
    parser.add_argument("rigs", nargs="+", metavar="NAME=RIG.json")
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--pace", type=float, default=1.0, help="drive seconds per second")
    parser.add_argument("--memory", type=Path, help="folder that keeps permanent values")
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    drives = {}
    for k, item in enumerate(arguments.rigs):
        name, _, path = item.partition("=")
        try:
            body = json.loads(Path(path).read_text())
            drives[name] = SimulatedDrive(name, RigTruth.from_dict(body["truth"]), seed=arguments.seed + k)
        except (OSError, ValueError, KeyError, CadrelError) as error:
            print(f"The rig {path} cannot be used: {error}", file=sys.stderr)
            return 2
    folder: Path | None = arguments.memory
    if folder is not None:
        for drive in drives.values():
            load_permanent(drive, folder)
    keep = (lambda drive, values: save_permanent(drive, folder, values)) if folder is not None else None
    secret = os.environ.get("CADREL_LINK_SECRET", "")
    try:
        server = BenchServer(DriveService(drives, keep=keep, secret=secret), arguments.port, pace=arguments.pace)
    except OSError as error:
        print(f"The bench cannot listen on port {arguments.port}: {error.strerror}.", file=sys.stderr)
        return 2

    def end(number: int, frame: FrameType | None) -> None:
        threading.Thread(target=server.shutdown).start()

    signal.signal(signal.SIGTERM, end)
    signal.signal(signal.SIGINT, end)
    print(f"bench: {', '.join(drives)} on 127.0.0.1:{arguments.port}", flush=True)
    server.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
