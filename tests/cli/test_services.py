"""Processes that are started, watched, revived and ended; ports; the database's own folder."""

import os
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from cadrel.cli import services
from cadrel.cli.services import CannotStart, Children, Postgres, is_free, require_free, wait_for_port

SLEEP = ["timeit", "-n", "1", "-r", "1", "-s", "import time", "time.sleep(60)"]  # `python -m timeit`: waits, as asked


@pytest.fixture
def children() -> Iterator[Children]:
    made = Children()
    yield made
    made.stop()


def is_alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    return True


def test_a_port_in_use_is_named_with_what_wanted_it_and_how_to_move_it() -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
        assert not is_free(port)
        with pytest.raises(CannotStart, match=f"port {port}, for the bench, is in use; .*CADREL_BENCH_PORT"):
            require_free({"bench": port})
    require_free({"bench": port})


def test_waiting_for_a_port_ends_when_something_listens_and_gives_up_when_nothing_does() -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        assert wait_for_port(port, seconds=2)
    begun = time.monotonic()
    assert not wait_for_port(port, seconds=0.3)
    assert time.monotonic() - begun < 2


def test_children_end_with_their_parent_even_if_they_do_not_listen(children: Children) -> None:
    deaf = children.start("deaf", ["timeit", "-n", "1", "-r", "1", "-s", "import signal, time; "
                                   "signal.signal(signal.SIGTERM, signal.SIG_IGN)", "time.sleep(60)"])  # fmt: skip
    willing = children.start("willing", SLEEP)
    time.sleep(0.5)
    children.stop()
    assert deaf.poll() == -signal.SIGKILL
    assert willing.poll() is not None


def test_a_killed_child_is_started_again(children: Children) -> None:
    first = children.start("worker", SLEEP)
    children.revive()
    assert first.poll() is None  # the living are left alone
    first.kill()
    first.wait()
    children.revive()
    (child,) = children._children
    assert child.process.pid != first.pid
    assert is_alive(child.process.pid)


def test_a_child_that_keeps_dying_is_given_up_with_a_sentence(children: Children, tmp_path: Path) -> None:
    log = tmp_path / "bench.log"
    children.start("bench", ["no_such_module_at_all"], log=log)
    deadline = time.monotonic() + 60
    with pytest.raises(CannotStart, match=r"the bench process keeps ending by itself; .*bench.log says why"):
        while time.monotonic() < deadline:
            children.revive()
            time.sleep(0.05)
    assert b"no_such_module_at_all" in log.read_bytes()


def test_without_postgresql_the_sentence_says_who_installs_it(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(services.glob, "glob", lambda _: [])
    with pytest.raises(CannotStart, match="PostgreSQL is not installed; bin/demo and bin/test install it"):
        Postgres(tmp_path, port=1, name="none")


def test_a_database_of_its_own_starts_stops_and_leaves_nothing(tmp_path: Path) -> None:
    port = next(p for p in range(8480, 8520) if is_free(p))
    database = Postgres(tmp_path, port=port, name="probe")
    try:
        database.start()
        assert not is_free(port)
        assert (tmp_path / "pg-probe.password").stat().st_mode & 0o077 == 0
        import psycopg

        with pytest.raises(psycopg.OperationalError):
            psycopg.connect(host="127.0.0.1", port=port, user="cadrel", password="guess", dbname="postgres")
        with psycopg.connect(
            host="127.0.0.1", port=port, user="cadrel", password=database.password, dbname="postgres"
        ) as connection:
            row = connection.execute("show listen_addresses").fetchone()
        assert row == ("127.0.0.1",)
    finally:
        database.stop()
        database.remove()
    assert is_free(port)
    assert not database.home.exists()


def test_a_port_taken_by_another_is_one_sentence(tmp_path: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        database = Postgres(tmp_path, port=taken.getsockname()[1], name="blocked")
        try:
            with pytest.raises(CannotStart, match="PostgreSQL did not start"):
                database.start()
        finally:
            database.remove()


def test_the_demonstration_refuses_a_taken_port_in_one_line(tmp_path: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = str(taken.getsockname()[1])
        done = subprocess.run(
            ["python3", "-m", "cadrel.cli.demo"],
            env=os.environ | {"CADREL_VAR": str(tmp_path), "CADREL_WEB_PORT": port},
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
    assert done.returncode == 2
    assert done.stderr.splitlines() == [
        f"cadrel: port {port}, for the web, is in use; end what uses it or set CADREL_WEB_PORT."
    ]
