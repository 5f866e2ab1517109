"""The demonstration in processes of its own, and its parts by name."""

import contextlib
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import psycopg

from cadrel.cli.page_client import PageClient
from cadrel.cli.services import Postgres, is_free
from cadrel.cli.stack import shared_secret
from cadrel.link import LinkedDrive, TcpLink

ENGINEER, OBSERVER = ("enno", "glaze-and-fire"), ("vera", "look-only-please")
PARTS = {
    "web": "cadrel.web.asgi",
    "live": "cadrel.web.live",
    "worker": "cadrel.web.jobs.worker",
    "stand-in": "cadrel.bench",
}
START = 240.0  # [s] for a first start on a slow machine
DATABASE_AWAY = 15.0  # [s] that the judge waits for a database that was killed; the episode's own clock goes on


class Rigged:
    """A supervisor with everything it starts, in a folder of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.web, self.bench, self.database, self.live = [p for p in range(8700, 8790) if is_free(p)][:4]
        self.process: subprocess.Popen[bytes] | None = None
        self.secret = shared_secret(folder, "demo")
        self.postgres = Postgres(folder, port=self.database, name="demo")

    @property
    def environment(self) -> dict[str, str]:
        """Of the supervisor."""
        ports = {"WEB": self.web, "BENCH": self.bench, "DB": self.database, "LIVE": self.live}
        return os.environ | {"CADREL_VAR": str(self.folder)} | {f"CADREL_{k}_PORT": str(v) for k, v in ports.items()}

    def start(self) -> None:
        """Start the supervisor, and wait until its pages answer."""
        path = self.folder / "demo.log"
        size = path.stat().st_size if path.exists() else 0
        with open(path, "ab") as log:
            command = [sys.executable, "-m", "cadrel.cli.demo"]
            self.process = subprocess.Popen(command, env=self.environment, stdout=log, stderr=log)
        until = time.monotonic() + START
        while b"Cadrel is at" not in path.read_bytes()[size:]:
            if self.process.poll() is not None or time.monotonic() > until:
                raise RuntimeError(f"the demonstration did not start: {path.read_text()[-500:]}")
            time.sleep(0.1)

    def stop(self) -> None:
        """End it as Ctrl-C would, and throw its data away."""
        if self.process is not None and self.process.poll() is None:
            self.process.send_signal(signal.SIGCONT)
            self.process.send_signal(signal.SIGINT)
            self.process.wait(timeout=60)
        self.postgres.remove()

    def client(self, user: tuple[str, str] = ENGINEER) -> PageClient:
        """A user's browser, logged in."""
        made = PageClient(web=self.web, live=self.live)
        made.log_in(*user)
        return made

    def drive(self, axis: str) -> LinkedDrive:
        """The stand-in itself, asked past the application: what is true."""
        return LinkedDrive(TcpLink("127.0.0.1", self.bench, timeout=1.0, secret=self.secret), axis)

    def pid(self, part: str) -> int:
        """Process id of a part."""
        if part == "database":
            pid = self.postgres.pid
            if pid is None:
                raise RuntimeError("the database is not there")
            return pid
        if part == "supervisor":
            assert self.process is not None
            return self.process.pid
        for folder in Path("/proc").glob("[0-9]*"):
            with contextlib.suppress(OSError, IndexError, ValueError):
                parent = int((folder / "stat").read_text().rpartition(")")[2].split()[1])
                words = (folder / "cmdline").read_text().replace("\0", " ")
                if self.process is not None and parent == self.process.pid and PARTS[part] in words:
                    return int(folder.name)
        raise RuntimeError(f"there is no {part} process")

    def query(self, text: str) -> list[tuple[object, ...]]:
        """Ask the database, past the application; waits while the supervisor brings the database back."""
        until = time.monotonic() + DATABASE_AWAY
        while True:
            try:
                with psycopg.connect(
                    host="127.0.0.1", port=self.database, user="cadrel", password=self.postgres.password,
                    dbname="cadrel", connect_timeout=3,
                ) as connection:  # fmt: skip
                    return connection.execute(text).fetchall()
            except psycopg.OperationalError:
                if time.monotonic() > until:
                    raise
                time.sleep(0.05)

    def cut_connections(self, of: str) -> int:
        """Cut connections to the database, of the worker's taking or of all others; returns how many."""
        mine = "application_name = 'cadrel worker'" if of == "worker" else "application_name <> 'cadrel worker'"
        rows = self.query(
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity "
            f"WHERE datname = 'cadrel' AND pid <> pg_backend_pid() AND {mine}"
        )
        return len(rows)
