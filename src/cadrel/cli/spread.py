"""Drawn benches spread over any number of machines through a queue in PostgreSQL.

Whoever asks for evidence puts one job a bench into the queue and gathers the rows; workers, here or elsewhere, take
them. What a killed worker had begun is given to another once its heart has not been heard for a while. Rows stay in a
table of their own until they are gathered, so that an evidence that was interrupted goes on.
"""

import asyncio
import json
import multiprocessing
import os
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from importlib import import_module
from pathlib import Path
from types import FrameType
from typing import Any

import psycopg
from procrastinate import App, JobContext, PsycopgConnector, SyncPsycopgConnector
from procrastinate.exceptions import AlreadyEnqueued, UniqueViolation
from procrastinate.jobs import Status

from cadrel.cli.resumable import R, said_of, worked_off
from cadrel.cli.services import Postgres, is_free
from cadrel.core.errors import CadrelError

QUEUE, TASK = "evidence", "evidence.bench"
HEART = 30.0  # [s] without a sign of a worker: what it had begun is given to another
LOOK = 0.5  # [s] between looks for new rows
MOST_TRIES = 3  # of one bench, before its failure is everyone's
# subject -> where the function of (seed, number) is, and its row
SUBJECTS = {
    "identification": "cadrel.cli.identification_evidence:identify",
    "tuning": "cadrel.cli.tuning_evidence:tune",
    "tuning-on-load": "cadrel.cli.tuning_evidence:tune_on_load",
    "tuning-at-ends": "cadrel.cli.tuning_evidence:tune_at_ends",
}
TABLE = """
CREATE TABLE IF NOT EXISTS cadrel_evidence (
    subject text, seed bigint, bench bigint, state text NOT NULL, body jsonb NOT NULL,
    PRIMARY KEY (subject, seed, bench, state)
)
"""


class BenchFailed(CadrelError):
    """A bench ended with an exception on every worker that tried it."""

    happened = "Bench {bench} of {subject}, seed {seed}, failed {tries} times: {why}"
    means = "The evidence is not complete; the rows that are done are kept."
    remedy = "Mend what failed, and run it again: it goes on from there."


def _function_of(subject: str) -> Callable[[tuple[int, int]], Any]:
    module, name = SUBJECTS[subject].split(":")
    found: Callable[[tuple[int, int]], Any] = getattr(import_module(module), name)
    return found


def _keep(conninfo: str, subject: str, seed: int, bench: int, state: str, body: dict[str, Any]) -> None:
    with psycopg.connect(conninfo, autocommit=True) as connection:
        connection.execute(
            "INSERT INTO cadrel_evidence VALUES (%s, %s, %s, %s, %s) "
            "ON CONFLICT (subject, seed, bench, state) DO UPDATE SET body = EXCLUDED.body",
            [subject, seed, bench, state, json.dumps(body)],
        )


def app_of(connector: PsycopgConnector | SyncPsycopgConnector, conninfo: str) -> App:
    """Return the queue's application, which knows the one task there is."""
    app = App(connector=connector)

    @app.task(name=TASK, queue=QUEUE, pass_context=True)
    def bench(context: JobContext, subject: str, seed: int, number: int) -> None:
        try:
            row = _function_of(subject)((seed, number))
        except Exception as error:  # told to whoever gathers, who decides whether it is tried again
            _keep(conninfo, subject, seed, number, "failed", {"why": repr(error), "job": context.job.id})
            raise
        _keep(conninfo, subject, seed, number, "done", asdict(row))

    return app


def prepare(conninfo: str) -> None:
    """Make the queue's tables in a database, if they are not there."""
    with psycopg.connect(conninfo, autocommit=True) as connection:
        connection.execute("SELECT pg_advisory_lock(4711)")  # two that begin at once
        there = connection.execute("SELECT to_regclass('procrastinate_jobs')").fetchone()
        connection.execute(TABLE)
        if there is None or there[0] is None:
            with app_of(SyncPsycopgConnector(conninfo=conninfo), conninfo).open() as app:
                app.schema_manager.apply_schema()


def work(conninfo: str, *, wait: bool = True) -> None:
    """Take benches from the queue, one after another, until a signal ends it; without `wait` until it is empty."""
    prepare(conninfo)
    app = app_of(PsycopgConnector(conninfo=conninfo), conninfo)
    app.run_worker(
        queues=[QUEUE], concurrency=1, wait=wait, name=f"{os.uname().nodename}-{os.getpid()}",
        fetch_job_polling_interval=1.0, stalled_worker_timeout=HEART,
        install_signal_handlers=multiprocessing.parent_process() is None,
    )  # fmt: skip


def workers(conninfo: str, count: int) -> int:
    """Run so many worker processes until a signal ends them; the command for other machines. Returns an exit status."""
    prepare(conninfo)
    running = [multiprocessing.Process(target=_alone, args=(conninfo,), daemon=True) for _ in range(count)]
    for process in running:
        process.start()
    print(f"{count} workers take benches from the queue; Ctrl-C ends them.", flush=True)

    def end(number: int, frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, end)
    try:
        for process in running:
            process.join()
    except KeyboardInterrupt:
        for process in running:
            process.terminate()
    return 0


def _alone(conninfo: str) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    work(conninfo)


@contextmanager
def here_or(conninfo: str, var: Path) -> Iterator[str]:
    """Yield the connection of a queue: the one given, or that of a PostgreSQL of its own on loopback."""
    if conninfo != "own":
        yield conninfo
        return
    port = next(p for p in range(8500, 8520) if is_free(p))
    database = Postgres(var, port=port, name="evidence")
    database.start()
    try:
        yield f"host=127.0.0.1 port={port} user=cadrel password={database.password} dbname=postgres"
    finally:
        database.stop()


def rows_of(
    subject: str, one: Callable[[tuple[int, int]], R], kind: type[R], *, benches: int, seed: int, kept: Path,
    said: Callable[[R], str], queue: str | None, own_workers: int | None,
) -> list[R]:  # fmt: skip
    """Return the rows of all benches, in order: worked off by this machine's cores, or by whoever takes from a queue.

    `queue` is the connection of a database, or "own" for one on this machine; `own_workers` are all cores if None.
    """
    if queue is None:
        return worked_off(one, kind, benches=benches, seed=seed, kept=kept, said=said)
    count = len(os.sched_getaffinity(0)) if own_workers is None else own_workers
    with here_or(queue, Path(os.environ["CADREL_VAR"])) as conninfo:
        if queue == "own":
            print(f"other workers: bin/cadrel evidence-worker '{conninfo}'", flush=True)
        return spread(
            subject, kind, benches=benches, seed=seed, kept=kept, said=said, conninfo=conninfo, own_workers=count
        )


def spread(
    subject: str, kind: type[R], *, benches: int, seed: int, kept: Path, said: Callable[[R], str], conninfo: str,
    own_workers: int,
) -> list[R]:  # fmt: skip
    """Return the rows of all benches, in order, as `worked_off` does, whoever worked them off.

    Raises
    ------
    BenchFailed
        A bench ended with an exception `MOST_TRIES` times.
    """
    prepare(conninfo)
    kept.parent.mkdir(parents=True, exist_ok=True)
    done: dict[int, R] = {}
    if kept.exists():
        for line in kept.read_text().splitlines():
            plain = json.loads(line)
            done[int(plain["bench"])] = kind(**plain)
    missing = {k for k in range(benches) if k not in done}
    running = [multiprocessing.Process(target=_alone, args=(conninfo,), daemon=True) for _ in range(own_workers)]
    with app_of(SyncPsycopgConnector(conninfo=conninfo), conninfo).open() as app:
        for number in sorted(missing - _on_their_way(conninfo, subject, seed)):
            _ask(app, subject, seed, number)
        for process in running:
            process.start()
        begun = looked = time.monotonic()
        asked, tries = len(missing), dict.fromkeys(missing, 1)
        try:
            with kept.open("a") as file, psycopg.connect(conninfo, autocommit=True) as connection:
                while missing:
                    rows = connection.execute(
                        "DELETE FROM cadrel_evidence WHERE subject = %s AND seed = %s AND bench = ANY(%s) "
                        "RETURNING bench, state, body", [subject, seed, sorted(missing)],
                    ).fetchall()  # fmt: skip
                    for bench, state, body in rows:
                        if state == "failed":
                            tries[bench] += 1
                            if tries[bench] > MOST_TRIES:
                                raise BenchFailed(
                                    bench=bench, subject=subject, seed=seed, tries=MOST_TRIES, why=body["why"]
                                )
                            _ask(app, subject, seed, bench)
                            continue
                        done[bench] = kind(**body)
                        missing.discard(bench)
                        file.write(json.dumps(body) + "\n")
                        file.flush()
                        print(said_of(done[bench], said, len(done), benches, begun, asked, len(missing)), flush=True)
                    if not rows:
                        time.sleep(LOOK)
                    if time.monotonic() > looked + HEART:
                        looked = time.monotonic()
                        asyncio.run(_give_to_others(conninfo))
        finally:
            for process in running:
                process.terminate()
    return [done[k] for k in sorted(done) if k < benches]


def _on_their_way(conninfo: str, subject: str, seed: int) -> set[int]:
    """Return the benches that an evidence before this one left: queued, begun by a worker that may live, or done.

    A job ends after its row is kept: whoever is in neither look, jobs first, is nowhere.
    """
    with psycopg.connect(conninfo, autocommit=True) as connection:
        jobs = connection.execute(
            "SELECT (args->>'number')::bigint FROM procrastinate_jobs WHERE status IN ('todo', 'doing') "
            "AND task_name = %s AND args->>'subject' = %s AND (args->>'seed')::bigint = %s", [TASK, subject, seed],
        ).fetchall()  # fmt: skip
        rows = connection.execute(
            "SELECT bench FROM cadrel_evidence WHERE subject = %s AND seed = %s AND state = 'done'", [subject, seed]
        ).fetchall()
    return {number for (number,) in jobs + rows}


def _ask(app: App, subject: str, seed: int, number: int) -> None:
    """Queue one bench, unless it is queued already."""
    try:
        app.configure_task(TASK, queueing_lock=f"{subject}-{seed}-{number}").defer(
            subject=subject, seed=seed, number=number
        )
    except AlreadyEnqueued:
        return


async def _give_to_others(conninfo: str) -> None:
    """Queue again what workers had begun whose hearts stand still."""
    async with app_of(PsycopgConnector(conninfo=conninfo), conninfo).open_async() as app:
        for job in await app.job_manager.get_stalled_jobs(queue=QUEUE, seconds_since_heartbeat=HEART):
            try:
                await app.job_manager.retry_job(job)
            except UniqueViolation:  # whoever asked went too, asked again, and it is queued already
                await app.job_manager.finish_job(job, status=Status.ABORTED, delete_job=True)
