"""Messages: keeping versions of what was written, and reading them as real people."""

import difflib
import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from babel import Locale
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.messages.fields import FieldProblem
from loyalbell.core.messages.letter import CompiledEmail, FilledEmail
from loyalbell.core.messages.mail import Envelope, make_mail
from loyalbell.core.messages.preflight import Finding, preflight
from loyalbell.core.messages.text import Spread, spread
from loyalbell.core.segments.evaluate import evaluate
from loyalbell.core.segments.model import RuleProblem
from loyalbell.desk import spam_filter
from loyalbell.desk.around import around
from loyalbell.desk.desk import Desk
from loyalbell.desk.letters import Filler, compiled, fill_for_preview, kit_for, newest_version
from loyalbell.desk.segments import saved_rules
from loyalbell.store.tables import Campaign, Companion, Letterhead, Message, MessageVersion, Person, Shop

Writing = c.EmailContent | c.TextContent | c.ChatContent
SAMPLE = 400
"""Of so many people of an audience the length of a text is looked at."""


class MessageProblem(Exception):
    """Why a message cannot be kept, in words."""


@dataclass(frozen=True)
class Reader:
    """A real customer to read a message as, and why this one."""

    id: int
    name: str
    why: str


@dataclass(frozen=True)
class Variant:
    """A part shown to some: what its condition is, and how many of the audience see it."""

    block: int
    people: int
    audience: int


def content_of(desk: Desk, message_id: int) -> c.MessageContent:
    with desk.book.reading() as session:
        return c.read_content(newest_version(session, message_id).content)


def keep(
    desk: Desk, message_id: int | None, name: str, content: c.MessageContent | Writing, by: str, purpose: str = ""
) -> int:  # fmt: skip
    """Saves as a new version if anything changed. Raises ``MessageProblem``."""
    name = " ".join(name.split())
    if not name:
        raise MessageProblem("Give the message a name, so that you find it again.")
    whole = c.as_message(content)
    with desk.book.writing() as session:
        taken = session.scalar(select(Message.id).where(func.lower(Message.name) == name.lower()))
        if taken is not None and taken != message_id:
            raise MessageProblem(f"There is a message called “{name}” already. Choose another name.")
        message = session.get(Message, message_id) if message_id else None
        if message is None:
            message = Message()
            session.add(message)
        message.name, message.changed_at = name, desk.clock.now()
        message.purpose = purpose or message.purpose or "marketing"
        session.flush()
        _add_version(desk, session, message.id, whole, by)
        return message.id


def _add_version(desk: Desk, session: Session, message_id: int, content: c.MessageContent, by: str) -> None:
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    last = session.scalars(query.order_by(MessageVersion.number.desc()).limit(1)).first()
    data = content.model_dump(mode="json")
    if last is None or c.read_content(last.content).model_dump(mode="json") != data:
        number = last.number + 1 if last else 1
        session.add(
            MessageVersion(
                message_id=message_id, number=number, content=data, made_at=desk.clock.now(), by=by
            )
        )


def versions(desk: Desk, message_id: int) -> list[MessageVersion]:
    """The newest first."""
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    with desk.book.reading() as session:
        return list(session.scalars(query.order_by(MessageVersion.number.desc())))


def name_version(desk: Desk, message_id: int, number: int, name: str) -> None:
    with desk.book.writing() as session:
        _version(session, message_id, number).name = " ".join(name.split())[:80] or None


def _version(session: Session, message_id: int, number: int) -> MessageVersion:
    query = select(MessageVersion).where(
        MessageVersion.message_id == message_id, MessageVersion.number == number
    )
    return session.scalars(query).one()


def restore(desk: Desk, message_id: int, number: int, by: str) -> None:
    """Makes what an earlier version said the newest one; nothing is lost."""
    with desk.book.writing() as session:
        content = c.read_content(_version(session, message_id, number).content)
        session.get_one(Message, message_id).changed_at = desk.clock.now()
        _add_version(desk, session, message_id, content, by)


def compare(desk: Desk, message_id: int, older: int, newer: int) -> list[tuple[str, str]]:
    """Lines of (mark, words): `` `` in both, ``-`` only in the older, ``+`` only in the newer."""
    with desk.book.reading() as session:
        before, after = (
            _lines(c.read_content(_version(session, message_id, at).content)) for at in (older, newer)
        )
    found = difflib.ndiff(before, after)
    return [(line[0], line[2:]) for line in found if line[0] in " -+"]


def _lines(content: c.MessageContent) -> list[str]:
    found = []
    for one in content.writings:
        found.append(f"{one.channel.capitalize()}{f', {one.language}' if one.language else ''}")
        for where, text in c.texts_of(one):
            found += [f"{where}: {line}" for line in text.splitlines() if line.strip()]
    return found


def used_in(session: Session, message_id: int) -> list[str]:
    names = session.scalars(
        select(Campaign.name).where(Campaign.message_id == message_id).order_by(Campaign.name)
    )
    return [f"the campaign “{name}”" for name in names]


def drop(desk: Desk, message_id: int, by: str) -> None:
    """Raises ``MessageProblem`` while something refers to it."""
    with desk.book.writing() as session:
        used = used_in(session, message_id)
        if used:
            raise MessageProblem(f"This message is used in {used[0]}; it cannot be deleted.")
        message = session.get_one(Message, message_id)
        desk.note(session, by, "deleted a message", message=message.name)
        session.query(MessageVersion).filter(MessageVersion.message_id == message_id).delete()
        session.delete(message)


def copy(desk: Desk, message_id: int, by: str) -> int:
    """A copy under a free name. Returns its id."""
    with desk.book.reading() as session:
        name = session.get_one(Message, message_id).name
        taken = {one.lower() for one in session.scalars(select(Message.name))}
    free = next(
        one
        for one in (f"{name}, copy", *(f"{name}, copy {n}" for n in range(2, 1_000)))
        if one.lower() not in taken
    )
    return keep(desk, None, free, content_of(desk, message_id), by)


def letterheads(desk: Desk) -> list[Letterhead]:
    with desk.book.reading() as session:
        return list(session.scalars(select(Letterhead).order_by(Letterhead.name)))


def readers(desk: Desk, content: c.MessageContent | None = None) -> list[Reader]:
    """Real customers that try a message: complete, with nothing, the longest name, each language, each variant."""
    named = Person.first_name.is_not(None)
    complete = named & Person.last_name.is_not(None) & Person.email.is_not(None)
    length = func.length(Person.first_name + func.coalesce(Person.last_name, "")).desc()
    picks: list[tuple[str, Any]] = [
        ("everything on file", select(Person).where(complete, Person.id.in_(select(Companion.person_id)))),
        ("no name on file", select(Person).where(~named).order_by(Person.last_name.is_not(None))),
        ("longest name", select(Person).where(named).order_by(length, Person.id)),
    ]
    for language in content.languages() if content else []:
        if language:
            wanted = func.lower(Person.language).like(f"{language.lower()}%")
            picks.append((f"reads {say_language(language)}", select(Person).where(wanted, named)))
    with desk.book.reading() as session:
        found: list[Reader] = []
        for why, query in picks:
            _add_reader(found, session.scalars(query.order_by(Person.id).limit(20)), why)
        for writing in content.writings if content else []:
            for at, rule in enumerate(
                compiled(writing, kit_for(session, session.get_one(Shop, 1), writing)).rules, 1
            ):
                ids = _met(desk, session, rule)[:20]
                _add_reader(
                    found,
                    session.scalars(select(Person).where(Person.id.in_(ids))),
                    f"sees part {at} of the {writing.channel}",
                )
        return found


def say_language(tag: str) -> str:
    """A language by its English name; the tag where it has none."""
    try:
        return str(Locale.parse(tag.replace("-", "_")).get_display_name("en"))
    except (ValueError, LookupError):
        return tag


def _add_reader(found: list[Reader], people: Any, why: str) -> None:
    there = {reader.id for reader in found}
    for person in people:
        if person.id not in there:
            found.append(Reader(person.id, person.name or person.email or person.phone or "no name", why))
            return


def _met(desk: Desk, session: Session, rule: Any) -> list[int]:
    ledger = desk.ledger()
    try:
        mask = evaluate(rule, ledger, desk.clock.now(), saved_rules(session))
    except RuleProblem:
        return []
    return [int(one) for one in ledger.people.ids[mask]]


def read_as(desk: Desk, writing: Writing, person_id: int | None) -> FilledEmail | str:
    """One writing as this person would get it: an email, or the words of a text. Raises ``FieldProblem`` where they would not."""
    with desk.book.reading() as session:
        shop, now = session.get_one(Shop, 1), desk.clock.now()
        template = compiled(writing, kit_for(session, shop, writing))
        person = session.get(Person, person_id) if person_id else None
        filler = Filler(desk, session, shop, now)
        if person is None:
            facts = filler.facts([], template).get(0, {"shop_name": shop.name})
            facts |= {f"show_{at}": False for at in range(len(template.rules))}
            facts |= {f"items_{at}": [] for at in range(len(template.item_lists))}
        else:
            facts = filler.facts([person], template)[person.id]
        return fill_for_preview(session, template, facts, shop, now)


def findings_of(desk: Desk, writing: Writing, audience: Sequence[int] | None = None, marketing: bool = True) -> list[Finding]:  # fmt: skip
    with desk.book.reading() as session:
        shop = session.get_one(Shop, 1)
        made = None
        if isinstance(writing, c.EmailContent):
            try:
                made = compiled(writing, kit_for(session, shop, writing))
            except FieldProblem:
                made = None
        score = _filter_score(desk, session, shop, writing, made) if isinstance(made, CompiledEmail) else None
        given = around(desk, session, writing, audience, marketing, score)
        found = preflight(writing, given, made if isinstance(made, CompiledEmail) else None)
        if isinstance(writing, c.EmailContent) and isinstance(made, CompiledEmail) and made.item_lists:
            found += _empty_lists(desk, session, writing, made)
        return found


def _filter_score(desk: Desk, session: Session, shop: Shop, writing: Writing, made: CompiledEmail) -> tuple[float, str] | None:  # fmt: skip
    """What the spam filter of this machine says of it, as one of those it would reach gets it."""
    if not spam_filter.installed():
        return None
    people = _sample(desk, session, None, 0)[:1]
    try:
        facts = Filler(desk, session, shop, desk.clock.now()).facts(people, made)
        shown = fill_for_preview(session, made, facts[people[0].id], shop, desk.clock.now())
    except (FieldProblem, IndexError):
        return None
    assert isinstance(shown, FilledEmail)
    key = hashlib.sha256(f"{shown.subject}{shown.html}{shown.text}".encode()).hexdigest()
    now, sender = desk.clock.now(), shop.sender_email or "shop@localhost.localdomain"
    envelope = Envelope(
        shop.sender_name,
        sender,
        "A customer",
        "customer@example.com",
        f"<{key[:32]}@{sender.partition('@')[2]}>",
        now,
        f"{shop.public_url}/u/x",
    )
    return spam_filter.score_later(desk, key, lambda: make_mail(shown, envelope).as_bytes())


_empty: dict[tuple[str, int, str], list[int]] = {}


def _empty_lists(desk: Desk, session: Session, writing: c.EmailContent, made: CompiledEmail) -> list[Finding]:
    """Lists of items that stay empty for some, by a sample of who can be reached."""
    key = (str(desk.data), desk.ledger().version, repr(made.item_lists))
    people = _sample(desk, session, None, 0)
    if key not in _empty:
        facts = Filler(desk, session, session.get_one(Shop, 1), desk.clock.now()).facts(people, made)
        _empty.clear()
        _empty[key] = [
            sum(not one[f"items_{at}"] for one in facts.values()) for at in range(len(made.item_lists))
        ]
    places = [at for at, block in enumerate(c.every_block(writing.blocks), 1) if isinstance(block, c.Items)]
    return [
        Finding("look at this", f"{count:,} of {len(people):,} people looked at get no items here.", place)
        for count, place in zip(_empty[key], places, strict=False)
        if count
    ]


def items_for(desk: Desk, writing: Writing, person_id: int | None) -> list[tuple[str, str]]:
    """(name, why) of the items that this person gets."""
    if not isinstance(writing, c.EmailContent) or person_id is None:
        return []
    with desk.book.reading() as session:
        shop = session.get_one(Shop, 1)
        made, person = compiled(writing, kit_for(session, shop, writing)), session.get(Person, person_id)
        if person is None or not made.item_lists:
            return []
        facts = Filler(desk, session, shop, desk.clock.now()).facts([person], made)[person.id]
    cards = [
        card
        for name, value in facts.items()
        if name.startswith("items_") and isinstance(value, list)
        for card in value
    ]
    return [(card["name"], card["why"]) for card in cards]


def findings_of_all(desk: Desk, content: c.MessageContent, channels: Sequence[str] | None = None, marketing: bool = True) -> list[Finding]:  # fmt: skip
    """Of every writing, or of those on some channels; said with the channel and language where there are several."""
    wanted = [one for one in content.writings if channels is None or one.channel in channels]
    if not wanted:
        return [Finding("must fix", "The message says nothing on this channel yet.")]
    if len(wanted) == 1:
        return findings_of(desk, wanted[0], None, marketing)
    found = []
    for one in wanted:
        name = one.channel.capitalize() + (f", {one.language}" if one.language else "")
        found += [
            Finding(finding.level, f"{name}: {finding.words}")
            for finding in findings_of(desk, one, None, marketing)
            if finding.level != "fine"
        ]
    return found or [Finding("fine", "Everything that was looked at, in each channel and language.")]


def text_spread(desk: Desk, writing: c.TextContent, audience: Sequence[int] | None = None) -> Spread:
    """How many parts the people of an audience get, by a sample of them."""
    with desk.book.reading() as session:
        shop, now = session.get_one(Shop, 1), desk.clock.now()
        template = compiled(writing, kit_for(session, shop, writing))
        people = _sample(desk, session, audience, 1)
        facts = Filler(desk, session, shop, now).facts(people, template)
        texts = []
        for person in people:
            try:
                texts.append(str(fill_for_preview(session, template, facts[person.id], shop, now)))
            except FieldProblem:
                continue
        return spread(texts)


def _sample(desk: Desk, session: Session, audience: Sequence[int] | None, channel: int) -> list[Person]:
    """Evenly spread over the audience, or over those that the channel with this number can reach."""
    ledger, now = desk.ledger(), int(desk.clock.now().timestamp())
    if audience is None:
        audience = ledger.people.ids[np.flatnonzero(ledger.reachable(channel, now))].tolist()
    step = max(1, len(audience) // SAMPLE)
    return list(session.scalars(select(Person).where(Person.id.in_(list(audience)[::step][:SAMPLE]))))


def variants(desk: Desk, writing: Writing, audience: Sequence[int] | None = None) -> list[Variant]:
    """For each part with a condition, how many of the audience see it."""
    parts = (
        list(c.every_block(writing.blocks)) if isinstance(writing, c.EmailContent) else list(writing.texts)
    )
    ledger = desk.ledger()
    now = desk.clock.now()
    here = ledger.on_file(int(now.timestamp()))
    if audience is not None:
        here = here & np.isin(ledger.people.ids, list(audience))
    found, above = [], np.zeros(len(here), dtype=np.bool_)
    with desk.book.reading() as session:
        saved = saved_rules(session)
    for at, part in enumerate(parts, 1):
        if part.when is None:
            above = np.zeros(len(here), dtype=np.bool_)
        elif part.when.rule is not None:
            try:
                met = evaluate(part.when.rule, ledger, now, saved) & here
            except RuleProblem:
                met = np.zeros(len(here), dtype=np.bool_)
            above = above | met
            found.append(Variant(at, int(met.sum()), int(here.sum())))
        elif part.when.otherwise:
            found.append(Variant(at, int((here & ~above).sum()), int(here.sum())))
    return found
