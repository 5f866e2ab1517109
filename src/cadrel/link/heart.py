"""The worker's sign of life to its drives, from a process of its own.

A procedure computes, waits for a database, shares two cores with a browser: its own calls come late on a busy machine,
and a drive that hears nothing must stop. So a small process beats for it, every 100 ms, as long as all of this holds:
the worker lives and is not frozen, and the procedure itself has spoken to its drive within `SILENT` of time in which it
could have: a worker that wants to compute and is given no processor hangs no more than its machine does. It ends with
the worker, however that ends.

    Heart      the worker's end: begin(...), spoke(...), end(...)
    main       the process: one JSON line each on its standard input
"""

import contextlib
import ctypes
import json
import os
import signal
import subprocess
import sys
import threading
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

from cadrel.link.client import TcpLink
from cadrel.link.errors import LinkError

BEAT = 0.1  # [s] between beats; the drive waits 650 ms for the next one
SILENT = 5.0  # [s] a procedure could have spoken to its drive and did not: it hangs, and nothing beats for it any more
ANSWER = 0.4  # [s] a beat waits for its answer
ENDS = 5.0  # [s] the process has for its end, before it is killed
SPEAKS = 0.5  # [s] between two notes that the procedure spoke: each would be a write to a pipe
PR_SET_PDEATHSIG = 1  # prctl(2)


@dataclass(frozen=True, slots=True, kw_only=True)
class Patient:
    """What the heart beats for: a drive's axis, the lease, the consent to the run."""

    host: str
    port: int
    secret: str
    axis: str
    lease: str
    consent: str


class Heart:
    """The worker's end. One process for all of a worker's runs; started again if it dies."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._patients: dict[str, Patient] = {}
        self._spoken: dict[str, float] = {}
        self._lock = threading.Lock()

    def begin(self, run: str, patient: Patient) -> None:
        """Beat for a run from now on."""
        with self._lock:
            self._patients[run] = patient
            self._tell({"run": run, **_fields(patient)})

    def spoke(self, run: str) -> None:
        """Note that the procedure has just spoken to its drive."""
        now = time.monotonic()
        if now - self._spoken.get(run, 0.0) < SPEAKS:
            return
        self._spoken[run] = now
        with self._lock:
            if run in self._patients:
                self._tell({"run": run, "spoke": True})

    def end(self, run: str) -> None:
        """Beat for it no more."""
        with self._lock:
            self._patients.pop(run, None)
            self._spoken.pop(run, None)
            self._tell({"run": run, "end": True})

    def start(self) -> None:
        """Start the process and wait until it can beat, so that it is there before the first run needs it."""
        with self._lock:
            if self._process is None:
                self._tell({})
                assert self._process is not None and self._process.stdout is not None
                self._process.stdout.readline()

    def close(self) -> None:
        """End the process."""
        with self._lock:
            if self._process is not None:
                self._hang_up(self._process)
                try:
                    self._process.wait(timeout=ENDS)
                except subprocess.TimeoutExpired:
                    self._process.kill()
                    self._process.wait()
            self._process = None

    def _tell(self, line: dict[str, Any]) -> None:
        lines = [line]
        if self._process is None or self._process.poll() is not None:
            if self._process is not None:
                self._hang_up(self._process)
            command = [sys.executable, "-m", "cadrel.link.heart"]
            self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
            lines = [{"run": run, **_fields(p)} for run, p in self._patients.items()]
        stdin = self._process.stdin
        assert stdin is not None
        with contextlib.suppress(OSError):  # it died just now; the next word starts another
            stdin.write(b"".join(json.dumps(one).encode() + b"\n" for one in lines))
            stdin.flush()

    @staticmethod
    def _hang_up(process: "subprocess.Popen[bytes]") -> None:
        for end in (process.stdin, process.stdout):
            assert end is not None
            with contextlib.suppress(OSError):
                end.close()


def _fields(patient: Patient) -> dict[str, Any]:
    return {name: getattr(patient, name) for name in Patient.__slots__}


@dataclass(slots=True)
class _Beating:
    """One run: its thread goes on until it is told to end."""

    patient: Patient
    spoken: threading.Event = field(default_factory=threading.Event)
    ended: threading.Event = field(default_factory=threading.Event)


@dataclass(frozen=True, slots=True)
class Sight:
    """What is seen of a process: when, whether it runs, the processor time [s] it had, and whether it wants more."""

    at: float
    runs: bool
    computed: float
    wants: bool

    @classmethod
    def of(cls, pid: int) -> "Sight":
        """Look at a process. From /proc, as signals tell none of it; one that is gone does not run."""
        try:
            state, *rest = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
            computed = (int(rest[10]) + int(rest[11])) / os.sysconf("SC_CLK_TCK")  # user's and system's, proc(5)
        except OSError:
            return cls(time.monotonic(), False, 0.0, False)
        return cls(time.monotonic(), state not in ("T", "t", "Z", "X"), computed, _wants_to_compute(pid))

    def could_speak(self, before: "Sight") -> float:
        """Return for how long [s] the process could have spoken since it was seen before."""
        elapsed = self.at - before.at
        return min(elapsed, self.computed - before.computed) if self.wants else elapsed


def _wants_to_compute(pid: int) -> bool:
    """Whether a thread of a process is ready to run, or waits for its memory to be brought in."""
    for thread in Path(f"/proc/{pid}/task").glob("*/stat"):
        with contextlib.suppress(OSError):
            if thread.read_text().rpartition(")")[2].split()[0] in ("R", "D"):
                return True
    return False


def main(lines: IO[bytes] | None = None) -> int:
    """Beat for every run named on standard input, until that closes."""
    worker = os.getppid()
    with contextlib.suppress(OSError):
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != worker:
        return 0  # the worker died before the line above
    with contextlib.suppress(BrokenPipeError):
        print("ready", flush=True)
    beating: dict[str, _Beating] = {}
    for line in lines or sys.stdin.buffer:
        told = json.loads(line)
        run = told.pop("run", None)
        if run is None:
            continue
        if told.pop("end", False):
            if one := beating.pop(run, None):
                one.ended.set()
        elif told.pop("spoke", False):
            if run in beating:
                beating[run].spoken.set()
        else:
            beating[run] = one = _Beating(Patient(**told))
            threading.Thread(target=_beat, args=(one, worker), daemon=True).start()
    return 0


def _beat(one: _Beating, worker: int) -> None:
    p = one.patient
    link = TcpLink(p.host, p.port, timeout=ANSWER, secret=p.secret)
    words = {"axis": p.axis, "lease": p.lease, "consent": p.consent}
    seen, silent = Sight.of(worker), 0.0
    while not one.ended.wait(BEAT):
        before, seen = seen, Sight.of(worker)
        silent += seen.could_speak(before)
        if one.spoken.is_set():
            one.spoken.clear()
            silent = 0.0
        if silent > SILENT or not seen.runs:
            continue
        with contextlib.suppress(LinkError):  # the procedure meets the same line, and says what is wrong with it
            link.call("control.beat", words)
    link.close()


if __name__ == "__main__":
    sys.exit(main())
