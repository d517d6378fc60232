"""The chain of the log: each entry carries the hash of itself and of the one before it, so that one changed,
removed or put in later breaks it (hash chaining: Haber & Stornetta, "How to time-stamp a digital document",
Journal of Cryptology 1991). Entries cut from the newest end show only against a copy of an earlier end.
"""

import hashlib
import json
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from sqlalchemy import create_engine, delete, func, select
from sqlalchemy.orm import Session
from sqlalchemy.pool import NullPool

from loyalbell.storage.schema import LogEntry, LogStart

TAIL = "newest of the log"
"""In ``Session.info``: the hash of the newest entry, written or about to be."""


@dataclass(frozen=True)
class Checked:
    """``broken`` is the id of the first entry that does not fit; ``end`` the hash of the newest."""

    entries: int
    broken: int | None
    end: str


def link(before: str, at: int, by: str, act: str, detail: dict[str, Any], source: str) -> str:
    """SHA-256 in hex over the hash before and the entry; ``at`` in seconds since 1970."""
    said = json.dumps([before, at, by, act, detail, source], sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(said.encode()).hexdigest()


def add(session: Session, at: datetime, by: str, act: str, detail: dict[str, Any], source: str) -> None:
    """One entry more, in the caller's transaction."""
    plain = json.loads(json.dumps(detail))
    before = session.info.get(TAIL) or _newest(session)
    chain = link(before, int(at.timestamp()), by, act, plain, source)
    session.add(LogEntry(at=at, by=by, act=act, detail=plain, source=source, chain=chain))
    session.info[TAIL] = chain


def forget_tail(session: Session) -> None:
    """Others may have written since."""
    session.info.pop(TAIL, None)


def _newest(session: Session) -> str:
    with session.no_autoflush:
        found = session.scalar(select(LogEntry.chain).order_by(LogEntry.id.desc()).limit(1))
    return found if found is not None else _start(session)


def _start(session: Session) -> str:
    with session.no_autoflush:
        kept = session.get(LogStart, 1)
    return kept.chain if kept else ""


def check(session: Session) -> Checked:
    """Follows the chain from its start to its end."""
    before, count = _start(session), 0
    for entry in session.scalars(select(LogEntry).order_by(LogEntry.id).execution_options(yield_per=1_000)):
        count += 1
        at = int(entry.at.timestamp())
        if entry.chain != link(before, at, entry.by, entry.act, entry.detail, entry.source):
            return Checked(count, entry.id, before)
        before = entry.chain
    return Checked(count, None, before)


def check_file(book: Path) -> Checked:
    """Of a book that may not be opened for writing. It must stand at the newest migration."""
    engine = create_engine(f"sqlite:///file:{book}?mode=ro&uri=true", poolclass=NullPool)
    try:
        with Session(engine) as session:
            return check(session)
    finally:
        engine.dispose()


def how_many_before(session: Session, moment: datetime) -> int:
    return session.scalar(select(func.count()).select_from(LogEntry).where(LogEntry.at < moment)) or 0


def cut_before(session: Session, moment: datetime) -> int:
    """Deletes what is older than ``moment``, from the start and without a gap; returns how many. The newest
    entry always stays.
    """
    first_kept = session.scalar(select(func.min(LogEntry.id)).where(LogEntry.at >= moment))
    newest = session.scalar(select(func.max(LogEntry.id)))
    if newest is None:
        return 0
    last = session.execute(
        select(LogEntry.id, LogEntry.chain)
        .where(LogEntry.id < (first_kept or newest))
        .order_by(LogEntry.id.desc())
        .limit(1)
    ).first()
    if last is None:
        return 0
    kept = session.get(LogStart, 1) or LogStart(id=1, up_to=0, chain="")
    kept.up_to, kept.chain = last.id, last.chain
    session.add(kept)
    session.flush()
    gone = session.execute(delete(LogEntry).where(LogEntry.id <= last.id))
    return int(gone.rowcount)  # type: ignore[attr-defined]


def relink(rows: Iterable[tuple[int, str, str, dict[str, Any]]]) -> Iterable[str]:
    """The hashes of entries (at, by, act, detail) kept before there was a chain, oldest first."""
    before = ""
    for at, by, act, detail in rows:
        before = link(before, at, by, act, detail, "")
        yield before
