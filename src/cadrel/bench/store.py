"""What the stand-in keeps through power-off: one JSON file of permanent values per axis."""

import json
import os
from pathlib import Path

from cadrel.core.parameters import DRIVE_KEYS
from cadrel.core.simulation import SimulatedDrive


def load_permanent(drive: SimulatedDrive, folder: Path) -> None:
    """Give a drive what it had stored; a missing or broken file leaves factory values."""
    try:
        held = json.loads((folder / f"{drive.name}.json").read_text())
    except (OSError, ValueError):
        return
    drive.memory.permanent.update({k: float(v) for k, v in held.items() if k in DRIVE_KEYS})
    drive.power_switch(False)
    drive.power_switch(True)


def save_permanent(drive: SimulatedDrive, folder: Path, values: dict[str, float] | None = None) -> None:
    """Write permanent values, whole or not at all: what it held, unless others are given. Raises `OSError`."""
    folder.mkdir(parents=True, exist_ok=True)
    scratch = folder / f"{drive.name}.json.new"
    try:
        with scratch.open("w") as file:
            file.write(json.dumps(drive.memory.permanent if values is None else values, indent=1))
            file.flush()
            os.fsync(file.fileno())
        scratch.replace(folder / f"{drive.name}.json")
    except OSError:
        scratch.unlink(missing_ok=True)
        raise
