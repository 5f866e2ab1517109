"""Commission an axis from a file against a bench built from a file, without web and database."""

import json
import sys
import time
from pathlib import Path

from cadrel.bench import DriveService
from cadrel.core.axis import missing_entries, understand
from cadrel.core.errors import CadrelError
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.exchange import FileProblem, read_axis, read_rig, result_document
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures.route import RouteResult, run_route

EXIT = {"proven": 0, "refused": 3, "failed": 4}
UNUSABLE = 2


def commission(axis: Path, rig: Path, out: Path, *, seed: int, quiet: bool = False, here: float | None = None) -> int:
    """Run the whole route and write RESULT.json. Exit status 0 proven, 3 refused, 4 failed, 2 unusable input.

    `here` is where the axis stands when it begins, in the axis's unit; without it, at zero.
    """
    try:
        values = read_axis(axis.read_bytes(), name=str(axis)).values
        truth = RigTruth.from_dict(read_rig(rig.read_bytes(), name=str(rig)))
        missing = missing_entries(values)
        if missing:
            raise FileProblem(name=str(axis), where="values", why=f"these are missing: {', '.join(missing)}.")
        understand(values)
    except OSError as error:
        print(f"{error.filename} cannot be read: {error.strerror}.", file=sys.stderr)
        return UNUSABLE
    except CadrelError as error:
        print(error.text, file=sys.stderr)
        return UNUSABLE

    def report(phase: str, share: float) -> None:
        if not quiet:
            print(f"{100 * share:3.0f} %  {phase}", file=sys.stderr)

    begun = time.perf_counter()
    result, drive = commission_in_process(values, truth, seed=seed, report=report, here=here)
    document = result_document(
        status=result.status,
        reason=result.reason,
        outcomes=result.outcomes,
        parameters=result.parameters,
        events=result.events,
        drive_time=drive.time,
        compute_time=time.perf_counter() - begun,
    )
    try:
        out.write_text(json.dumps(document, indent=1, ensure_ascii=False, allow_nan=False) + "\n")
    except OSError as error:
        print(f"{out} cannot be written: {error.strerror}.", file=sys.stderr)
        return UNUSABLE
    print(f"{result.status}{': ' + result.reason if result.reason else ''}")
    return EXIT[result.status]


def commission_in_process(
    values: dict[str, Entry], truth: RigTruth, *, seed: int, report: object = None, here: float | None = None
) -> tuple[RouteResult, SimulatedDrive]:
    """Build the bench in this process and run the route over the same wire format, without a socket."""
    drive = SimulatedDrive("axis", truth, seed=seed)
    service = DriveService({"axis": drive})
    link = LocalLink(service.answer, service.advance)
    say = report if callable(report) else lambda phase, share: None
    axis, linked = understand(values), LinkedDrive(link, "axis")
    start = None if here is None else here / axis.mechanism.unit_per_rad
    return run_route(linked, axis, values, report=say, start=start), drive
