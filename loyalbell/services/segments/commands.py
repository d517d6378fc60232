"""Segments: reading what a rule gives, keeping it, finding the people in it."""

from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.changes import changes
from loyalbell.core.references import Kind
from loyalbell.core.segments.model import Group, PeopleCondition, Rule, segments_in
from loyalbell.services.application import Application
from loyalbell.services.references import refuse_if_used
from loyalbell.services.segments.queries import SegmentProblem, rule_of, saved_rules, who
from loyalbell.storage.schema import Segment


def keep(application: Application, segment_id: int | None, name: str, rule: Rule, by: str) -> int:
    """Saves a new segment or a changed one. Raises ``SegmentProblem``."""
    name = " ".join(name.split())
    if not name:
        raise SegmentProblem("Give the segment a name, so that you find it again.")
    if len(name) > 120:
        raise SegmentProblem("The name is too long; 120 characters at most.")
    if not rule.root.lines:
        raise SegmentProblem("Add at least one line. Without one the segment is everyone on file.")
    with application.database.transaction() as session:
        _check_leaning(session, segment_id, rule)
        taken = session.scalar(select(Segment.id).where(func.lower(Segment.name) == name.lower()))
        if taken is not None and taken != segment_id:
            raise SegmentProblem(f"There is a segment called “{name}” already. Choose another name.")
        segment = session.get(Segment, segment_id) if segment_id else None
        if segment is None:
            segment = Segment()
            session.add(segment)
        before = {"name": segment.name, "rule": segment.rule} if segment.id else {}
        segment.name, segment.rule = name, rule.model_dump(mode="json")
        segment.changed_at, segment.by = application.clock.now(), by
        session.flush()
        said = changes(before, {"name": name, "rule": segment.rule}) if before else {}
        application.note(session, by, "saved a segment", segment=name, **said)
        return segment.id


def _check_leaning(session: Session, segment_id: int | None, rule: Rule) -> None:
    """Raises ``SegmentProblem`` where the rule would lean on itself, or on a segment that is not there."""
    saved = saved_rules(session)
    seen: set[int] = set()
    waiting = list(segments_in(rule.root))
    while waiting:
        one = waiting.pop()
        if one == segment_id:
            raise SegmentProblem("This segment would lean on itself, by way of another. Take that line away.")
        if one not in saved:
            raise SegmentProblem("A line asks for a segment that has been deleted. Choose another.")
        if one not in seen:
            seen.add(one)
            waiting += segments_in(saved[one].root)


def archive(application: Application, segment_id: int, away: bool, by: str) -> None:
    """Puts a segment away, or takes it out again. What uses it goes on using it."""
    with application.database.transaction() as session:
        segment = session.get_one(Segment, segment_id)
        segment.archived_at = application.clock.now() if away else None
        application.note(
            session, by, "put a segment away" if away else "took a segment out again", segment=segment.name
        )


def drop(application: Application, segment_id: int, by: str) -> None:
    """Raises ``InUse`` while anything leans on it."""
    with application.database.transaction() as session:
        segment = session.get_one(Segment, segment_id)
        refuse_if_used(session, Kind.SEGMENT, segment_id, f"The segment “{segment.name}”")
        application.note(session, by, "deleted a segment", segment=segment.name)
        session.delete(segment)


def freeze(application: Application, segment_id: int, by: str) -> int:
    """A fixed segment of those who are in now. Returns its id."""
    with application.database.reading() as session:
        segment = session.get_one(Segment, segment_id)
    snapshot, met = who(application, rule_of(segment))
    ids = tuple(int(one) for one in snapshot.people.ids[met])
    day = application.clock.now().astimezone(ZoneInfo(snapshot.zone)).date()
    return keep_fixed(application, f"{segment.name}, as on {day}", ids, by)


def keep_fixed(application: Application, name: str, ids: tuple[int, ...], by: str) -> int:
    """A fixed segment of these people under a free name. Returns its id."""
    rule = Rule(root=Group(lines=[PeopleCondition(ids=ids)]))
    return keep(application, None, _free_name(application, name), rule, by)


def copy(application: Application, segment_id: int, by: str) -> int:
    """A copy under a name of its own. Returns its id."""
    with application.database.reading() as session:
        segment = session.get_one(Segment, segment_id)
    return keep(application, None, _free_name(application, f"{segment.name}, copy"), rule_of(segment), by)


def _free_name(application: Application, name: str) -> str:
    with application.database.reading() as session:
        taken = {known.lower() for known in session.scalars(select(Segment.name))}
    name = name[:110]
    return next(one for one in (name, *(f"{name} {n}" for n in range(2, 10_000))) if one.lower() not in taken)
