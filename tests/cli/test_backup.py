"""What a backup holds comes back, and a damaged one loses nothing."""

import zipfile
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest

from cadrel.cli.backup import DUMP, MANIFEST, backup, restore
from cadrel.cli.services import Postgres, is_free


@pytest.fixture
def database(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Postgres]:
    """A server with a table that has one row, and a stand-in's memory."""
    port, web = [p for p in range(8480, 8520) if is_free(p)][-2:]
    monkeypatch.setenv("CADREL_VAR", str(tmp_path))
    monkeypatch.setenv("CADREL_DB_PORT", str(port))
    monkeypatch.setenv("CADREL_WEB_PORT", str(web))
    made = Postgres(tmp_path, port=port, name="demo")
    made.start()
    with connect(made, "postgres") as connection:
        connection.execute("CREATE DATABASE cadrel")
    put(made, "before")
    (tmp_path / "bench-demo").mkdir()
    (tmp_path / "bench-demo" / "axis.json").write_text('{"position.gain": 33}')
    yield made
    made.remove()


def connect(database: Postgres, name: str = "cadrel") -> psycopg.Connection[tuple[object, ...]]:
    return psycopg.connect(
        host="127.0.0.1", port=database.port, user="cadrel", password=database.password, dbname=name, autocommit=True
    )


def put(database: Postgres, text: str) -> None:
    with connect(database) as connection:
        connection.execute("CREATE TABLE IF NOT EXISTS kept (value text)")
        connection.execute("DELETE FROM kept")
        connection.execute("INSERT INTO kept VALUES (%s)", [text])


def kept(database: Postgres) -> object:
    with connect(database) as connection:
        row = connection.execute("SELECT value FROM kept").fetchone()
    return row and row[0]


def test_what_was_backed_up_comes_back(database: Postgres, tmp_path: Path) -> None:
    path = tmp_path / "all.zip"
    assert backup(path) == 0
    put(database, "after")
    (tmp_path / "bench-demo" / "axis.json").write_text("{}")
    (tmp_path / "bench-demo" / "newer.json").write_text("{}")
    assert restore(path) == 0
    assert kept(database) == "before"
    assert (tmp_path / "bench-demo" / "axis.json").read_text() == '{"position.gain": 33}'
    assert not (tmp_path / "bench-demo" / "newer.json").exists()


def test_a_damaged_or_foreign_file_loses_nothing(
    database: Postgres, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    good = tmp_path / "good.zip"
    assert backup(good) == 0
    put(database, "now")
    with zipfile.ZipFile(good) as archive:
        manifest, dump = archive.read(MANIFEST), archive.read(DUMP)
    for name, parts in (
        ("cut.zip", {MANIFEST: manifest, DUMP: dump[: len(dump) // 2]}),
        ("other.zip", {"readme": b"hello"}),
        ("newer.zip", {MANIFEST: manifest.replace(b'"version": 1', b'"version": 9'), DUMP: dump}),
    ):
        with zipfile.ZipFile(tmp_path / name, "w") as archive:
            for part, body in parts.items():
                archive.writestr(part, body)
        assert restore(tmp_path / name) == 2
        assert "nothing was restored" in capsys.readouterr().err
    (tmp_path / "text.zip").write_text("not an archive")
    assert restore(tmp_path / "text.zip") == 2
    assert kept(database) == "now"


def test_a_running_cadrel_is_not_restored_over(database: Postgres, tmp_path: Path) -> None:
    import socket

    assert backup(tmp_path / "all.zip") == 0
    with socket.create_server(("127.0.0.1", 0)) as taken:
        assert restore(tmp_path / "all.zip", web=taken.getsockname()[1]) == 2


def test_a_backup_that_cannot_be_written_leaves_nothing(database: Postgres, tmp_path: Path) -> None:
    assert backup(tmp_path / "no" / "such" / "folder.zip") == 2
    assert not list(tmp_path.glob("**/*.new"))
