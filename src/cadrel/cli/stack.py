"""The four processes: PostgreSQL, bench, worker, web."""

import os
from pathlib import Path

from cadrel.cli.services import CannotStart, Children, Postgres, environment, wait_for_port

ROOT = Path(__file__).resolve().parents[3]
RIGS = ("tile-pusher", "glaze-table", "reject-gate", "glaze-arm", "kiln-car-lift", "spray-carriage")


class Stack:
    """Start and stop everything; used by the demonstration and by the browser tests."""

    def __init__(self, var: Path, *, name: str, web: int, bench: int, database: int) -> None:
        self.var, self.name, self.web, self.bench = var, name, web, bench
        self.postgres = Postgres(var, port=database, name=name)
        self.children = Children()
        self.logs = var / "logs"

    def start_database(self) -> None:
        """PostgreSQL, database, migrations; Django is usable in this process afterwards. Raises `CannotStart`."""
        self.logs.mkdir(parents=True, exist_ok=True)
        self.postgres.start()
        os.environ.update(environment(self.postgres, web=self.web, bench=self.bench))
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
        """Bench, worker, web. Raises `CannotStart`."""
        self.start_bench(pace=pace)
        self.start_worker()
        self.children.start(
            "web",
            [
                "uvicorn",
                "cadrel.web.asgi:application",
                "--host",
                "127.0.0.1",
                "--port",
                str(self.web),
                "--log-level",
                "warning",
                "--timeout-graceful-shutdown",
                "1",
            ],
            log=self.logs / "web.log",
        )
        if not wait_for_port(self.web, seconds=30):
            raise CannotStart(f"the web process did not start; {self.logs / 'web.log'} says why.")

    def start_bench(self, *, pace: float = 1.0) -> object:
        """The stand-in drives."""
        rigs = [f"{name}={ROOT / 'demo' / 'rigs' / name}.json" for name in RIGS]
        child = self.children.start(
            "bench",
            [
                "cadrel.bench",
                "--port",
                str(self.bench),
                "--pace",
                str(pace),
                "--memory",
                str(self.var / f"bench-{self.name}"),
                *rigs,
            ],
            log=self.logs / "bench.log",
        )
        if not wait_for_port(self.bench, seconds=60):
            raise CannotStart(f"the bench did not start; {self.logs / 'bench.log'} says why.")
        return child

    def start_worker(self) -> object:
        """The worker that runs procedures."""
        return self.children.start(
            "worker",
            ["django", "procrastinate", "worker", "--queues", "procedures", "--concurrency", "3"],
            log=self.logs / "worker.log",
        )

    def stop(self) -> None:
        """Everything, the database last."""
        self.children.stop()
        self.postgres.stop()
