"""What the pages on backups and on the program's health show, in words."""

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from loyalbell import __version__
from loyalbell.core.messages.spoken_dates import say_instant
from loyalbell.services.backups.queries import BackupStanding
from loyalbell.services.health.room import megabytes
from loyalbell.services.health.standing import Standing
from loyalbell.storage.backup_file import Backup

WHY = {"by hand": "by hand", "by the clock": "on schedule", "before an upgrade": "before an upgrade"}
SLOW_WAIT, SLOW_WRITE = 1.0, 5.0
"""Seconds from which a wait for the book's writer, and a single write, are worth a look."""


@dataclass(frozen=True)
class BackupRow:
    name: str
    made: datetime | None
    age: str
    size: str
    why: str
    people: int | None
    version: str


@dataclass(frozen=True)
class HealthLine:
    """``state``: *good*, *look* or *bad*."""

    name: str
    state: str
    words: str
    link: str = ""


def backup_rows(standing: BackupStanding) -> list[BackupRow]:
    return [_row(backup) for backup in standing.backups]


def _row(backup: Backup) -> BackupRow:
    size, contents = megabytes(backup.size), backup.contents
    if contents is None:
        return BackupRow(backup.path.name, None, "", size, "cannot be read", None, "")
    age = say_age(datetime.now(UTC) - contents.made_at)
    why = WHY.get(contents.why, contents.why)
    return BackupRow(backup.path.name, contents.made_at, age, size, why, contents.people, contents.version)


def say_age(age: timedelta) -> str:
    """``3 hours ago``; whole units, rounded down."""
    seconds = max(int(age.total_seconds()), 0)
    for unit, size in (("day", 86_400), ("hour", 3_600), ("minute", 60)):
        if seconds >= size:
            count = seconds // size
            return f"{count:,} {unit}{'s' if count > 1 else ''} ago"
    return "just now"


def backup_line(standing: BackupStanding) -> HealthLine:
    link = "/settings/backups"
    if standing.trouble:
        return HealthLine("Backup", "bad", standing.trouble, link)
    if standing.age is None:
        return HealthLine(
            "Backup", "look", "There is none yet. The first is made a few minutes after a start.", link
        )
    state = "good" if standing.is_fresh else "bad"
    return HealthLine("Backup", state, f"The newest was made {say_age(standing.age)}.", link)


def health_lines(
    now: Standing, backups: BackupStanding, wrong: list[str], clock: datetime, zone: str
) -> list[HealthLine]:
    """Everything that can be well or not, what is not first."""
    lines = [HealthLine("Program", "bad", words) for words in wrong if words != backups.trouble]
    if not wrong:
        lines.append(HealthLine("Program", "good", "It runs, and sends what is due."))
    lines += [backup_line(backups), _room(now), *_channels(now, clock, zone), *_waiting(now), *_writers(now)]
    lines.append(
        HealthLine("Version", "good", f"Loyal Bell {__version__}; the book is at step {now.revision}.")
    )
    order = {"bad": 0, "look": 1, "good": 2}
    return sorted(lines, key=lambda line: order[line.state])


def _room(now: Standing) -> HealthLine:
    words = f"{megabytes(now.free)} free; the book takes {megabytes(now.book)}."
    state = "bad" if now.free < now.least else "look" if now.free < 3 * now.book + now.least else "good"
    return HealthLine("Room on the disk", state, words)


def _channels(now: Standing, clock: datetime, zone: str) -> list[HealthLine]:
    closed, lines = {channel.channel: channel for channel in now.closed}, []
    for queue in now.queues:
        name = queue.channel.capitalize()
        if queue.channel in closed:
            words = f"Its network says: “{closed[queue.channel].words}”. {queue.due:,} messages wait."
            lines.append(HealthLine(name, "bad", words, "/settings/channels"))
        elif queue.due and queue.oldest is not None:
            since = say_instant(queue.oldest, clock, zone)
            words = f"{queue.due:,} messages are due, the first since {since}."
            lines.append(HealthLine(name, "good", words))
        else:
            lines.append(HealthLine(name, "good", "Nothing waits to be sent."))
    return lines


def _waiting(now: Standing) -> list[HealthLine]:
    lines = []
    if now.held:
        lines.append(
            HealthLine("Approval", "look", f"{now.held:,} messages wait for your approval.", "/held")
        )
    if now.unsure:
        words = f"{now.unsure:,} messages were perhaps sent. Today says which; you decide."
        lines.append(HealthLine("Perhaps sent", "look", words, "/"))
    return lines


def _writers(now: Standing) -> list[HealthLine]:
    slow = now.writes.waited > SLOW_WAIT or now.writes.held > SLOW_WRITE
    words = (
        f"Of the last writes nine in ten waited less than {max(now.writes.waited, 0.001):.3f} seconds; the"
        f" longest took {now.writes.held:.1f} seconds."
    )
    return [HealthLine("Speed of the book", "look" if slow else "good", words)]
