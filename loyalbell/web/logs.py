"""The log of the program: levels, words or JSON, rotation, and nothing about customers in it."""

import logging
import re
import sys
from collections import deque
from collections.abc import MutableMapping
from dataclasses import dataclass
from logging.handlers import RotatingFileHandler
from pathlib import Path
from typing import Any

import structlog

from loyalbell.storage.opening import FILE_MODE
from loyalbell.web.server_settings import ServerSettings

MOST_BYTES, FILES_KEPT = 5 * 1024 * 1024, 5
MAIL = re.compile(r"[\w.+'%-]+@(?=[\w-]+(?:\.[\w-]+)+)")
PHONE = re.compile(r"(?<![\w.:-])\+?\d[\d ()/-]{7,}\d(?![\w:-])")
KEPT_ERRORS = 20
Event = MutableMapping[str, Any]


@dataclass(frozen=True)
class LoggedError:
    """What went wrong lately, for the page on the program's health."""

    at: str
    event: str
    kind: str


recent_errors: deque[LoggedError] = deque(maxlen=KEPT_ERRORS)


def without_people(_logger: Any, _name: str, event: Event) -> Event:
    """Addresses and numbers of people are taken out of everything that is logged, tracebacks included."""
    return {name: _masked(value) for name, value in event.items()}


def _masked(value: Any) -> Any:
    if isinstance(value, str):
        return PHONE.sub("[number]", MAIL.sub("[somebody]@", value))
    return value


def keep_error(_logger: Any, _name: str, event: Event) -> Event:
    if event.get("level") in ("error", "critical"):
        said = str(event.get("exception", "")).strip().splitlines()
        kind = said[-1].partition(":")[0] if said else ""
        recent_errors.append(LoggedError(str(event.get("timestamp", "")), str(event.get("event", "")), kind))
    return event


class _StandardError(logging.Handler):
    """Wherever standard error leads at that moment."""

    def emit(self, record: logging.LogRecord) -> None:
        print(self.format(record), file=sys.stderr, flush=True)


def set_up(settings: ServerSettings) -> None:
    """To standard error, and to a file that is changed for a new one before it grows large."""
    handlers: list[logging.Handler] = [_StandardError()]
    if settings.log_file is not None:
        handlers.append(_file(settings.log_file))
    logging.basicConfig(level=logging.WARNING, format="%(message)s", handlers=handlers, force=True)
    logging.getLogger("loyalbell").setLevel(settings.log_level.upper())
    last = (
        structlog.processors.JSONRenderer(sort_keys=True)
        if settings.log_form == "json"
        else structlog.dev.ConsoleRenderer(colors=False)
    )
    structlog.configure(
        processors=[
            structlog.stdlib.filter_by_level,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            structlog.processors.format_exc_info,
            without_people,
            keep_error,
            last,
        ],
        logger_factory=structlog.stdlib.LoggerFactory(),
        cache_logger_on_first_use=False,
    )


def _file(path: Path) -> logging.Handler:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.touch(FILE_MODE, exist_ok=True)
    return RotatingFileHandler(path, maxBytes=MOST_BYTES, backupCount=FILES_KEPT, encoding="utf-8")
