"""bin/cadrel backup and restore: everything that is kept, in one file.

A zip archive: `manifest.json`, `database.dump` (PostgreSQL's custom format; what was loaded from files is in the
database), and the permanent memory of the stand-in drives.
"""

import json
import os
import subprocess
import sys
import tempfile
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

from cadrel.cli.services import CannotStart, Postgres, is_free

FORMAT, VERSION = "cadrel-backup", 1
DUMP, MANIFEST, MEMORY = "database.dump", "manifest.json", "stand-in/"
LARGEST_MANIFEST = 100_000  # [bytes]


def backup(path: Path, *, name: str = "demo") -> int:
    """Write a backup, whole or not at all, while Cadrel runs or not; returns the exit status."""
    var = Path(os.environ["CADREL_VAR"])
    scratch = path.with_suffix(path.suffix + ".new")
    try:
        with _database(var, name) as database, tempfile.TemporaryDirectory() as folder:
            dump = Path(folder) / DUMP
            _run(database, "pg_dump", "--format=custom", "--no-owner", f"--file={dump}", "cadrel")
            with zipfile.ZipFile(scratch, "w", zipfile.ZIP_DEFLATED) as archive:
                made = datetime.now(UTC).isoformat(timespec="seconds")
                archive.writestr(MANIFEST, json.dumps({"format": FORMAT, "version": VERSION, "made": made}))
                archive.write(dump, DUMP)
                for memory in sorted((var / f"bench-{name}").glob("*.json")):
                    archive.write(memory, MEMORY + memory.name)
        scratch.replace(path)
    except (CannotStart, OSError) as error:
        scratch.unlink(missing_ok=True)
        print(f"cadrel: no backup was made: {error}", file=sys.stderr)
        return 2
    print(f"{path}: {path.stat().st_size / 1e6:.1f} MB")
    return 0


def restore(path: Path, *, name: str = "demo", web: int | None = None) -> int:
    """Put everything back as a backup has it; what is there now is replaced. Cadrel must not run."""
    var = Path(os.environ["CADREL_VAR"])
    web = web or int(os.environ.get("CADREL_WEB_PORT", "8460"))
    try:
        if not is_free(web):
            raise CannotStart(f"something listens on port {web}; stop Cadrel (Ctrl-C in bin/demo) first.")
        with zipfile.ZipFile(path) as archive, tempfile.TemporaryDirectory() as folder:
            memories = _checked(archive)
            archive.extract(DUMP, folder)
            with _database(var, name) as database:
                # Into a database beside the old one first: if the file is damaged, nothing is lost.
                _sql(database, "DROP DATABASE IF EXISTS cadrel_new")
                _sql(database, "CREATE DATABASE cadrel_new")
                dump = str(Path(folder) / DUMP)
                _run(database, "pg_restore", "--exit-on-error", "--no-owner", "--dbname=cadrel_new", dump)
                _sql(database, "DROP DATABASE IF EXISTS cadrel")
                _sql(database, "ALTER DATABASE cadrel_new RENAME TO cadrel")
            target = var / f"bench-{name}"
            target.mkdir(parents=True, exist_ok=True)
            for old in target.glob("*.json"):
                old.unlink()
            for memory in memories:
                (target / Path(memory).name).write_bytes(archive.read(memory))
    except (CannotStart, OSError, zipfile.BadZipFile, KeyError, ValueError) as error:
        print(f"cadrel: nothing was restored: {error}", file=sys.stderr)
        return 2
    print(f"restored from {path}; bin/demo brings it up to this version.")
    return 0


def _checked(archive: zipfile.ZipFile) -> list[str]:
    """Return the names of the stand-in's files. Raises `ValueError` if this is no backup that can be used."""
    names = archive.namelist()
    if MANIFEST not in names or DUMP not in names or archive.getinfo(MANIFEST).file_size > LARGEST_MANIFEST:
        raise ValueError("this is not a backup of Cadrel.")
    manifest = json.loads(archive.read(MANIFEST))
    if not isinstance(manifest, dict) or manifest.get("format") != FORMAT:
        raise ValueError("this is not a backup of Cadrel.")
    if manifest.get("version") != VERSION:
        raise ValueError(f"its version is {manifest.get('version')}, this Cadrel reads {VERSION}.")
    broken = archive.testzip()
    if broken is not None:
        raise ValueError(f"its part {broken} is damaged.")
    return [n for n in names if n.startswith(MEMORY) and n.endswith(".json") and n.count("/") == 1]


@contextmanager
def _database(var: Path, name: str) -> Iterator[Postgres]:
    """The server, started if it does not run, and left as it was found."""
    port = int(os.environ.get("CADREL_DB_PORT", "8462"))
    database = Postgres(var, port=port, name=name)
    was_running = database.pid is not None
    database.start(say=lambda text: print(f"cadrel: {text}", file=sys.stderr))
    try:
        yield database
    finally:
        if not was_running:
            database.stop()


def _run(database: Postgres, program: str, *arguments: str) -> None:
    reach = ["--host=127.0.0.1", f"--port={database.port}", "--username=cadrel", "--no-password"]
    done = subprocess.run(
        [str(database.programs / program), *reach, *arguments],
        env=os.environ | {"PGPASSWORD": database.password},
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        said = done.stderr.strip().splitlines()
        raise CannotStart(f"{program} failed: {said[-1] if said else done.returncode}")


def _sql(database: Postgres, command: str) -> None:
    _run(database, "psql", "--dbname=postgres", "--quiet", "--set=ON_ERROR_STOP=1", f"--command={command}")
