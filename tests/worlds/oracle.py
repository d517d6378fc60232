"""What must never happen, written from the rules of the job (sections 1, 5 and 6), not from the code.

Everything is worked out here anew with ``zoneinfo`` and plain loops over what the world did and what its
network was handed. The hour within which an exact time holds, and the quarter of an hour within which a
message counts as punctual, are decisions of ours (common practice, no source).
"""

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

EXACT_HOLDS = timedelta(hours=1)
PUNCTUAL = timedelta(minutes=15)


@dataclass
class PersonTold:
    """What the world knows of one person: instants ascending, consent by channel as (instant, state)."""

    zone: str
    consent: list[tuple[datetime, str]] = field(default_factory=list)
    suppressed: list[tuple[datetime, datetime | None]] = field(default_factory=list)
    closed: datetime | None = None
    orders: list[datetime] = field(default_factory=list)
    birthday: tuple[int, int] | None = None


@dataclass(frozen=True)
class HandOver:
    """One message at the network's door. ``said`` is what the network answered."""

    at: datetime
    person: int
    sequence: int
    step: str
    occurrence: str
    entered: datetime
    said: str


@dataclass
class StepTold:
    """A message step: its window, and the wait right before it with the message before that."""

    kind: str = "at once"
    weekdays: tuple[int, ...] = (0, 1, 2, 3, 4, 5, 6)
    begins: str = "10:00"
    ends: str = "18:00"
    after: str | None = None
    wait_days: int = 0
    wait_hours: int = 0


@dataclass
class WorldTold:
    """The rules of this shop, and what happened in it."""

    quiet: tuple[str, str]
    closed_days: set[date]
    caps: list[tuple[int, int]]
    people: dict[int, PersonTold]
    steps: dict[tuple[int, str], StepTold]
    ends_with_orders: dict[int, int | None]
    birthdays: set[int] = field(default_factory=set)
    silent: list[tuple[datetime, datetime | None]] = field(default_factory=list)
    paused: dict[int, list[tuple[datetime, datetime | None]]] = field(default_factory=dict)
    handed: list[HandOver] = field(default_factory=list)
    sent_again: list[tuple[datetime, int]] = field(default_factory=list)


def wrongs(world: WorldTold) -> Iterator[str]:
    """Each rule that was broken, in words with where."""
    for number, one in enumerate(world.handed):
        person = world.people[one.person]
        where = f"{one.at:%Y-%m-%d %H:%M} person {one.person} step {one.step}"
        for words in _about_the_person(one, person):
            yield f"{where}: {words}"
        for words in _about_the_hour(world, one, person.zone):
            yield f"{where}: {words}"
        before = world.handed[:number]
        for words in _about_what_came_before(world, one, before):
            yield f"{where}: {words}"


def _about_the_person(one: HandOver, person: PersonTold) -> Iterator[str]:
    states = [state for at, state in person.consent if at <= one.at]
    if not states or states[-1] != "agreed":
        yield "without their consent"
    if any(at <= one.at and (lifted is None or one.at < lifted) for at, lifted in person.suppressed):
        yield "although suppressed"
    if person.closed is not None and person.closed <= one.at:
        yield "although their account is closed"


def _about_the_hour(world: WorldTold, one: HandOver, zone: str) -> Iterator[str]:
    local = one.at.astimezone(ZoneInfo(zone))
    clock = f"{local:%H:%M}"
    begins, ends = world.quiet
    if begins and (begins <= clock or clock < ends if begins > ends else begins <= clock < ends):
        yield f"in quiet hours, at {clock} of their day"
    if local.date() in world.closed_days:
        yield "on a closed day"
    step = world.steps[one.sequence, one.step]
    if step.kind != "at once" and local.weekday() not in step.weekdays:
        yield f"on weekday {local.weekday()}"
    if step.kind == "window" and not step.begins <= clock < step.ends:
        yield f"outside its window, at {clock}"
    if step.kind == "exact":
        hour, minute = (int(part) for part in step.begins.split(":"))
        exact = local.replace(hour=hour, minute=minute, second=0, microsecond=0)
        if not exact <= local < exact + EXACT_HOLDS:
            yield f"not at its exact time, but at {clock}"
    for name, spans in (("silent", world.silent), ("paused", world.paused.get(one.sequence, []))):
        if any(at <= one.at and (until is None or one.at < until) for at, until in spans):
            yield f"while {name}"
    if one.sequence in world.birthdays:
        born = world.people[one.person].birthday
        day = date(local.year, *born) if born is not None else local.date()
        if local.date() != day and day not in world.closed_days:
            yield f"a birthday greeting on {local:%d %B}"


def _about_what_came_before(world: WorldTold, one: HandOver, before: list[HandOver]) -> Iterator[str]:
    mine = [other for other in before if other.person == one.person and other.said in ("accepted", "unsure")]
    decided = {(other.at, other.person) for other in mine if _was_sent_again(world, other, one)}
    counted = [other for other in mine if (other.at, other.person) not in decided]
    for count, days in world.caps:
        lately = [other for other in counted if one.at - timedelta(days=days) < other.at]
        if len(lately) >= count:
            yield f"above the limit of {count} in {days} days"
    same = (one.sequence, one.step, one.occurrence)
    if any((other.sequence, other.step, other.occurrence) == same for other in counted):
        yield "a second time"
    ends = world.ends_with_orders.get(one.sequence)
    person = world.people[one.person]
    since = [at for at in person.orders if one.entered < at <= one.at]
    if ends == 0 and since:
        yield "although they had bought since they came in"
    if ends and len([at for at in person.orders if at <= one.at]) >= ends:
        yield "although what ends it had come true"
    yield from _too_soon(world, one, counted)


def _was_sent_again(world: WorldTold, other: HandOver, one: HandOver) -> bool:
    """Whether a person had decided that an unsure message goes again."""
    again = [at for at, sequence in world.sent_again if sequence == other.sequence]
    return other.said == "unsure" and any(other.at <= at <= one.at for at in again)


def _too_soon(world: WorldTold, one: HandOver, counted: list[HandOver]) -> Iterator[str]:
    """Later waits count from when the message before really left."""
    step = world.steps[one.sequence, one.step]
    if step.after is None:
        return
    run = (one.sequence, step.after, one.occurrence)
    first = [other for other in counted if (other.sequence, other.step, other.occurrence) == run]
    if not first:
        return
    zone = ZoneInfo(world.people[one.person].zone)
    left, now = first[-1].at.astimezone(zone), one.at.astimezone(zone)
    earliest = first[-1].at.astimezone(UTC) + timedelta(hours=step.wait_hours) - PUNCTUAL
    if step.wait_days:
        if (now.date() - (left - PUNCTUAL).date()).days < step.wait_days:
            yield f"{now - left} after the message before, not {step.wait_days} days"
    elif one.at < earliest:
        yield f"{now - left} after the message before, not {step.wait_hours} hours"
