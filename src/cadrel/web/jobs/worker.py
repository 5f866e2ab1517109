"""The worker process: `python -m cadrel.web.jobs.worker`.

One thread takes what is queued, told by PostgreSQL's NOTIFY and looking by itself twice a second; each run has a thread
of its own and needs no database. A lost connection costs the taking a moment and the runs nothing.
"""

import contextlib
import logging
import signal
import sys
import threading
import time
from types import FrameType
from typing import Any

import psycopg

from cadrel.link.heart import Heart

AT_ONCE = 4  # runs side by side: three axes of a drive and one more
LOOK = 0.5  # [s] between looks of its own, should a notice be lost
PAUSE = 0.25  # [s] before a lost database is tried again
log = logging.getLogger("cadrel.worker")


class Worker:
    """Takes jobs until told to end."""

    def __init__(self) -> None:
        self._ended = threading.Event()
        self._places = threading.BoundedSemaphore(AT_ONCE)
        self._heart = Heart()

    def end(self, *_: Any) -> None:
        """End after the present look; runs in progress end with the process, and their axes by their leases."""
        self._ended.set()

    def run(self) -> None:
        """Take jobs until told to end."""
        self._heart.start()
        threading.Thread(target=self._drain, daemon=True).start()
        while not self._ended.is_set():
            try:
                self._serve()
            except psycopg.Error as error:
                log.warning("the database is away: %s", str(error).splitlines()[0] if str(error) else error)
                self._ended.wait(PAUSE)
        self._heart.close()

    def _serve(self) -> None:
        with psycopg.connect(**_where(), autocommit=True) as connection:
            from cadrel.web.jobs.queue import CHANNEL

            connection.execute(f"LISTEN {CHANNEL}")
            while not self._ended.is_set():
                self._sign(connection)
                while self._places.acquire(blocking=False):
                    job = self._claim(connection)
                    if job is None:
                        self._places.release()
                        break
                    threading.Thread(target=self._work, args=(job,), daemon=True).start()
                for _ in connection.notifies(timeout=LOOK, stop_after=1):
                    pass

    def _sign(self, connection: psycopg.Connection[Any]) -> None:
        connection.execute(
            "INSERT INTO jobs_workersign (name, heard) VALUES ('worker', now()) "
            "ON CONFLICT (name) DO UPDATE SET heard = now()"
        )

    def _claim(self, connection: psycopg.Connection[Any]) -> int | None:
        row = connection.execute(
            "UPDATE jobs_job SET state = 'running', started = now(), heartbeat = now() WHERE id = ("
            "SELECT id FROM jobs_job WHERE state = 'queued' AND created > now() - interval '20 seconds' "
            "ORDER BY id FOR UPDATE SKIP LOCKED LIMIT 1) RETURNING id"
        ).fetchone()
        return None if row is None else int(row[0])

    def _work(self, job_id: int) -> None:
        from django.db import connection

        from cadrel.core.errors import CadrelError
        from cadrel.web.jobs.chain import go_on
        from cadrel.web.jobs.patience import patiently
        from cadrel.web.jobs.recording import keep
        from cadrel.web.jobs.running import Ending, Pulse, assignment_of, carry_out

        try:
            with Pulse(job_id) as pulse:
                task = None
                try:
                    task = patiently(lambda: assignment_of(job_id))
                except CadrelError as error:
                    ending = Ending(job=job_id, state="refused", parts=error.parts)
                else:
                    ending = carry_out(task, pulse, self._heart)
                keep(ending)
            if task is not None:
                go_on(task)
        except Exception:
            log.exception("job %d was left behind", job_id)
        finally:
            connection.close()
            self._places.release()

    def _drain(self) -> None:
        """Record what an earlier worker finished and could not."""
        from cadrel.web.jobs import spool
        from cadrel.web.jobs.recording import keep

        begun = time.time()
        with contextlib.suppress(OSError):
            for ending in spool.waiting():
                if ending.ended.timestamp() < begun:
                    keep(ending)


def _where() -> dict[str, Any]:
    from django.db import connections

    d = connections["default"].settings_dict
    return {
        "host": d["HOST"], "port": d["PORT"], "user": d["USER"], "password": d["PASSWORD"], "dbname": d["NAME"],
        "connect_timeout": 3, "application_name": "cadrel worker",
    }  # fmt: skip


def main() -> int:
    """Serve until SIGTERM."""
    import django

    django.setup()
    worker = Worker()

    def end(number: int, frame: FrameType | None) -> None:
        worker.end()

    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, end)
    worker.run()
    return 0


if __name__ == "__main__":
    sys.exit(main())
