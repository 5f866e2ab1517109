"""PostgreSQL in a data directory of its own, and child processes that end with their parent."""

import contextlib
import glob
import hashlib
import os
import secrets
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

MOST_DEATHS = 5  # of one process in a minute, before it is given up


class CannotStart(Exception):
    """One sentence for the terminal."""


def is_free(port: int) -> bool:
    """Whether a loopback port can be bound."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


def require_free(ports: dict[str, int]) -> None:
    """Raise `CannotStart` naming the first port in use."""
    for what, port in ports.items():
        if not is_free(port):
            raise CannotStart(
                f"port {port}, for the {what}, is in use; end what uses it or set CADREL_{what.upper()}_PORT."
            )


class Postgres:
    """Debian's PostgreSQL on loopback, scram passwords, its own data directory; as root it runs as `postgres`."""

    def __init__(self, var: Path, *, port: int, name: str) -> None:
        self.port = port
        self._as_root = os.geteuid() == 0
        mark = hashlib.sha1(str(var.resolve()).encode()).hexdigest()[:10]
        # The server refuses to run as root, and its user may not enter root's folders: a place of its own then.
        self.home = Path(f"/var/lib/cadrel/{mark}-{name}") if self._as_root else var / f"pg-{name}"
        self._secret = var / f"pg-{name}.password"
        found = sorted(glob.glob("/usr/lib/postgresql/*/bin"), key=lambda p: int(p.split("/")[4]))
        if not found:
            raise CannotStart("PostgreSQL is not installed; bin/demo and bin/test install it.")
        self._bin = Path(found[-1])

    @property
    def password(self) -> str:
        """Of the role `cadrel`."""
        return self._secret.read_text()

    def start(self) -> None:
        """Create the data directory the first time; start the server. Raises `CannotStart`."""
        if not (self.home / "data" / "PG_VERSION").exists():
            self._create()
        options = f"-p {self.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories='' -c max_connections=60"
        done = self._run(
            "pg_ctl",
            "-D",
            str(self.home / "data"),
            "-l",
            str(self.home / "log"),
            "-w",
            "-t",
            "30",
            "-o",
            options,
            "start",
        )
        if done.returncode:
            raise CannotStart(f"PostgreSQL did not start; {self.home / 'log'} says why.")

    def stop(self) -> None:
        """Stop the server."""
        self._run("pg_ctl", "-D", str(self.home / "data"), "-m", "fast", "-w", "stop")

    def remove(self) -> None:
        """Delete the data directory."""
        if (self.home / "data" / "postmaster.pid").exists():
            self.stop()
        shutil.rmtree(self.home, ignore_errors=True)

    def _create(self) -> None:
        self.home.mkdir(parents=True, exist_ok=True)
        self._secret.parent.mkdir(parents=True, exist_ok=True)
        self._secret.touch(mode=0o600)
        self._secret.write_text(secrets.token_urlsafe(24))
        handed = self.home / "password"
        handed.touch(mode=0o600)
        handed.write_text(self.password)
        if self._as_root:
            self.home.parent.chmod(0o755)
            for path in (self.home, handed):
                shutil.chown(path, "postgres", "postgres")
        done = self._run(
            "initdb",
            "-D",
            str(self.home / "data"),
            "-U",
            "cadrel",
            "--auth=scram-sha-256",
            "-E",
            "UTF8",
            "--locale=C.UTF-8",
            f"--pwfile={handed}",
        )
        handed.unlink()
        if done.returncode:
            shutil.rmtree(self.home, ignore_errors=True)
            raise CannotStart(f"PostgreSQL's data directory could not be made: {done.stderr.strip().splitlines()[-1]}")

    def _run(self, program: str, *arguments: str) -> subprocess.CompletedProcess[str]:
        command = [str(self._bin / program), *arguments]
        if self._as_root:
            command = ["runuser", "-u", "postgres", "--", *command]
        # pg_ctl's child inherits what it is given: files, not pipes, or reading them would wait for the server.
        with open(os.devnull, "w") as nowhere:
            err = subprocess.PIPE if program == "initdb" else nowhere
            return subprocess.run(command, stdout=nowhere, stderr=err, text=True, cwd="/", check=False)


def environment(database: Postgres, *, web: int, bench: int) -> dict[str, str]:
    """Return the variables the web settings read."""
    return {
        "CADREL_DB_PORT": str(database.port),
        "CADREL_DB_PASSWORD": database.password,
        "CADREL_DB_NAME": "cadrel",
        "CADREL_WEB_PORT": str(web),
        "CADREL_BENCH_PORT": str(bench),
    }


@dataclass(slots=True)
class Child:
    """A child process, and how to start it again."""

    name: str
    command: Sequence[str]
    log: Path | None
    process: subprocess.Popen[bytes]
    starts: list[float]


class Children:
    """Child processes, started again when they die, ended in reverse order."""

    def __init__(self) -> None:
        self._children: list[Child] = []

    def start(self, name: str, command: Sequence[str], *, log: Path | None = None) -> subprocess.Popen[bytes]:
        """Start `python -m ...` in a group of its own, so that Ctrl-C reaches only the parent."""
        process = _spawn(command, log)
        self._children.append(Child(name, command, log, process, [time.monotonic()]))
        return process

    def revive(self) -> None:
        """Start again what has died. Raises `CannotStart` for one that dies more than `MOST_DEATHS` times a minute."""
        for child in self._children:
            if child.process.poll() is None:
                continue
            now = time.monotonic()
            child.starts = [t for t in child.starts if now - t < 60]
            if len(child.starts) > MOST_DEATHS:
                raise CannotStart(f"the {child.name} process keeps ending by itself; {child.log} says why.")
            child.starts.append(now)
            child.process = _spawn(child.command, child.log)

    def stop(self) -> None:
        """Ask each to end, then insist."""
        for child in reversed(self._children):
            if child.process.poll() is None:
                child.process.send_signal(signal.SIGTERM)
        for child in reversed(self._children):
            with contextlib.suppress(subprocess.TimeoutExpired):
                child.process.wait(timeout=6)
            if child.process.poll() is None:
                child.process.kill()
                child.process.wait()
        self._children.clear()


def _spawn(command: Sequence[str], log: Path | None) -> subprocess.Popen[bytes]:
    out = open(log, "ab") if log else None  # noqa: SIM115 - handed to the child
    process = subprocess.Popen([sys.executable, "-m", *command], start_new_session=True, stdout=out, stderr=out)
    if out is not None:
        out.close()
    return process


def wait_for_port(port: int, *, seconds: float) -> bool:
    """Wait until something listens."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=0.3):
            return True
        time.sleep(0.05)
    return False
