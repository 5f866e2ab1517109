"""The five processes: PostgreSQL, stand-in, worker, live process, web process."""

import os
import secrets
import time
from collections.abc import Callable
from pathlib import Path

from cadrel.cli.services import REST, CannotStart, Children, Postgres, cut_logs, environment, wait_for_port

ROOT = Path(__file__).resolve().parents[3]
RIGS = ("tile-pusher", "glaze-table", "reject-gate", "glaze-arm", "kiln-car-lift", "spray-carriage")


class Stack:
    """Start and stop everything; used by the demonstration and by the benchmarks."""

    def __init__(
        self,
        var: Path,
        *,
        name: str,
        web: int,
        bench: int,
        database: int,
        live: int,
        say: Callable[[str], None] = lambda text: None,
    ) -> None:
        self.var, self.name, self.web, self.bench, self.live, self.say = var, name, web, bench, live, say
        self.postgres = Postgres(var, port=database, name=name)
        self.children = Children()
        self.logs = var / "logs"
        self._lost: float | None = None

    def start_database(self) -> None:
        """PostgreSQL, database, migrations; Django is usable in this process afterwards. Raises `CannotStart`."""
        self.logs.mkdir(parents=True, exist_ok=True)
        self.postgres.start(say=self.say)
        secret = shared_secret(self.var, self.name)
        os.environ.update(environment(self.postgres, web=self.web, bench=self.bench, live=self.live, secret=secret))
        self._create_database()
        import django

        django.setup()
        from django.core.management import call_command

        call_command("migrate", verbosity=0)

    def _create_database(self) -> None:
        import psycopg

        with psycopg.connect(
            host="127.0.0.1",
            port=self.postgres.port,
            user="cadrel",
            password=self.postgres.password,
            dbname="postgres",
            autocommit=True,
        ) as connection:
            found = connection.execute("select 1 from pg_database where datname = 'cadrel'").fetchone()
            if not found:
                connection.execute("create database cadrel")

    def start_processes(self, *, pace: float = 1.0) -> None:
        """Stand-in, worker, live process, web process. Raises `CannotStart`."""
        self.start_bench(pace=pace)
        self.start_worker()
        self._serve("live", "cadrel.web.live.asgi:application", self.live)
        self._serve("web", "cadrel.web.asgi:application", self.web)
        for name, port in (("live", self.live), ("web", self.web)):
            self._await(name, port)

    def _serve(self, name: str, application: str, port: int) -> None:
        self.children.start(
            name,
            ["uvicorn", application, "--host", "127.0.0.1", "--port", str(port), "--log-level", "warning",
             "--no-access-log", "--timeout-graceful-shutdown", "1", "--backlog", "512"],
            log=self.logs / f"{name}.log",
        )  # fmt: skip

    def _await(self, name: str, port: int) -> None:
        if not wait_for_port(port, goes_on=lambda: self.children.is_running(name), say=self.say, what=name):
            raise CannotStart(f"the {name} process did not start; {self.logs / name}.log says why.")

    def start_bench(self, *, pace: float = 1.0) -> object:
        """The stand-in drives."""
        rigs = [f"{name}={ROOT / 'demo' / 'rigs' / name}.json" for name in RIGS]
        memory = str(self.var / f"bench-{self.name}")
        child = self.children.start(
            "bench",
            ["cadrel.bench", "--port", str(self.bench), "--pace", str(pace), "--memory", memory, *rigs],
            log=self.logs / "bench.log",
        )
        self._await("bench", self.bench)
        return child

    def start_worker(self) -> object:
        """The worker that runs procedures."""
        return self.children.start("worker", ["cadrel.web.jobs.worker"], log=self.logs / "worker.log")

    def look_after(self) -> None:
        """Start again what has died, PostgreSQL included, say so, and keep the logs short; to be called often."""
        for sentence in self.children.revive():
            self.say(sentence)
        cut_logs([*self.logs.glob("*.log"), self.postgres.log])
        if self.postgres.pid is not None:
            if self._lost is not None:
                self.say("the database is there again.")
            self._lost = None
        elif self._lost is None or time.monotonic() - self._lost > REST:
            self._lost = time.monotonic()
            self.say(f"the database ended; it is started again. {self.postgres.log} says why it did.")
            try:
                self.postgres.start(say=self.say)
            except CannotStart as error:
                self.say(f"{error} It is tried again.")

    def stop(self) -> None:
        """Everything, the database last."""
        self.children.stop()
        self.postgres.stop()


def shared_secret(var: Path, name: str) -> str:
    """Return what the stand-in wants to hear from this application's processes; made once, its owner's only."""
    path = var / f"link-{name}.secret"
    if not path.exists():
        path.touch(mode=0o600)
        path.write_text(secrets.token_urlsafe(24))
    return path.read_text()
