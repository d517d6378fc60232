"""The snapshot as files beside the book, mapped into memory: a start reads what has changed since, instead of
millions of rows.

One ``.npy`` file (NumPy's open format) a column in a folder of its own, and ``about.json`` with words,
catalogue and version. The files are believed only under a seal: written as the book is closed, it holds how
the book file stood then, and is broken when the book is opened. After a kill, or where the book was restored,
put back by hand or written to by another program, the seal is missing or does not fit, and the book is read
anew.
"""

import hashlib
import secrets
import shutil
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, fields, replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel, ValidationError

from loyalbell.core.history.columns import NEVER, Column, Rows
from loyalbell.core.history.snapshot import Catalogue, HistorySnapshot, People, WordCodes
from loyalbell.storage.opening import FILE_MODE, FOLDER_MODE, newest_revision, sync_file

FOLDER, SEAL, ABOUT = "columns-", "columns.seal", "about.json"
READERS = ("core/history/columns.py", "core/history/snapshot.py", "storage/snapshot/loading.py")
READER_FOLDER = "storage/snapshot/rows"
SMALL = 4_096
"""Files of so many bytes are read instead of mapped."""


class About(BaseModel):
    """What is not a column. ``reader``: by which code and migration the columns were read from the book."""

    reader: str
    version: int
    zone: str
    currency: str
    leap_day: str
    words: list[str]
    catalogue: Catalogue


class Seal(BaseModel):
    """How the book file stood as it was closed, the ``newest`` note of its change log, and which folder holds
    its columns.
    """

    folder: str
    newest: int
    size: int
    modified: int
    inode: int


@cache
def reader_mark() -> str:
    """Changes with the code that reads the columns and with the newest migration."""
    package = Path(__file__).parents[1]
    files = [package / name for name in READERS] + sorted((package / READER_FOLDER).glob("*.py"))
    digest = hashlib.sha256(newest_revision().encode())
    for file in files:
        digest.update(file.read_bytes())
    return digest.hexdigest()


def write(data: Path, snapshot: HistorySnapshot) -> Path:
    """A new folder with the columns, under no seal yet. Whatever older folders there are goes.

    Raises ``OSError`` where there is no room; nothing half-written stays.
    """
    folder = data / f"{FOLDER}{secrets.token_hex(6)}"
    folder.mkdir(mode=FOLDER_MODE)
    try:
        used = np.zeros(len(snapshot.words.said), dtype=np.bool_)
        for name, values, of_words in _columns(snapshot):
            np.save(folder / f"{name}.npy", values, allow_pickle=False)
            if of_words:
                used[values] = True
        about = About(
            reader=reader_mark(),
            version=snapshot.version,
            zone=snapshot.zone,
            currency=snapshot.currency,
            leap_day=snapshot.leap_day,
            words=[word if kept else "" for word, kept in zip(snapshot.words.said, used, strict=False)],
            catalogue=snapshot.catalogue,
        )
        (folder / ABOUT).write_text(about.model_dump_json())
        for file in folder.iterdir():
            file.chmod(FILE_MODE)
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise
    remove(data, but=folder)
    return folder


def read(folder: Path) -> HistorySnapshot | None:
    """The snapshot with its columns mapped; ``None`` where it is not whole, or of another version of this
    program.
    """
    try:
        about = About.model_validate_json((folder / ABOUT).read_bytes())
        if about.reader != reader_mark():
            return None
        return _assembled(folder, about)
    except (OSError, ValueError):
        return None


def seal(book: Path, folder: Path, newest: int) -> None:
    """Says that the columns are those of the book as it lies there, closed by everybody."""
    if any(book.with_name(book.name + end).exists() for end in ("-wal", "-journal")):
        return
    stat = book.stat()
    held = Seal(
        folder=folder.name,
        newest=newest,
        size=stat.st_size,
        modified=stat.st_mtime_ns,
        inode=stat.st_ino,
    )
    making = book.parent / f"{SEAL}-{secrets.token_hex(4)}"
    making.touch(mode=FILE_MODE)
    making.write_text(held.model_dump_json())
    sync_file(making)
    making.replace(book.parent / SEAL)


@dataclass(frozen=True)
class Believed:
    """Columns of the book as it was closed when the ``newest`` note of its change log was this."""

    folder: Path
    newest: int


def break_seal(book: Path) -> Believed | None:
    """The columns, where they are those of the book; the seal is gone afterwards."""
    path = book.parent / SEAL
    try:
        held = Seal.model_validate_json(path.read_bytes())
        stat = book.stat()
    except (OSError, ValidationError):
        held = None
    with suppress(
        OSError
    ):  # where it cannot be taken away the book cannot be opened either, and that is said
        path.unlink(missing_ok=True)
    if held is None or any(book.with_name(book.name + end).exists() for end in ("-wal", "-journal")):
        return None
    fits = (held.size, held.modified, held.inode) == (stat.st_size, stat.st_mtime_ns, stat.st_ino)
    folder = book.parent / held.folder
    ours = held.folder.startswith(FOLDER) and folder.is_dir()
    return Believed(folder, held.newest) if fits and ours else None


def remove(data: Path, but: Path | None = None) -> None:
    """Takes the columns away; whoever has them mapped goes on."""
    for folder in data.glob(f"{FOLDER}*"):
        if folder != but:
            shutil.rmtree(folder, ignore_errors=True)
    if but is None:
        (data / SEAL).unlink(missing_ok=True)


def _columns(snapshot: HistorySnapshot) -> Iterator[tuple[str, Column, bool]]:
    """Name, values, and whether they are codes of words. Nothing of somebody who was erased is among them."""
    for one in fields(snapshot):
        part = getattr(snapshot, one.name)
        if isinstance(part, People):
            part = _without_erased(part)
        if isinstance(part, Rows | People):
            for column in fields(part):
                of_words = bool(column.metadata.get("of words"))
                yield f"{one.name}.{column.name}", getattr(part, column.name), of_words


def _without_erased(people: People) -> People:
    """Their numbers stay, since others' numbers follow from them."""
    gone = people.joined_at >= NEVER
    if not bool(gone.any()):
        return people
    bare = People.of(people.ids, people.joined_at)
    mended = {one.name: getattr(people, one.name).copy() for one in fields(people)}
    for name, values in mended.items():
        values[gone] = getattr(bare, name)[gone]
    return People(**mended)


def _assembled(folder: Path, about: About) -> HistorySnapshot:
    bare = HistorySnapshot(about.zone, about.currency, People.of([], []), leap_day=about.leap_day)
    parts: dict[str, Any] = {}
    for one in fields(bare):
        part = getattr(bare, one.name)
        if isinstance(part, Rows | People):
            parts[one.name] = type(part)(
                **{column.name: _mapped(folder / f"{one.name}.{column.name}.npy") for column in fields(part)}
            )
    words = WordCodes()
    words.said = about.words
    words.update((word, code) for code, word in enumerate(about.words) if word)
    return replace(bare, catalogue=about.catalogue, words=words, version=about.version, **parts)


def _mapped(file: Path) -> Column:
    """Read only. A column without rows cannot be mapped, and is read."""
    found = np.load(file, mmap_mode="r" if file.stat().st_size > SMALL else None, allow_pickle=False)
    plain: Column = np.asarray(found)
    return plain
