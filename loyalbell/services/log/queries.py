"""Reading the log: by who, what, which days; as a table for other programs."""

import csv
import io
import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, time, timedelta

from sqlalchemy import Select, and_, cast, func, or_, select
from sqlalchemy.types import Text

from loyalbell.core.clock.local_time import at_local
from loyalbell.services.application import Application
from loyalbell.storage import log_chain
from loyalbell.storage.files.import_outcome import guarded
from loyalbell.storage.log_chain import Checked
from loyalbell.storage.schema import LogEntry

PAGE = 100
KINDS: dict[str, tuple[str, ...]] = {
    "signing in": ("%sign%in%", "signed out", "%session%", "%password%", "%second factor%", "%recovery%"),
    "people": ("%a person%",),
    "settings": (
        "%settings%",
        "switched to%",
        "%letterhead%",
        "%customers are asked%",
        "%token%",
        "%webhook%",
    ),
    "sending": ("%campaign%", "%sequence%", "%messages%", "%held%", "%approv%"),
    "downloads": ("downloaded%",),
    "customers": ("%customer%", "%merge%", "%import%"),
}
"""What is asked for together, by patterns of its words."""


@dataclass(frozen=True)
class LogFilter:
    """``kind`` is one of ``KINDS``; ``first`` and ``last`` are days of the shop, both taken in."""

    who: str = ""
    kind: str = ""
    words: str = ""
    first: date | None = None
    last: date | None = None

    @property
    def is_open(self) -> bool:
        return self == LogFilter()


def entries(application: Application, asked: LogFilter, before: int = 0, limit: int = PAGE) -> list[LogEntry]:
    """The newest first; ``before`` the entry of this id."""
    query = _query(application, asked).order_by(LogEntry.id.desc()).limit(limit)
    if before:
        query = query.where(LogEntry.id < before)
    with application.database.reading() as session:
        return list(session.scalars(query))


def everyone(application: Application) -> list[str]:
    """All whose acts are in the log, by name."""
    with application.database.reading() as session:
        return list(session.scalars(select(LogEntry.by).distinct().order_by(func.lower(LogEntry.by))))


def checked(application: Application) -> Checked:
    with application.database.reading() as session:
        return log_chain.check(session)


def as_csv(application: Application, asked: LogFilter) -> Iterator[str]:
    """A line each, the oldest first, with the hash that links it to the one before (RFC 4180)."""
    yield _line(["number", "at", "by", "from", "act", "detail", "hash"])
    with application.database.reading() as session:
        found = _query(application, asked).order_by(LogEntry.id).execution_options(yield_per=1_000)
        for one in session.scalars(found):
            detail = json.dumps(one.detail, ensure_ascii=False)
            yield _line([one.id, one.at.isoformat(), one.by, one.source, one.act, detail, one.chain])


def _line(cells: list[object]) -> str:
    out = io.StringIO()
    csv.writer(out).writerow([guarded(str(cell)) for cell in cells])
    return out.getvalue()


def _query(application: Application, asked: LogFilter) -> Select[LogEntry]:
    zone, wanted = application.the_shop().zone, []
    if asked.who:
        wanted.append(LogEntry.by == asked.who)
    if asked.kind in KINDS:
        wanted.append(or_(*(LogEntry.act.like(pattern) for pattern in KINDS[asked.kind])))
    if asked.words:
        held = f"%{asked.words}%"
        wanted.append(or_(LogEntry.act.like(held), cast(LogEntry.detail, Text).like(held)))
    if asked.first:
        wanted.append(LogEntry.at >= at_local(asked.first, time(), zone))
    if asked.last:
        wanted.append(LogEntry.at < at_local(asked.last + timedelta(days=1), time(), zone))
    return select(LogEntry).where(and_(True, *wanted))
