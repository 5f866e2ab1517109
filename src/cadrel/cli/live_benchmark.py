"""bin/cadrel benchmark live and busy: many who look on, and a machine that has other things to do."""

import contextlib
import multiprocessing
import statistics
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

from cadrel.cli.faults.episode import AXIS, REMOTE, Episode
from cadrel.cli.faults.rigged import OBSERVER, PARTS, Rigged
from cadrel.cli.page_client import PageClient, Stream

ENGINEERS, OBSERVERS = 5, 50
PAGES = ("motor", "drive", "velocity", "acceptance", "handover")
EVERY = 20.0  # [s] between two pages of one user; the streams are there all the time
SOAK = 300.0  # [s] from which on memory is judged: before, processes are still warming up
BURNERS = 18  # busy processes beside the application
PROCEDURES = 20  # begun while the machine is busy
MIB = 1 << 20


@contextlib.contextmanager
def running() -> Iterator[Rigged]:
    """The whole application, in a folder of its own."""
    with tempfile.TemporaryDirectory(prefix="cadrel-live-") as folder:
        rigged = Rigged(Path(folder))
        rigged.start()
        try:
            yield rigged
        finally:
            rigged.stop()


class Visitor(threading.Thread):
    """A user who opens a page now and then, and keeps its stream open all the time."""

    def __init__(self, client: PageClient, number: int) -> None:
        super().__init__(daemon=True)
        self.client, self.number = client, number
        self.times: list[float] = []
        self.of_page: list[tuple[str, float]] = []
        self.failed = 0
        self.over = threading.Event()
        self.stream: Stream = client.stream(AXIS, f"visitor{number}")

    def run(self) -> None:
        """Look at one page after the other."""
        self.over.wait(self.number * EVERY / (ENGINEERS + OBSERVERS))  # each comes at a moment of its own
        while not self.over.is_set():
            for page in PAGES:
                begun = time.monotonic()
                status, _ = self.client.get(f"/axis/{AXIS}/{page}/")
                self.times.append(time.monotonic() - begun)
                self.of_page.append((page, self.times[-1]))
                self.failed += status != 200
                if self.over.wait(EVERY):
                    break
        self.stream.close()


def live(*, seconds: float) -> int:
    """5 engineers and 50 observers look on while moves run; prints every figure, returns the exit status."""
    with running() as rigged:
        engineer = rigged.client()
        episode = Episode(rigged, engineer)
        episode.make_ready()
        clients = [engineer] * ENGINEERS + [rigged.client(OBSERVER) for _ in range(2)] * (OBSERVERS // 2)
        visitors = [Visitor(client, k) for k, client in enumerate(clients)]
        for visitor in visitors:
            visitor.start()
        until, stops, memory, connections = time.monotonic() + seconds, [], [], []
        moves = Moves(episode)
        moves.start()
        time.sleep(5.0)
        for visitor in visitors:
            visitor.stream.arrived.clear()
        begun = time.monotonic()
        while time.monotonic() < until:
            time.sleep(min(5.0, max(until - time.monotonic(), 0.1)))
            memory.append(_memory(rigged))
            connections.append(
                int(str(rigged.query("SELECT count(*) FROM pg_stat_activity WHERE datname='cadrel'")[0][0]))
            )
            if len(memory) % 3 == 0:
                took, answer = engineer.stop()
                stops.append(took if not answer["unreached"] else 99.0)
        moves.over.set()
        rates = [len(v.stream.arrived) / (time.monotonic() - begun) for v in visitors]
        for visitor in visitors:
            visitor.over.set()
        times = [t for v in visitors for t in v.times]
        p95 = statistics.quantiles(times, n=20)[-1]
        print(f"{ENGINEERS} + {OBSERVERS} look on, moves running, {seconds:.0f} s")
        median = statistics.median(times)
        _tell("updates a second, slowest of all", f"{min(rates):.1f}, wanted 8")
        _tell("pages, median and 95th percentile", f"{1e3 * median:.0f}, {1e3 * p95:.0f} ms, wanted 300 ms")
        for page in PAGES:
            own = [t for v in visitors for name, t in v.of_page if name == page]
            if len(own) > 1:
                slow = statistics.quantiles(own, n=20)[-1]
                _tell(f"  of the {page} page", f"{1e3 * statistics.median(own):.0f}, {1e3 * slow:.0f} ms")
        _tell("pages that failed", f"{sum(v.failed for v in visitors)} of {len(times)}")
        _tell(f"STOP answered, slowest of {len(stops)}", f"{1e3 * max(stops):.0f} ms, wanted 200 ms")
        _tell("database connections, most", str(max(connections)))
        flat = True
        for part in PARTS:
            early = statistics.median(m[part] for m in memory[len(memory) // 4 : len(memory) // 2] or memory)
            late = statistics.median(m[part] for m in memory[3 * len(memory) // 4 :] or memory)
            flat = flat and (late <= 1.05 * early or seconds < SOAK)
            growth = f"{early / MIB:.1f}, {late / MIB:.1f} MiB, {100 * (late / early - 1):+.1f} %"
            _tell(f"memory of the {part}, second and last quarter", growth)
        moves.join(timeout=20)
        _tell("runs begun meanwhile", str(moves.begun))
        good = min(rates) >= 8 and p95 < 0.3 and max(stops) < 0.2 and flat
        print("all as wanted" if good else "NOT all as wanted")
        return 0 if good else 1


class Moves(threading.Thread):
    """Starts the acceptance moves again whenever they have ended."""

    def __init__(self, episode: Episode) -> None:
        super().__init__(daemon=True)
        self.episode, self.over, self.begun = episode, threading.Event(), 0

    def run(self) -> None:
        """Until told to end."""
        drive, client = self.episode.rigged.drive(REMOTE), self.episode.client
        while not self.over.wait(0.5):
            if drive.status()["consent"] is None:
                client.get(f"/axis/{AXIS}/acceptance/")
                status, _ = client.post(f"/axis/{AXIS}/start/acceptance/", {"consent": "1"})
                self.begun += status == 302


def _tell(what: str, figures: str) -> None:
    print(f"{what:46} {figures}")


def _memory(rigged: Rigged) -> dict[str, int]:
    found = {}
    for part in PARTS:
        lines = Path(f"/proc/{rigged.pid(part)}/status").read_text().splitlines()
        found[part] = 1024 * next(int(line.split()[1]) for line in lines if line.startswith("VmRSS"))
    return found


def busy(*, seconds: float) -> int:
    """Procedures and pages while every core has other work; prints every figure, returns the exit status."""
    with running() as rigged:
        client = rigged.client()
        episode = Episode(rigged, client)
        episode.make_ready()
        burners = [multiprocessing.Process(target=_burn, args=(seconds + 300.0,), daemon=True) for _ in range(BURNERS)]
        for burner in burners:
            burner.start()
        begun = time.monotonic()
        ended: list[tuple[str, str, str]] = []
        pages: list[float] = []
        try:
            order = ("acceptance", "velocity", "position", "commutation", "current", "load")
            while len(ended) < PROCEDURES or time.monotonic() - begun < seconds:
                name = order[len(ended) % len(order)]
                episode.make_ready()
                episode.home()
                client.post(f"/axis/{AXIS}/start/{name}/", {"consent": "1"})
                state = "queued"
                while state in ("queued", "running"):
                    asked = time.monotonic()
                    client.get(f"/axis/{AXIS}/{name}/")
                    pages.append(time.monotonic() - asked)
                    rows = rigged.query("SELECT state, happened FROM jobs_job ORDER BY id DESC LIMIT 1")
                    state = str(rows[0][0])
                    time.sleep(0.5)
                ended.append((name, state, str(rows[0][1])))
                print(f"{len(ended):3d} {name:12} {state:12} {rows[0][1]}", flush=True)
            jogs = [_jog(episode) for _ in range(5)]
        finally:
            for burner in burners:
                burner.terminate()
        lost = [e for e in ended if e[1] == "interrupted" or "connection lost" in e[2] or "nobody watched" in e[2]]
        print(f"{BURNERS} busy processes, {time.monotonic() - begun:.0f} s")
        _tell("runs ended for want of contact", f"{len(lost)} of {len(ended)}, wanted 0")
        _tell("pages, median and slowest", f"{statistics.median(pages):.2f}, {max(pages):.2f} s, wanted 2 s")
        _tell(f"held jog to standstill, slowest of {len(jogs)}", f"{1e3 * max(jogs):.0f} ms of drive time, wanted 200")
        good = not lost and max(pages) < 2.0 and max(jogs) <= 0.2
        print("all as wanted" if good else "NOT all as wanted")
        return 0 if good else 1


def _jog(episode: Episode) -> float:
    """Hold a jog, let go by going away, and return the drive's own time to standstill. [s]"""
    episode.make_ready()
    since = episode.drive.status()["events"]
    jogging = episode._begin("jog")
    assert jogging is not None
    jogging.over.set()
    until = time.monotonic() + 20
    while time.monotonic() < until:
        ended = [e for e in episode.drive.events(since) if e["kind"] == "jog_ended"]
        if ended:
            return float(ended[-1]["facts"]["after"])
        time.sleep(0.02)
    return 99.0


def _burn(seconds: float) -> None:
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        sum(k * k for k in range(20_000))
