"""The worker's sign of life to its drives, from a process of its own.

A procedure computes, waits for a database, shares two cores with a browser: its own calls come late on a busy machine,
and a drive that hears nothing must stop. So a small process beats for it, every 100 ms, as long as all of this holds:
the worker lives and is not frozen, and the procedure itself has spoken to its drive within `SILENT`. It ends with the
worker, however that ends.

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
SILENT = 5.0  # [s] without a word of the procedure to its drive: it hangs, and nothing beats for it any more
ANSWER = 0.4  # [s] a beat waits for its answer
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
        """Start the process, so that it is there before the first run needs it."""
        with self._lock:
            self._tell({})

    def close(self) -> None:
        """End the process."""
        with self._lock:
            if self._process is not None and self._process.stdin is not None:
                with contextlib.suppress(OSError):
                    self._process.stdin.close()
                with contextlib.suppress(subprocess.TimeoutExpired):
                    self._process.wait(timeout=2)
            self._process = None

    def _tell(self, line: dict[str, Any]) -> None:
        lines = [line]
        if self._process is None or self._process.poll() is not None:
            if self._process is not None and self._process.stdin is not None:
                with contextlib.suppress(OSError):
                    self._process.stdin.close()
            self._process = subprocess.Popen([sys.executable, "-m", "cadrel.link.heart"], stdin=subprocess.PIPE)
            lines = [{"run": run, **_fields(p)} for run, p in self._patients.items()]
        stdin = self._process.stdin
        assert stdin is not None
        with contextlib.suppress(OSError):  # it died just now; the next word starts another
            stdin.write(b"".join(json.dumps(one).encode() + b"\n" for one in lines))
            stdin.flush()


def _fields(patient: Patient) -> dict[str, Any]:
    return {name: getattr(patient, name) for name in Patient.__slots__}


@dataclass(slots=True)
class _Beating:
    """One run: its thread goes on until it is told to end."""

    patient: Patient
    spoken: float
    ended: threading.Event = field(default_factory=threading.Event)


def main(lines: IO[bytes] | None = None) -> int:
    """Beat for every run named on standard input, until that closes."""
    worker = os.getppid()
    with contextlib.suppress(OSError):
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != worker:
        return 0  # the worker died before the line above
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
                beating[run].spoken = time.monotonic()
        else:
            beating[run] = one = _Beating(Patient(**told), time.monotonic())
            threading.Thread(target=_beat, args=(one, worker), daemon=True).start()
    return 0


def _beat(one: _Beating, worker: int) -> None:
    p = one.patient
    link = TcpLink(p.host, p.port, timeout=ANSWER, secret=p.secret)
    words = {"axis": p.axis, "lease": p.lease, "consent": p.consent}
    while not one.ended.wait(BEAT):
        if time.monotonic() - one.spoken > SILENT or not _is_running(worker):
            continue
        with contextlib.suppress(LinkError):  # the procedure meets the same line, and says what is wrong with it
            link.call("control.beat", words)
    link.close()


def _is_running(worker: int) -> bool:
    """Whether a process is there and not frozen. From /proc, as signals tell neither."""
    try:
        state = Path(f"/proc/{worker}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return False
    return state not in ("T", "t", "Z", "X")


if __name__ == "__main__":
    sys.exit(main())
