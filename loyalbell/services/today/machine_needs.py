"""What the machine needs a person for: no fresh backup, no room on the disk; and a book that was restored."""

import time
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages.spoken_dates import say_instant
from loyalbell.services.accounts.sessions import FAILED_ACT
from loyalbell.services.application import Application
from loyalbell.services.backups import commands as backup_commands
from loyalbell.services.backups import queries as backup_queries
from loyalbell.services.delivery.perhaps_gone import RestoredSettings
from loyalbell.services.health import room
from loyalbell.services.imports import watched_folder
from loyalbell.services.settings import secrets_at_rest
from loyalbell.services.today.needs import Need
from loyalbell.storage.schema import LogEntry, Shop

MANY_TRIES = 10
UP_SECONDS = 3_600.0
"""A program that has just started is given so long to make its backup by itself."""
STARTED = time.monotonic()


def machine_needs(application: Application) -> list[Need]:
    needs = []
    if room.TOPIC in application.troubles:
        words = application.troubles[room.TOPIC]
        needs.append(Need("There is no room on the disk", words, "/settings/health", "Look", True))
    if secrets_at_rest.TOPIC in application.troubles:
        words = application.troubles[secrets_at_rest.TOPIC]
        needs.append(
            Need("Passwords of your channels cannot be read", words, "/settings/channels", "Look", True)
        )
    trouble = application.troubles.get(backup_commands.TOPIC)
    if trouble:
        needs.append(Need("No backup could be made", trouble, "/settings/backups", "Look", True))
    elif time.monotonic() - STARTED > UP_SECONDS and not backup_queries.standing(application).is_fresh:
        words = "If this machine breaks, everything since the last backup is lost."
        needs.append(Need("There is no fresh backup", words, "/settings/backups", "Back up", True))
    return needs


def guessed_passwords(session: Session, now: datetime) -> list[Need]:
    """Accounts for which many wrong passwords were tried within a day."""
    tries = func.count()
    tried = session.execute(
        select(LogEntry.by, tries)
        .where(LogEntry.act == FAILED_ACT, LogEntry.at > now - timedelta(days=1))
        .group_by(LogEntry.by)
        .having(tries >= MANY_TRIES)
        .order_by(tries.desc())
        .limit(3)
    )
    words = "If nobody of yours forgot theirs, somebody is guessing. The Log says from where."
    return [
        Need(f"{count:,} wrong passwords for {email} in 24 hours", words, "/log", "See the log", True)
        for email, count in tried
    ]


def lost_key_needs(session: Session) -> list[Need]:
    """Erased people who would not be recognised if they came back by a file."""
    count = secrets_at_rest.unknown_erased(session)
    if not count:
        return []
    who = "1 erased address" if count == 1 else f"{count:,} erased addresses"
    words = (
        "The file secret.key is missing or is another one. Put the right one back and start again. Until"
        " then, a file could bring such an address back and it would be written to."
    )
    return [Need(f"{who} cannot be recognised", words, "/settings/health", "Look", True)]


def restored_needs(session: Session, shop: Shop, now: datetime) -> list[Need]:
    restored = RestoredSettings.load(session)
    if restored.is_seen or restored.until is None or restored.made_at is None:
        return []
    made = say_instant(restored.made_at, now, shop.zone)
    words = (
        "What happened since then is not in it, refusals too. What may have been sent since is not sent again"
        " by itself."
    )
    title = f"This book was restored from a backup of {made}"
    return [Need(title, words, "/settings/restored", "See what to do", True)]


def waiting_files(application: Application) -> list[Need]:
    """Files of the watched folder that a person has to look at first."""
    words = (
        "Its columns are new, something is unclear, or many of its rows cannot be read. Check it once;"
        " files like it are then imported automatically."
    )
    return [
        Need(f"{run.filename} is waiting to be imported", words, f"/imports/{run.id}", "Look")
        for run in watched_folder.waiting(application)[:3]
    ]
