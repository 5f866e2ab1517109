"""Benches spread through the queue in PostgreSQL: worked off once each, gone on with, and failures told."""

import asyncio
import json
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import psycopg
import pytest
from django.conf import settings

from cadrel.cli import spread as spread_module
from cadrel.cli.spread import BenchFailed, prepare, spread, work

NAME = "cadrel_spread_test"
worked: list[int] = []


@dataclass(slots=True)
class Squared:
    bench: int
    square: int = 0


def square(numbered: tuple[int, int]) -> Squared:
    seed, number = numbered
    worked.append(number)
    if seed == 13:
        raise ZeroDivisionError("always")
    if seed == 7 and number == 2 and worked.count(2) == 1:
        raise ZeroDivisionError("the first time only")
    return Squared(number, number * number)


@pytest.fixture
def queue(monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A database of its own in the suite's server, and a subject that takes no time."""
    own = settings.DATABASES["default"]
    server = f"host={own['HOST']} port={own['PORT']} user={own['USER']} password={own['PASSWORD']}"
    with psycopg.connect(f"{server} dbname=postgres", autocommit=True) as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {NAME} WITH (FORCE)")
        connection.execute(f"CREATE DATABASE {NAME}")
    monkeypatch.setitem(spread_module.SUBJECTS, "squares", f"{__name__}:square")
    worked.clear()
    yield f"{server} dbname={NAME}"
    with psycopg.connect(f"{server} dbname=postgres", autocommit=True) as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {NAME} WITH (FORCE)")


def gathered(conninfo: str, kept: Path, **changes: Any) -> list[Squared]:
    """Ask for squares here while another thread works them off as a worker elsewhere would."""
    prepare(conninfo)
    ended = threading.Event()

    def elsewhere() -> None:
        while not ended.is_set():
            work(conninfo, wait=False)
            ended.wait(0.1)

    worker = threading.Thread(target=elsewhere)
    worker.start()
    try:
        of = {"benches": 5, "seed": 1} | changes
        return spread(
            "squares", Squared, kept=kept, said=lambda r: str(r.square), conninfo=conninfo, own_workers=0, **of
        )
    finally:
        ended.set()
        worker.join()


def test_every_bench_is_worked_off_once_and_kept(queue: str, tmp_path: Path) -> None:
    kept = tmp_path / "rows.jsonl"
    rows = gathered(queue, kept)
    assert [(r.bench, r.square) for r in rows] == [(k, k * k) for k in range(5)]
    assert sorted(worked) == list(range(5))
    assert len(kept.read_text().splitlines()) == 5


def test_what_is_kept_is_not_done_again_and_rows_left_in_the_queue_are_taken(queue: str, tmp_path: Path) -> None:
    kept = tmp_path / "rows.jsonl"
    kept.write_text(json.dumps({"bench": 0, "square": 111}) + "\n")
    prepare(queue)
    spread_module._keep(queue, "squares", 1, 3, "done", {"bench": 3, "square": 333})  # its evidence was interrupted
    rows = gathered(queue, kept)
    assert [r.square for r in rows] == [111, 1, 4, 333, 16]
    assert 0 not in worked


def test_a_bench_that_fails_once_is_tried_again(queue: str, tmp_path: Path) -> None:
    rows = gathered(queue, tmp_path / "rows.jsonl", seed=7)
    assert [r.square for r in rows] == [0, 1, 4, 9, 16]
    assert worked.count(2) == 2


def test_a_bench_that_fails_always_is_named(queue: str, tmp_path: Path) -> None:
    with pytest.raises(BenchFailed, match="ZeroDivisionError") as failed:
        gathered(queue, tmp_path / "rows.jsonl", seed=13, benches=1)
    assert "Bench 0 of squares" in failed.value.text
    assert worked.count(0) == 3


def _left_by_a_killed_worker(queue: str) -> None:
    """A bench as a worker leaves it that was killed amid it: begun, and its heart long silent."""
    with psycopg.connect(queue, autocommit=True) as connection:
        connection.execute(
            "INSERT INTO procrastinate_workers (id, last_heartbeat) OVERRIDING SYSTEM VALUE "
            "VALUES (999, now() - interval '1 hour')"
        )
        connection.execute(
            "INSERT INTO procrastinate_jobs (queue_name, task_name, queueing_lock, args, status, worker_id) "
            "VALUES ('evidence', 'evidence.bench', 'squares-1-0', "
            '\'{"subject": "squares", "seed": 1, "number": 0}\', \'doing\', 999)'
        )


def test_what_a_killed_worker_had_begun_is_given_to_another(queue: str, tmp_path: Path, monkeypatch: Any) -> None:
    """The new run does not queue it a second time; the heart that stands still brings it about."""
    monkeypatch.setattr(spread_module, "HEART", 0.5)
    prepare(queue)
    _left_by_a_killed_worker(queue)
    rows = gathered(queue, tmp_path / "rows.jsonl", benches=1)
    assert [r.square for r in rows] == [0]
    assert worked == [0]


def test_a_bench_that_a_worker_elsewhere_is_at_is_not_queued_a_second_time(queue: str, tmp_path: Path) -> None:
    """Its evidence was killed, the worker lives on: the new evidence takes the worker's row."""
    prepare(queue)
    _left_by_a_killed_worker(queue)
    with psycopg.connect(queue, autocommit=True) as connection:
        connection.execute("UPDATE procrastinate_workers SET last_heartbeat = now()")
        spread_module._keep(queue, "squares", 1, 1, "done", {"bench": 1, "square": 111})
        assert spread_module._on_their_way(queue, "squares", 1) == {0, 1}
        assert spread_module._on_their_way(queue, "squares", 2) == set()
    with ThreadPoolExecutor() as aside:
        rows = aside.submit(gathered, queue, tmp_path / "rows.jsonl", benches=3)
        while 2 not in worked:
            time.sleep(0.01)
        spread_module._keep(queue, "squares", 1, 0, "done", {"bench": 0, "square": 555})
        assert [r.square for r in rows.result()] == [555, 111, 4]
    assert worked == [2]


def test_a_bench_begun_and_queued_again_is_worked_off_once(queue: str, tmp_path: Path) -> None:
    """Asked for twice, of two evidences that began at once, and the first worker killed."""
    prepare(queue)
    _left_by_a_killed_worker(queue)
    with spread_module.app_of(spread_module.SyncPsycopgConnector(conninfo=queue), queue).open() as app:
        spread_module._ask(app, "squares", 1, 0)
    asyncio.run(spread_module._give_to_others(queue))
    with psycopg.connect(queue, autocommit=True) as connection:
        left = connection.execute("SELECT status::text FROM procrastinate_jobs").fetchall()
    assert left == [("todo",)]
    assert [r.square for r in gathered(queue, tmp_path / "rows.jsonl", benches=1)] == [0]
    assert worked == [0]
