"""One fault in one situation: how long the axis moved, what the page said beside what was so, what was lost."""

import contextlib
import os
import secrets
import signal
import threading
import time
from collections import deque
from dataclasses import dataclass, field
from typing import Any

import psycopg

from cadrel.cli.faults.faults import Fault
from cadrel.cli.faults.rigged import Rigged
from cadrel.cli.page_client import PageClient, Stream
from cadrel.link import LinkedDrive, LinkError
from cadrel.link.stand_in import StandIn

AXIS, REMOTE = 1, "tile-pusher"
STILL = 1.0  # [rad/s] of the motor: below, it stands
AFTER = 1.0  # [s] of drive time beyond the limit that it must stay at rest
AROUND = 0.15  # [s] of drive time around a look at which the page's words are held against the drive
ABORTED = ("commutation", "current", "load", "velocity")  # long ones: seen to go on, then aborted, which must work too
GOES_ON = 4.0  # [s] such a run is watched after the fault
BEAT = 0.035  # [s] as the page's held button
LAG = 1.0  # [s] the page may be behind the drive
BACK = 10.0  # [s] from the end of a fault until one can move the axis again
LONG = 75.0  # [s] until a run that goes on must have ended
CLAIMS_OFF = ("Power stage off",)


@dataclass(slots=True)
class Seen:
    """What one episode showed."""

    fault: Fault
    situation: str
    standstill: float | None = None  # [s] of drive time from the fault
    limit: float | None = None
    false: list[str] = field(default_factory=list)
    lost: list[str] = field(default_factory=list)
    back: float | None = None  # [s]
    stop: float | None = None  # [s] until STOP was answered while the fault lasted
    ended: str = ""
    said: str = ""

    @property
    def is_good(self) -> bool:
        """Whether everything wanted holds."""
        in_time = self.limit is None or (self.standstill is not None and self.standstill <= self.limit)
        return in_time and not self.false and not self.lost and self.back is not None and self.back <= BACK


class Jogging(threading.Thread):
    """A held button."""

    def __init__(self, client: PageClient) -> None:
        super().__init__(daemon=True)
        self.client, self.over = client, threading.Event()

    def run(self) -> None:
        """Beat until let go; the drive's window sets the direction."""
        way, turned, holder = 1, time.monotonic(), secrets.token_hex(8)
        while not self.over.wait(BEAT):
            if time.monotonic() - turned > 0.5:
                self.client.post(f"/axis/{AXIS}/jog/", {"share": "0", "holder": holder})
                # As the page does: every press has a name of its own, what still arrives of the last is not obeyed.
                way, turned, holder = -way, time.monotonic(), secrets.token_hex(8)
            self.client.post(f"/axis/{AXIS}/jog/", {"share": str(0.05 * way), "holder": holder})


class Episode:
    """Prepares, does harm, watches, judges, goes on."""

    def __init__(self, rigged: Rigged, client: PageClient) -> None:
        self.rigged, self.client = rigged, client
        self.drive: LinkedDrive = rigged.drive(REMOTE)
        self.tab = f"evidence{os.getpid()}"
        self.stream: Stream = client.stream(AXIS, self.tab)

    def close(self) -> None:
        """The page goes."""
        self.stream.close()

    # --- before -------------------------------------------------------------------------------------------------

    def make_ready(self) -> None:
        """Connected, led, values sent, no fault, power off. Raises `RuntimeError` if that cannot be had."""
        until = time.monotonic() + 40
        while True:
            problem = self._try_ready()
            if not problem:
                return
            if time.monotonic() > until:
                raise RuntimeError(f"the axis cannot be made ready: {problem}")
            time.sleep(0.2)

    def _try_ready(self) -> str:
        c = self.client
        try:
            status = self.drive.status()
        except LinkError as error:
            return str(error)
        for what in ("connect", "take", "reset", "disable", "send"):
            code, said = c.post(f"/axis/{AXIS}/do/{what}/", {"force": "1", "next": f"/axis/{AXIS}/drive/"})
            if code != 302:
                return f"{what}: {code} {said[:80]}"
        if status["restart_needed"] or status["not_stored"]:
            for what in ("store", "restart"):
                c.post(f"/axis/{AXIS}/do/{what}/", {})
        status = self.drive.status()
        jobs = self.rigged.query(
            f"SELECT count(*) FROM jobs_job WHERE axis_id = {AXIS} AND state IN ('queued','running')"
        )
        if jobs[0][0]:
            c.get(f"/axis/{AXIS}/load/")  # a page that looks settles what is left
            return "a run is still active"
        heard = self.rigged.query("SELECT count(*) FROM jobs_workersign WHERE heard > now() - interval '3 seconds'")
        if not heard[0][0]:
            return "no worker is there"
        hard = [b["text"] for b in status["blockers"]]
        return " ".join(hard) if hard or status["mode"] != "off" else ""

    def home(self) -> None:
        """Bring the axis near the middle of its travel with the stand-in's hand, so that every run has room."""
        for _ in range(12):
            here = self.drive.status()["position"]
            if abs(here) < 20.0:
                return
            with contextlib.suppress(LinkError):
                StandIn(self.drive.link, REMOTE).turn_by_hand(max(-25.0, min(25.0, -here)), 1.2)
            time.sleep(1.4)

    # --- the episode --------------------------------------------------------------------------------------------

    def run(self, fault: Fault, situation: str, *, delay: float) -> Seen:
        """One fault, `delay` seconds after the situation has begun."""
        seen = Seen(fault, situation, limit=fault.stops(situation))
        self.make_ready()
        self.home()
        runs = self._runs()
        jogging = self._begin(situation)
        time.sleep(delay)
        marks = self._mark()
        watching = Watching(self, marks)
        watching.start()
        self._harm(fault, seen)
        if fault.means != "close" and fault.part not in ("stand-in",):
            seen.stop = None
        seen.standstill = None if seen.limit is None else watching.standstill(seen.limit)
        if jogging:
            jogging.over.set()
            jogging.join(timeout=12)
        self._mend(fault)
        begun = time.monotonic()
        if situation != "jog":
            self._await_end(seen, goes_on=fault.stops_run is None)
        watching.over.set()
        watching.join(timeout=5)
        seen.false += watching.false
        seen.said = watching.said
        after = self._runs()
        seen.lost += [f"run {n} is gone" for n in runs if n not in after]
        begun = time.monotonic() if seen.limit is None else begun
        try:
            self.make_ready()
            seen.back = time.monotonic() - begun
        except RuntimeError as error:
            seen.lost.append(str(error)[:160])
        return seen

    def _begin(self, situation: str) -> Jogging | None:
        c = self.client
        if situation == "jog":
            made = Jogging(c)
            made.start()
            self._until(self._jogs, "the jog did not begin")
            return made
        if situation == "position":
            self._identify()
        c.post(f"/axis/{AXIS}/start/{situation}/", {"consent": "1"})
        if situation == "feedback":
            self._until(lambda s: s["consent"] is not None, "the run did not begin")
            StandIn(self.drive.link, REMOTE).turn_by_hand(6.28, 3.0)
            return None
        self._until(lambda s: s["mode"] != "off", "the run did not begin")
        return None

    def _identify(self) -> None:
        """Have the load identified anew where a load run that came to its end has retired it."""
        found = self.rigged.query(
            f"SELECT count(*) FROM runs_plantpart WHERE axis_id={AXIS} AND part='springy' AND retired_because=''"
        )
        if int(str(found[0][0])):
            return
        self.client.post(f"/axis/{AXIS}/start/velocity/", {"consent": "1"})
        self._until(lambda s: s["consent"] is not None, "the velocity run did not begin")
        until = time.monotonic() + 180
        while self.drive.status()["consent"] is not None and time.monotonic() < until:
            time.sleep(0.2)
        self.make_ready()
        self.home()

    def _jogs(self, status: dict[str, Any]) -> bool:
        """Whether the axis moves; as a user would, enable it where it is not, or not any more, before the fault."""
        if status["mode"] == "off":
            self.client.post(f"/axis/{AXIS}/do/enable_jog/", {"tab": self.tab})
        return abs(status["velocity"]) > 3.0

    def _until(self, is_so: Any, problem: str) -> None:
        until = time.monotonic() + 15
        while not is_so(self.drive.status()):
            if time.monotonic() > until:
                code, page = self.client.get(f"/axis/{AXIS}/load/")
                notice = page.partition('role="alert">')[2][:300]
                raise RuntimeError(f"{problem}: {code} {notice}")
            time.sleep(0.02)

    def _mark(self) -> dict[str, Any]:
        return self.drive.status()

    def _harm(self, fault: Fault, seen: Seen) -> None:
        rigged = self.rigged
        if fault.means == "close":
            self.stream.close()
        elif fault.means == "cut":
            rigged.cut_connections(fault.part)
        elif fault.means == "kill":
            os.kill(rigged.pid(fault.part), signal.SIGKILL)
        elif fault.means == "freeze":
            pid = rigged.pid(fault.part)
            os.kill(pid, signal.SIGSTOP)
            self._thaw = threading.Timer(fault.seconds, os.kill, (pid, signal.SIGCONT))
            self._thaw.start()

    def _mend(self, fault: Fault) -> None:
        """What the user would do: nothing, but open the page again, or start the demonstration again."""
        if fault.part == "supervisor":
            assert self.rigged.process is not None
            self.rigged.process.wait(timeout=10)
            self.rigged.start()
        if fault.means == "close":
            self.stream = self.client.stream(AXIS, self.tab)
        if fault.means == "freeze":
            self._thaw.join()

    def _await_end(self, seen: Seen, *, goes_on: bool) -> None:
        """Wait until the page says how the run ended, and compare with what the rows and the drive say."""
        begun, until, state, aborted = time.monotonic(), time.monotonic() + LONG, "", False
        while time.monotonic() < until:
            if goes_on and not aborted and seen.situation in ABORTED and time.monotonic() - begun > GOES_ON:
                aborted = self.client.post(f"/axis/{AXIS}/abort/", {})[0] == 302
                until = time.monotonic() + 10.0
            self.client.get(f"/axis/{AXIS}/{seen.situation}/")
            with contextlib.suppress(psycopg.Error):  # the database may be the part that is gone
                rows = self.rigged.query(
                    f"SELECT id, state, happened, means FROM jobs_job WHERE axis_id = {AXIS} ORDER BY id DESC LIMIT 1"
                )
                job, state = rows[0][0], str(rows[0][1])
                seen.said = f"{rows[0][2]} {rows[0][3]}".strip()
                if state not in ("queued", "running"):
                    break
            time.sleep(0.25)
        seen.ended = state
        if state in ("queued", "running"):
            seen.lost.append("the run never ended on the page")
            return
        with contextlib.suppress(LinkError):
            status = self.drive.status()
            run = status["consent"]
            if state == "interrupted" and run is not None and status["mode"] != "off":
                seen.false.append("called interrupted while the drive was still on it")
        if state == "done":
            found = self.rigged.query(
                f"SELECT count(*) FROM runs_run r JOIN jobs_job j ON j.id = {job} WHERE r.axis_id = {AXIS} "
                "AND r.created >= j.started"
            )
            if not found[0][0] and seen.situation != "feedback":
                seen.lost.append("called done, and its runs are not there")
        elif goes_on and (state == "interrupted" or (state == "aborted" and not aborted)):
            seen.lost.append(f"ended as {state} although it should have gone on: {seen.said[:120]}")

    def _runs(self) -> list[int]:
        return [int(str(r[0])) for r in self.rigged.query(f"SELECT number FROM runs_run WHERE axis_id = {AXIS}")]


class Watching(threading.Thread):
    """Asks the drive itself, all the time, and holds the page's words against it."""

    def __init__(self, episode: Episode, mark: dict[str, Any]) -> None:
        super().__init__(daemon=True)
        self.episode, self.mark = episode, mark
        self.over = threading.Event()
        self.false: list[str] = []
        self.said = ""
        self._now = 0.0  # [s] of drive time since the fault
        self._moved = 0.0  # [s] the same, when motion was last seen
        self._modes: deque[tuple[float, str]] = deque(maxlen=2000)  # (drive time, mode) as it was
        self._lagged = 0.0  # [s] by the clock, since when the page has been behind
        self._gone = False

    def standstill(self, limit: float) -> float:
        """Drive time from the fault to the last motion within the limit and `AFTER` beyond. [s]"""
        end = time.monotonic() + 3 * (limit + AFTER) + 3
        while self._now < limit + AFTER and not self._gone and time.monotonic() < end:
            time.sleep(0.02)
        return self._moved

    def run(self) -> None:
        """Look every 10 ms."""
        drive = self.episode.rigged.drive(REMOTE)
        since = float(self.mark["time"])
        while not self.over.wait(0.01):
            try:
                status = drive.status()
            except LinkError:
                try:
                    self.episode.rigged.pid("stand-in")
                except RuntimeError:
                    self._gone = True  # the stand-in itself, and its plant with it
                continue
            now = time.monotonic()
            if float(status["time"]) < since:
                self._gone = True  # it was started anew
                since = 0.0
            self._now = float(status["time"]) - since
            if abs(status["velocity"]) >= STILL and not self._gone:
                self._moved = self._now
            self._modes.append((float(status["time"]), str(status["mode"])))
            self._hold_against(now, status)
        drive.link.close()

    def _hold_against(self, now: float, status: dict[str, Any]) -> None:
        """The page's words against what the drive was at the drive time they are of; and how far behind they are."""
        stream = self.episode.stream
        shown, at = stream.newest, stream.arrived[-1] if stream.arrived else 0.0
        if now - at > 0.5 or not stream.is_open or shown.get("link") != "up" or shown.get("time") is None:
            self._lagged = now  # the page shows that it has no contact: it claims nothing
            return
        of, text = float(shown["time"]), str(shown.get("state", ""))
        around = {mode for t, mode in self._modes if abs(t - of) < AROUND}
        if text in CLAIMS_OFF and around and "off" not in around:
            self._accuse("says power off while the drive was enabled")
        if text.startswith("Enabled") and around == {"off"}:
            self._accuse(f"says {text} while the power stage was off")
        if float(status["time"]) - of < LAG:
            self._lagged = now
        elif now - self._lagged > LAG:
            self._accuse("shows what was so more than a second ago")

    def _accuse(self, text: str) -> None:
        if text not in self.false:
            self.false.append(text)
