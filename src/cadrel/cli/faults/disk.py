"""A disk that is full: the stand-in's, the database's. Small file systems of their own; needs root."""

import contextlib
import html
import os
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from cadrel.bench.service import DriveService
from cadrel.bench.store import load_permanent, save_permanent
from cadrel.cli.faults.rigged import Rigged
from cadrel.cli.stack import ROOT
from cadrel.core.simulation import RigTruth, SimulatedDrive
from cadrel.exchange import read_rig
from cadrel.link import LinkedDrive, LocalLink, RefusedByDrive

Row = tuple[str, bool, str]  # what was written, whether all was as wanted, what was said
KEY = "position.gain"


@contextlib.contextmanager
def small_disk(folder: Path, megabytes: int) -> Iterator[None]:
    """A file system of that size at a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={megabytes}m", "cadrel-test", str(folder)], check=True)
    try:
        yield
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)


def fill(folder: Path) -> Path:
    """Take every byte that is left; returns the file to delete."""
    path = folder / "filler"
    with open(path, "wb", buffering=0) as file, contextlib.suppress(OSError):
        while True:
            file.write(b"\0" * 4096)
    return path


def fill_the_disk() -> list[Row]:
    """Return a row for each disk."""
    if os.geteuid():
        return [("–", False, "not run: mounting a small file system needs root")]
    with tempfile.TemporaryDirectory(prefix="cadrel-disk-") as folder:
        return [_stand_in(Path(folder) / "memory"), _database(Path(folder) / "var")]


def _stand_in(folder: Path) -> Row:
    path = ROOT / "demo" / "rigs" / "tile-pusher.json"
    with small_disk(folder, 1):
        simulated = SimulatedDrive("axis", RigTruth.from_dict(read_rig(path.read_bytes(), name=str(path))))
        service = DriveService({"axis": simulated}, keep=lambda d, v: save_permanent(d, folder, v))
        drive = LinkedDrive(LocalLink(service.answer, service.advance), "axis")
        drive.take_control("evidence")
        drive.write({KEY: 33.0})
        drive.store()
        filler, said = fill(folder), ""
        drive.write({KEY: 44.0})
        try:
            drive.store()
        except RefusedByDrive as refusal:
            said = " ".join(refusal.parts)
        unstored = KEY in drive.status()["not_stored"]
        load_permanent(simulated, folder)  # as after power-off
        kept = simulated.memory.permanent[KEY]
        filler.unlink()
        drive.take_control("evidence")
        drive.write({KEY: 55.0})
        drive.store()
        load_permanent(simulated, folder)
        good = bool(said) and unstored and kept == 33.0 and simulated.memory.permanent[KEY] == 55.0
    return ("a value stored in the stand-in's permanent memory", good, said)


def _database(var: Path) -> Row:
    var.mkdir(parents=True)
    rigged = Rigged(var)
    with small_disk(rigged.postgres.home, 160):
        os.chown(rigged.postgres.home, *_postgres_ids())
        rigged.start()
        try:
            client = rigged.client()
            filler = fill(rigged.postgres.home)
            statuses: set[int] = set()
            said = ""
            before = int(str(rigged.query("SELECT count(*) FROM projects_project")[0][0]))
            made = 0
            until = time.monotonic() + 60
            while time.monotonic() < until and not statuses & {503, 507}:
                form = {"name": f"P{made}" * 8, "machine": "m" * 60, "drive": "D", "axis": "A", "remote": "tile-pusher",
                        "host": "127.0.0.1", "port": str(rigged.bench)}  # fmt: skip
                status, text = client.post("/new/", form)
                statuses.add(status)
                made += status == 302
                if status in (503, 507):
                    said = html.unescape(text.partition("<h1>")[2].partition("</h1>")[0])
            filler.unlink()
            until = time.monotonic() + 40
            while (status := client.get("/")[0]) != 200 and time.monotonic() < until:
                time.sleep(0.3)
            after = int(str(rigged.query("SELECT count(*) FROM projects_project")[0][0]))
            whole = rigged.query(
                "SELECT count(*) FROM projects_project p WHERE NOT EXISTS (SELECT 1 FROM projects_drive d JOIN "
                "projects_axis a ON a.drive_id = d.id WHERE d.project_id = p.id)"
            )[0][0]
            again, _ = client.post("/new/", form | {"name": "Afterwards"})
            good = bool(said) and 500 not in statuses and after - before == made and whole == 0 and again == 302
            return (
                "projects, into a database without room",
                good,
                f"{said} ({made} made before, {after - before} kept)",
            )
        finally:
            rigged.stop()


def _postgres_ids() -> tuple[int, int]:
    import pwd

    found = pwd.getpwnam("postgres")
    return found.pw_uid, found.pw_gid
