"""Endings on disk until the database has them: a finished run survives a lost database and a killed worker.

One file each, written whole or not at all, readable by their owner only: this program's own, in its own folder.
"""

import logging
import os
import pickle
from collections.abc import Iterator
from pathlib import Path

from django.conf import settings

from cadrel.web.jobs.running import Ending

log = logging.getLogger("cadrel.worker")


def folder() -> Path:
    """Where they are."""
    return Path(settings.SPOOL)


def _path(job_id: int) -> Path:
    return folder() / f"job-{job_id}.ending"


def put(ending: Ending) -> bool:
    """Keep an ending; whether the disk took it. A full disk is no end: the worker holds it in memory as well."""
    path = _path(ending.job)
    scratch = path.with_suffix(".new")
    try:
        folder().mkdir(mode=0o700, parents=True, exist_ok=True)
        with os.fdopen(os.open(scratch, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
            pickle.dump(ending, file, protocol=5)
            file.flush()
            os.fsync(file.fileno())
        scratch.replace(path)
    except OSError as error:
        scratch.unlink(missing_ok=True)
        log.error("the ending of job %d could not be kept on disk: %s", ending.job, error)
        return False
    return True


def holds(job_id: int) -> bool:
    """Whether a finished run waits for the database."""
    return _path(job_id).exists()


def drop(job_id: int) -> None:
    """The database has it."""
    _path(job_id).unlink(missing_ok=True)


def set_aside(job_id: int) -> None:
    """Keep what cannot be recorded out of the way, for whoever looks into it."""
    path = _path(job_id)
    if path.exists():
        path.replace(path.with_suffix(".unusable"))


def waiting() -> Iterator[Ending]:
    """Every ending that waits, oldest first; one that cannot be read is set aside."""
    for path in sorted(folder().glob("job-*.ending"), key=lambda p: p.stat().st_mtime):
        try:
            yield pickle.loads(path.read_bytes())
        except Exception as error:  # half a file, another version's
            log.error("%s cannot be read: %s", path, error)
            path.replace(path.with_suffix(".unusable"))
