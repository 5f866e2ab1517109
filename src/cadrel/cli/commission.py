"""Commission an axis from a file against a bench built from a file, without web and database."""

import json
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

from cadrel.bench import DriveService
from cadrel.core.axis import missing_entries, understand
from cadrel.core.errors import CadrelError
from cadrel.core.parameters import Entry
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.exchange import FileProblem, read_axis, read_rig, result_document
from cadrel.link import LinkedDrive, LocalLink
from cadrel.procedures.route import RouteResult, run_route

A = TypeVar("A")
B = TypeVar("B")
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


@dataclass(slots=True)
class Cost:
    """Processor time of a route, all its threads together: however busy the machine is, it is about the same."""

    computing: float = 0.0  # [s] of the procedures
    standing_in: float = 0.0  # [s] of the drive that is simulated

    def of_drive(self, answer: Callable[[A], B]) -> Callable[[A], B]:
        """Return what the drive does, its time counted."""

        def counted(asked: A) -> B:
            begun = time.thread_time()
            try:
                return answer(asked)
            finally:
                self.standing_in += time.thread_time() - begun

        return counted


def commission_in_process(
    values: dict[str, Entry], truth: RigTruth, *, seed: int, report: object = None, here: float | None = None,
    cost: Cost | None = None,
) -> tuple[RouteResult, SimulatedDrive]:  # fmt: skip
    """Build the bench in this process and run the route over the same wire format, without a socket.

    What it takes of the processor is added to the `cost`.
    """
    cost = cost or Cost()
    begun, stood_in = time.process_time(), cost.standing_in
    drive = SimulatedDrive("axis", truth, seed=seed)
    service = DriveService({"axis": drive})
    link = LocalLink(cost.of_drive(service.answer), cost.of_drive(service.advance))
    say = report if callable(report) else lambda phase, share: None
    axis, linked = understand(values), LinkedDrive(link, "axis")
    start = None if here is None else here / axis.mechanism.unit_per_rad
    result = run_route(linked, axis, values, report=say, start=start)
    cost.computing += time.process_time() - begun - (cost.standing_in - stood_in)
    return result, drive
