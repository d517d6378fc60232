"""Replies: what customers wrote back, who sees to it, and our answers on the same channel."""

import uuid
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from statistics import median
from zoneinfo import ZoneInfo

from sqlalchemy import Select, func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.messages.mime import one_line
from loyalbell.core.policy.delivery_state import PLANNED
from loyalbell.core.policy.origins import ANSWER
from loyalbell.services.application import Application
from loyalbell.services.delivery.link_tokens import new_token
from loyalbell.services.delivery.once_only import once_only
from loyalbell.services.settings.channels import StaffSettings
from loyalbell.storage.consent import address_of
from loyalbell.storage.schema import CannedAnswer, Delivery, Person, Reply, Shop, User

LATELY = timedelta(days=28)


class CannotAnswer(Exception):
    """Why an answer cannot be sent, in words."""


@dataclass(frozen=True)
class Thread:
    """What one person and we wrote to each other on one channel; ``newest`` is the last that came in."""

    newest: Reply
    person: Person | None
    waiting: int
    assigned: str


@dataclass(frozen=True)
class Load:
    """Answers that came in by hour of the day over four weeks, beside those that staff can answer then."""

    by_hour: list[int]
    staffed: list[int]
    days: int
    median_minutes: float | None
    answered: int


def waiting(session: Session) -> int:
    """Answers that nobody has seen to."""
    return session.scalar(select(func.count()).where(Reply.inward, Reply.state != "done")) or 0


def threads(
    session: Session, done: bool = False, only: str = "", mine: int | None = None, limit: int = 100
) -> list[Thread]:
    """The newest of each person and channel; open ones, or those done."""
    query = select(Reply).where(Reply.inward, (Reply.state == "done") if done else (Reply.state != "done"))
    if done:
        query = query.where(Reply.kind == "answer") if not only else query
    if only:
        query = query.where(Reply.channel == only)
    if mine is not None:
        query = query.where(Reply.assigned_to == mine)
    rows = list(session.scalars(query.order_by(Reply.at.desc(), Reply.id.desc()).limit(5 * limit)))
    counts = Counter((row.channel, row.address) for row in rows if row.state != "done")
    people = {
        person.id: person
        for person in session.scalars(select(Person).where(Person.id.in_({row.person_id for row in rows})))
    }
    names = dict(session.execute(select(User.id, User.name)).all())
    found: dict[tuple[str, str], Thread] = {}
    for row in rows:
        key = (row.channel, row.address)
        if key not in found:
            person = people.get(row.person_id or 0)
            found[key] = Thread(row, person, counts[key], names.get(row.assigned_to or 0, ""))
    return list(found.values())[:limit]


def thread(session: Session, reply: Reply) -> list[Reply]:
    """Everything between us and this address on this channel, the oldest first."""
    query = select(Reply).where(Reply.channel == reply.channel, Reply.address == reply.address)
    return list(session.scalars(query.order_by(Reply.at, Reply.id)))


def answer(application: Application, reply_id: int, text: str, by: str) -> int:
    """Sends an answer on the channel it came in by, and marks the thread done. Raises ``CannotAnswer``."""
    text = text.strip()
    if not text:
        raise CannotAnswer("Write something first.")
    with application.database.transaction() as session:
        reply = session.get_one(Reply, reply_id)
        made = _answer(application, session, reply, text, by)
        for one in session.scalars(_open_of(reply)):
            one.state, one.done_at, one.by = "done", application.clock.now(), by
        return made


def answer_by_itself(application: Application, reply_id: int, text: str) -> None:
    """A confirmation that networks and customers expect; once for each reply."""
    with application.database.transaction() as session:
        reply = session.get_one(Reply, reply_id)
        if reply.person_id is not None:
            _answer(application, session, reply, text, "Loyal Bell")


def _open_of(reply: Reply) -> Select[Reply]:
    return select(Reply).where(
        Reply.channel == reply.channel, Reply.address == reply.address, Reply.inward, Reply.state != "done"
    )


def _answer(application: Application, session: Session, reply: Reply, text: str, by: str) -> int:
    person = session.get(Person, reply.person_id) if reply.person_id else None
    if person is None:
        raise CannotAnswer("Nobody on file has this address. Add it to a customer first, then reply.")
    now = application.clock.now()
    content = _content(reply, _plain(text))
    version = once_only(session, ANSWER, c.as_message(content).model_dump(mode="json"), now, by)
    session.add(
        Delivery(
            origin_kind=ANSWER,
            origin_id=version,
            person_id=person.id,
            message_version_id=version,
            channel=reply.channel,
            address=reply.address or address_of(person, reply.channel),
            token=new_token("email"),
            state=PLANNED,
            due_at=now,
        )
    )
    ours = Reply(
        channel=reply.channel,
        network_id=f"ours-{uuid.uuid4().hex}",
        address=reply.address,
        person_id=person.id,
        inward=False,
        at=now,
        subject=reply.subject,
        text=text,
        kind="answer",
        state="done",
        done_at=now,
        by=by,
    )
    session.add(ours)
    session.flush()
    return ours.id


def _plain(text: str) -> str:
    """Words of staff are words: marks of the template language are taken apart."""
    return text.replace("{{", "{ {").replace("{%", "{ %")


def _content(reply: Reply, text: str) -> c.AnyWriting:
    if reply.channel == "email":
        subject = reply.subject or "Your message"
        return c.EmailContent(
            form="plain",
            subject=_plain(subject if subject.lower().startswith("re:") else f"Re: {subject}"),
            plain=text,
        )
    words = [c.ShownText(text=text[:5_000])]
    return c.TextContent(texts=words) if reply.channel == "text" else c.ChatContent(texts=words)


def assign(application: Application, reply_id: int, user_id: int | None) -> None:
    """To one of the staff, or to nobody."""
    with application.database.transaction() as session:
        for one in session.scalars(_open_of(session.get_one(Reply, reply_id))):
            one.assigned_to = user_id
            one.state = "open" if user_id else "new"


def mark(application: Application, reply_id: int, done: bool, by: str) -> None:
    """Done without an answer, or open again."""
    with application.database.transaction() as session:
        reply = session.get_one(Reply, reply_id)
        now = application.clock.now()
        if done:
            for one in session.scalars(_open_of(reply)):
                one.state, one.done_at, one.by = "done", now, by
        else:
            reply.state, reply.done_at = "new", None


def keep_canned(application: Application, name: str, text: str) -> None:
    """Raises ``CannotAnswer``."""
    name, text = one_line(name)[:80], text.strip()[:5_000]
    if not name or not text:
        raise CannotAnswer("A saved reply needs a name and a text.")
    with application.database.transaction() as session:
        row = session.scalar(select(CannedAnswer).where(CannedAnswer.name == name))
        if row is None:
            session.add(CannedAnswer(name=name, text=text))
        else:
            row.text = text


def drop_canned(application: Application, canned_id: int) -> None:
    with application.database.transaction() as session:
        session.delete(session.get_one(CannedAnswer, canned_id))


def load(session: Session, now: datetime) -> Load:
    """Of the last four weeks."""
    shop, staff = session.get_one(Shop, 1), StaffSettings.load(session)
    rows = list(
        session.scalars(
            select(Reply).where(Reply.at > now - LATELY, Reply.at <= now).order_by(Reply.at, Reply.id)
        )
    )
    zone = ZoneInfo(shop.zone)
    hours = Counter(row.at.astimezone(zone).hour for row in rows if row.inward and row.kind == "answer")
    staffed = [
        staff.answers_an_hour * len(staff.weekdays) * 4 if staff.begins <= hour < staff.ends else 0
        for hour in range(24)
    ]
    waits = _waits(rows)
    return Load(
        [hours[hour] for hour in range(24)],
        staffed,
        LATELY.days,
        median(waits) if waits else None,
        len(waits),
    )


def _waits(rows: Sequence[Reply]) -> list[float]:
    """Minutes from the first unanswered word of each thread to the answer by a person."""
    asked: dict[tuple[str, str], datetime] = {}
    found = []
    for row in rows:
        key = (row.channel, row.address)
        if row.inward and row.kind == "answer":
            asked.setdefault(key, row.at)
        elif not row.inward and row.by != "Loyal Bell" and key in asked:
            found.append((row.at - asked.pop(key)).total_seconds() / 60)
    return found


def canned_answers(application: Application) -> list[CannedAnswer]:
    """Answers kept to be used again, by name."""
    with application.database.reading() as session:
        return list(session.scalars(select(CannedAnswer).order_by(CannedAnswer.name)))


def in_the_inbox(application: Application, done: bool, channel: str, assigned_to: int | None) -> list[Thread]:
    """The threads that wait, or those that are done; of one channel or one person where given."""
    with application.database.reading() as session:
        return threads(session, done, channel, assigned_to)


def load_of(application: Application) -> Load:
    """What comes in against the hours in which staff can answer."""
    with application.database.reading() as session:
        return load(session, application.clock.now())


def lines_of(application: Application, reply: Reply) -> list[Reply]:
    """What was said between the shop and whoever wrote."""
    with application.database.reading() as session:
        return thread(session, reply)


def how_many_wait(application: Application) -> int:
    with application.database.reading() as session:
        return waiting(session)
