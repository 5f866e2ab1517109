"""Databases of every released version, as their demonstrations made them, are brought up to this one.

The dumps are the versions' own (pg_dump of a freshly loaded demonstration); all but the newest recording were emptied,
since these are megabytes.
"""

import gzip
import json
import os
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from django.db import connections

from cadrel.cli.stack import ROOT

HERE = Path(__file__).parent / "released"
VERSIONS = sorted(p.name.removesuffix(".sql.gz") for p in HERE.glob("*.sql.gz"))
pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.timeout(300)]
LOOK = """
import json, django
django.setup()
from django.core.management import call_command
from django.test import Client
from django.contrib.auth.models import User
call_command("migrate", verbosity=0)
from cadrel.web.projects.models import Axis
from cadrel.web.runs.models import Finding, Run
client = Client(headers={"host": "127.0.0.1"})
client.force_login(User.objects.get(username="enno"), backend="django.contrib.auth.backends.ModelBackend")
pages = {}
for axis in Axis.objects.all():
    for step in ("motor", "limits", "commutation", "current", "load", "velocity", "acceptance", "handover"):
        pages[f"{axis.pk}/{step}"] = client.get(f"/axis/{axis.pk}/{step}/").status_code
    axis.understood
for run in Run.objects.all():
    run.arrays()
print(json.dumps({
    "axes": Axis.objects.count(), "runs": Run.objects.count(), "findings": Finding.objects.count(),
    "proven": Finding.objects.filter(state="proven").count(),
    "measured": Finding.objects.filter(state="measured").count(),
    "without_run": Finding.objects.filter(run__isnull=True).count(),
    "pages": sorted({s for s in pages.values()}),
}))
"""


@pytest.fixture
def database(request: pytest.FixtureRequest) -> Iterator[dict[str, str]]:
    """A database that holds what a version left."""
    d = connections["default"].settings_dict
    name = f"released_{request.param.replace('.', '_')}_{os.getpid()}"
    environment = os.environ | {
        "PGPASSWORD": d["PASSWORD"], "PGHOST": d["HOST"], "PGPORT": str(d["PORT"]), "PGUSER": d["USER"],
        "CADREL_DB_NAME": name, "PYTHONPATH": str(ROOT / "src"), "DJANGO_SETTINGS_MODULE": "cadrel.web.settings",
    }  # fmt: skip
    psql = ["psql", "--quiet", "--set=ON_ERROR_STOP=1"]

    def run(*arguments: str, text: bytes | None = None) -> None:
        done = subprocess.run([*psql, *arguments], env=environment, input=text, capture_output=True, check=False)
        assert done.returncode == 0, done.stderr.decode()[-600:]

    run("--dbname=postgres", "--command", f"CREATE DATABASE {name}")
    run(f"--dbname={name}", text=gzip.decompress((HERE / f"{request.param}.sql.gz").read_bytes()))
    yield environment
    run("--dbname=postgres", "--command", f"DROP DATABASE {name} WITH (FORCE)")


def test_there_is_one_for_every_release_that_had_a_database() -> None:
    text = (ROOT / "CHANGELOG.md").read_text()
    released = [line.removeprefix("## ") for line in text.splitlines() if line.startswith("## ")]
    # 0.4.1 changed no table and no entry of 0.4.0; the newest is what the code makes now.
    assert sorted(VERSIONS) == sorted(set(released[1:]) - {"0.4.1"})


@pytest.mark.parametrize("database", VERSIONS, indirect=True)
def test_a_released_versions_data_come_through_whole_and_its_proofs_become_measurements(
    database: dict[str, str],
) -> None:
    done = subprocess.run([sys.executable, "-c", LOOK], env=database, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr[-1500:]
    found = json.loads(done.stdout.strip().splitlines()[-1])
    assert found["axes"] >= 3
    assert found["runs"] >= 10
    assert found["measured"] >= 8
    assert (found["proven"], found["without_run"], found["pages"]) == (0, 0, [200])
