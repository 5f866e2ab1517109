"""Processes that are started, watched, revived and ended; ports; the database's own folder."""

import hashlib
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from cadrel.cli import services
from cadrel.cli.services import (
    CannotStart,
    Children,
    Postgres,
    cut_logs,
    identity_of,
    is_free,
    require_free,
    wait_for_port,
)

SLEEP = ["timeit", "-n", "1", "-r", "1", "-s", "import time", "time.sleep(60)"]  # `python -m timeit`: waits, as asked


@pytest.fixture
def children() -> Iterator[Children]:
    made = Children()
    yield made
    made.stop()


def command_line() -> str:
    return " ".join(Path("/proc/self/cmdline").read_text().split("\0")).strip()[:80]


def is_alive(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    return True


def test_a_port_in_use_is_named_with_what_uses_it_and_how_to_move_it() -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
        assert not is_free(port)
        me = rf"by .*python.* \(process {os.getpid()}\); end it with 'kill {os.getpid()}' or set CADREL_BENCH_PORT"
        with pytest.raises(CannotStart, match=f"port {port}, for the bench, is in use {me}"):
            require_free({"bench": port})
    require_free({"bench": port})


def test_waiting_for_a_port_goes_on_as_long_as_it_may_and_is_told_about(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(services, "TELL", 0.1)
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        assert wait_for_port(port, goes_on=lambda: True)
    told: list[str] = []
    assert not wait_for_port(port, goes_on=lambda: len(told) < 2, say=told.append, what="web")
    assert told[1].startswith("waiting for the web process, ")


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


def test_a_child_that_keeps_dying_is_said_and_tried_more_slowly(
    children: Children, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(services, "REST", 0.5)
    log = tmp_path / "bench.log"
    children.start("bench", ["no_such_module_at_all"], log=log)
    told: list[str] = []
    deadline = time.monotonic() + 60
    while len(told) < services.MOST_DEATHS + 2:
        told += children.revive()
        assert time.monotonic() < deadline
        time.sleep(0.02)
    assert told[0] == "the bench process ended with status 1 and was started again."
    assert told[-1].endswith(f"It ends again and again: {log} says why.")
    assert b"no_such_module_at_all" in log.read_bytes()


def test_children_end_when_their_supervisor_is_killed(tmp_path: Path) -> None:
    script = (
        "import sys, time; from cadrel.cli.services import Children; c = Children(); "
        f"print(c.start('child', {SLEEP!r}).pid, flush=True); time.sleep(60)"
    )
    with subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True) as supervisor:
        assert supervisor.stdout is not None
        child = int(supervisor.stdout.readline())
        assert is_alive(child)
        supervisor.kill()
    deadline = time.monotonic() + 60
    while Path(f"/proc/{child}").exists() and Path(f"/proc/{child}/stat").read_text().split()[2] != "Z":
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_a_log_that_grows_too_large_is_cut_and_its_writer_goes_on(tmp_path: Path) -> None:
    log = tmp_path / "web.log"
    with log.open("ab", buffering=0) as writer:
        writer.write(b"x" * (services.LARGEST_LOG + 1))
        cut_logs([log, tmp_path / "none.log"])
        writer.write(b"after\n")
    assert log.read_bytes() == b"after\n"
    assert (tmp_path / "web.log.1").stat().st_size == services.LARGEST_LOG + 1


def test_a_folder_that_is_renamed_keeps_its_identity_and_a_copy_gets_its_own(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(services, "_ROOTS", tmp_path / "roots")
    var = tmp_path / "var"
    name = identity_of(var)
    (var / "pg-demo.password").write_text("secret")
    moved = var.rename(tmp_path / "moved")
    assert identity_of(moved) == name
    assert (moved / "pg-demo.password").read_text() == "secret"
    shutil.copytree(moved, tmp_path / "copy")
    assert identity_of(tmp_path / "copy") != name
    assert not (tmp_path / "copy" / "pg-demo.password").exists()  # of a cluster that is not its own
    assert identity_of(moved) == name


def test_a_folder_from_before_identities_finds_its_data(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(services, "_ROOTS", tmp_path / "roots")
    old = hashlib.sha1(str((tmp_path / "var").resolve()).encode()).hexdigest()[:10]
    (tmp_path / "roots" / f"{old}-demo").mkdir(parents=True)
    assert identity_of(tmp_path / "var") == old


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
        server = database.pid
        Postgres(tmp_path, port=port, name="probe").start()  # as after a supervisor that was killed: taken over
        assert database.pid == server
        assert server is not None
        os.kill(server, signal.SIGKILL)
        database.start()  # what a killed server leaves behind does not keep it from starting
        assert database.answers()
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
        f"cadrel: port {port}, for the web, is in use by {command_line()} (process {os.getpid()}); "
        f"end it with 'kill {os.getpid()}' or set CADREL_WEB_PORT."
    ]
