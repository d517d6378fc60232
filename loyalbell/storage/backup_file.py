"""A backup: one file, a zip with a copy of the book, what was uploaded to it, and a list with checksums.

The book is copied by SQLite's online backup (https://sqlite.org/backup.html), which sees one consistent state
while the program writes on. Copying the files by hand while it runs does not: what stands in the write-ahead
log is lost.
"""

import hashlib
import json
import os
import secrets
import shutil
import sqlite3
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import IO

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from loyalbell import __version__
from loyalbell.storage.opening import FILE_MODE, revision_of, sync_file

BOOK_IN_IT, LIST_IN_IT = "book.sqlite3", "contents.json"
FOLDER = "backups"
ALONG = ("imports",)
"""Folders beside the book that go with it."""
AT_ONCE = 1 << 20
PACKED = 1
"""How hard to compress: the first step is four times as quick as the usual one, for a tenth more bytes."""
SPARE = 50 * 1024 * 1024
"""Room on the disk that a copy leaves free, in bytes."""


class BackupProblem(Exception):
    """A copy cannot be made or used; the words say which, why, and what to do."""


class Entry(BaseModel):
    """One file in a copy. ``size`` in bytes."""

    model_config = ConfigDict(extra="ignore")
    name: str
    size: int
    sha256: str


class Contents(BaseModel):
    """What a backup holds. ``why``: *by hand*, *by the clock*, or *before an upgrade*.

    ``book_time``: what the book's own clock said; only a demo's differs from the time of day.
    """

    model_config = ConfigDict(extra="ignore")
    made_at: datetime
    book_time: datetime
    why: str
    version: str
    revision: str
    shop: str = ""
    people: int = 0
    deliveries: int = 0
    entries: list[Entry] = Field(default_factory=list)


@dataclass(frozen=True)
class Backup:
    """One on the disk. ``size`` in bytes; ``contents`` is ``None`` where it cannot be read."""

    path: Path
    size: int
    contents: Contents | None


def write(book: Path, folder: Path, why: str, book_time: datetime | None = None) -> Path:
    """Makes a copy of the book and of what lies along it, in ``folder``. Raises ``BackupProblem``.

    Nothing stands there under its name before it is whole.
    """
    now = datetime.now(UTC)
    try:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        _need_room(book, folder)
        with tempfile.TemporaryDirectory(prefix=".copying-", dir=folder) as scratch:
            copied = Path(scratch) / BOOK_IN_IT
            copy_book(book, copied)
            packed = Path(scratch) / "packed"
            _pack(copied, book.parent, packed, why, (now, book_time or now))
            sync_file(packed)
            target = folder / f"loyal-bell-{now:%Y%m%d-%H%M%S}-{secrets.token_hex(2)}.zip"
            packed.rename(target)
        sync_file(folder)
        return target
    except (OSError, sqlite3.DatabaseError) as error:
        raise BackupProblem(f"No backup could be made in {folder}: {error}.") from error


def _need_room(book: Path, folder: Path) -> None:
    wanted = 2 * book.stat().st_size + SPARE
    free = shutil.disk_usage(folder).free
    if free < wanted:
        raise BackupProblem(
            f"There is too little room in {folder} for a backup: it takes about {wanted // 10**6:,} MB, and"
            f" {free // 10**6:,} MB are free."
        )


def copy_book(book: Path, target: Path) -> None:
    """One consistent state of a book that is perhaps being written to, as one file. Checked."""
    os.close(os.open(target, os.O_CREAT | os.O_EXCL | os.O_WRONLY, FILE_MODE))
    source, copy = sqlite3.connect(book), sqlite3.connect(target)
    try:
        source.backup(copy)
        copy.execute("PRAGMA journal_mode=DELETE")
        found = [row[0] for row in copy.execute("PRAGMA quick_check(3)")]
    finally:
        copy.close()
        source.close()
    if found != ["ok"]:
        raise sqlite3.DatabaseError(f"the copy is damaged ({'; '.join(found)})")


def _pack(copied: Path, data: Path, packed: Path, why: str, times: tuple[datetime, datetime]) -> None:
    along = [
        path
        for name in ALONG
        for path in sorted((data / name).rglob("*"))
        if path.is_file() and not path.is_symlink()
    ]
    entries = []
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED, compresslevel=PACKED) as file:
        for path, name in [(copied, BOOK_IN_IT), *((path, str(path.relative_to(data))) for path in along)]:
            with path.open("rb") as source, file.open(name, "w", force_zip64=True) as target:
                size, digest = _poured(source, target)
            entries.append(Entry(name=name, size=size, sha256=digest))
        contents = Contents(
            made_at=times[0],
            book_time=times[1],
            why=why,
            version=__version__,
            revision=revision_of(copied),
            entries=entries,
            **_figures(copied),
        )
        file.writestr(LIST_IN_IT, contents.model_dump_json(indent=2))
    packed.chmod(FILE_MODE)


def _poured(source: IO[bytes], target: IO[bytes] | None) -> tuple[int, str]:
    """Copies to the end. Returns the size in bytes and the SHA-256."""
    size, digest = 0, hashlib.sha256()
    while some := source.read(AT_ONCE):
        size += len(some)
        digest.update(some)
        if target is not None:
            target.write(some)
    return size, digest.hexdigest()


def _figures(book: Path) -> dict[str, str | int]:
    """The shop's name and how much is in the book, as far as its version has the tables."""
    found: dict[str, str | int] = {}
    connection = sqlite3.connect(book)
    try:
        for name, query in (
            ("shop", "SELECT name FROM shop"),
            ("people", "SELECT count(*) FROM person"),
            ("deliveries", "SELECT count(*) FROM delivery"),
        ):
            try:
                row = connection.execute(query).fetchone()
            except sqlite3.OperationalError:
                continue
            found[name] = row[0] if row else ""
    finally:
        connection.close()
    return found


def read_contents(path: Path) -> Contents:
    """Raises ``BackupProblem`` where the file is no copy of a book."""
    try:
        with zipfile.ZipFile(path) as file:
            return Contents.model_validate_json(file.read(LIST_IN_IT))
    except (OSError, zipfile.BadZipFile, zlib.error, KeyError) as error:
        raise BackupProblem(f"{path} is not a backup, or only a part of one ({error}).") from error
    except (ValidationError, json.JSONDecodeError) as error:
        raise BackupProblem(f"{path} is a backup whose list of contents cannot be read.") from error


def backups_in(folder: Path) -> list[Backup]:
    """The newest first; those that cannot be read last."""
    found = []
    for path in folder.glob("*.zip"):
        try:
            contents = read_contents(path)
        except BackupProblem:
            contents = None
        found.append(Backup(path, path.stat().st_size, contents))
    oldest = datetime.min.replace(tzinfo=UTC)
    return sorted(found, key=lambda copy: copy.contents.made_at if copy.contents else oldest, reverse=True)


def check(path: Path) -> Contents:
    """Unpacks it to one side and looks whether everything is there and whole. Raises ``BackupProblem``."""
    with unpacked(path, path.parent) as (_, contents):
        return contents


@contextmanager
def unpacked(path: Path, beside: Path) -> Iterator[tuple[Path, Contents]]:
    """A folder beside another with what is in the copy, checked; it is gone at the end unless it was moved.

    Raises ``BackupProblem``.
    """
    contents = read_contents(path)
    try:
        beside.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(
            prefix=".unpacking-", dir=beside, ignore_cleanup_errors=True
        ) as scratch:
            folder = Path(scratch) / "book"
            folder.mkdir(mode=0o700)
            with zipfile.ZipFile(path) as file:
                for entry in contents.entries:
                    _take_out(file, entry, folder, path)
            _check_book(folder / BOOK_IN_IT, path)
            yield folder, contents
    except (OSError, zipfile.BadZipFile, zlib.error, KeyError, EOFError) as error:
        raise BackupProblem(f"{path} cannot be unpacked: {error}.") from error


def _take_out(file: zipfile.ZipFile, entry: Entry, folder: Path, path: Path) -> None:
    target = folder / entry.name
    if not target.resolve().is_relative_to(folder.resolve()):
        raise BackupProblem(f"{path} holds a file that would land outside its folder ({entry.name}).")
    target.parent.mkdir(parents=True, exist_ok=True)
    with file.open(entry.name) as source, target.open("wb") as out:
        size, digest = _poured(source, out)
    target.chmod(FILE_MODE)
    if (size, digest) != (entry.size, entry.sha256):
        raise BackupProblem(
            f"{path} is damaged: {entry.name} is not what was put into it. Use another backup."
        )


def _check_book(book: Path, path: Path) -> None:
    if not book.exists():
        raise BackupProblem(f"{path} holds no book.")
    problems = problems_of(book)
    if problems:
        raise BackupProblem(f"The book in {path} is damaged: {'; '.join(problems)}. Use another backup.")


def problems_of(book: Path) -> list[str]:
    """What SQLite's whole check finds in a book, and rows that point to nothing; empty where all is well."""
    try:
        connection = sqlite3.connect(f"{book.resolve().as_uri()}?mode=ro", uri=True)
        try:
            found = [row[0] for row in connection.execute("PRAGMA integrity_check(10)") if row[0] != "ok"]
            lost = connection.execute("PRAGMA foreign_key_check").fetchmany(10)
        finally:
            connection.close()
    except sqlite3.DatabaseError as error:
        return [str(error)]
    return found + [
        f"a row of {table} points to a {parent} that is not there" for table, _, parent, _ in lost
    ]
