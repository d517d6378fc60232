"""A message as one of its readers would get it, and how its variants spread over an audience."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from babel import Locale, UnknownLocaleError
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import CompiledEmail, FilledEmail
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.messages.text_parts import Spread, spread
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import RuleProblem
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import (
    Compiled,
    ContentFiller,
    Filled,
    compiled,
    fill_for_preview,
    render_context_for,
)
from loyalbell.services.messages.preflight_context import Writing
from loyalbell.services.segments.queries import saved_rules
from loyalbell.storage.schema import Companion, Person, Shop

MOST_KEPT = 16
"""Lists of readers, one for the languages of each message."""
SAMPLE = 400
"""Of so many people of an audience the length of a text is looked at."""


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


def readers(application: Application, content: c.MessageContent | None = None) -> list[Reader]:
    """Real customers that try a message: complete, with nothing, the longest name, each language, each
    variant.
    """
    languages = tuple(language for language in (content.languages() if content else []) if language)
    people = application.snapshot().people
    work = partial(_picked, application, languages)
    found = list(application.cache.of_parts("readers", (people,), languages, work, MOST_KEPT))
    with application.database.reading() as session:
        for writing in content.writings if content else []:
            for at, rule in enumerate(
                compiled(writing, render_context_for(session, session.get_one(Shop, 1), writing)).rules, 1
            ):
                ids = _met(application, session, rule)[:20]
                _add_reader(
                    found,
                    session.scalars(select(Person).where(Person.id.in_(ids))),
                    f"sees part {at} of the {writing.channel}",
                )
        return found


def _picked(application: Application, languages: Sequence[str]) -> list[Reader]:
    """Looks through everybody on file: kept as long as nobody of them changes."""
    named = Person.first_name.is_not(None)
    complete = named & Person.last_name.is_not(None) & Person.email.is_not(None)
    length = func.length(Person.first_name + func.coalesce(Person.last_name, "")).desc()
    picks: list[tuple[str, Any]] = [
        ("everything on file", select(Person).where(complete, Person.id.in_(select(Companion.person_id)))),
        ("no name on file", select(Person).where(~named).order_by(Person.last_name.is_not(None))),
        ("longest name", select(Person).where(named).order_by(length, Person.id)),
    ]
    for language in languages:
        wanted = func.lower(Person.language).like(f"{language.lower()}%")
        picks.append((f"reads {say_language(language)}", select(Person).where(wanted, named)))
    found: list[Reader] = []
    with application.database.reading() as session:
        for why, query in picks:
            _add_reader(found, session.scalars(query.order_by(Person.id).limit(20)), why)
    return found


def say_language(tag: str) -> str:
    """A language by its English name; the tag where it has none."""
    try:
        return str(Locale.parse(tag.replace("-", "_")).get_display_name("en"))
    except (UnknownLocaleError, ValueError):
        return tag


def _add_reader(found: list[Reader], people: Any, why: str) -> None:
    there = {reader.id for reader in found}
    for person in people:
        if person.id not in there:
            found.append(Reader(person.id, person.name or person.email or person.phone or "no name", why))
            return


def _met(application: Application, session: Session, rule: Any) -> list[int]:
    snapshot = application.snapshot()
    try:
        mask = evaluate(rule, snapshot, application.clock.now(), saved_rules(session))
    except RuleProblem:
        return []
    return [int(one) for one in snapshot.people.ids[mask]]


def read_as(application: Application, writing: Writing, person_id: int | None) -> FilledEmail | str:
    """One writing as this person would get it: an email, or the words of a text.

    Raises ``FieldProblem`` where they would not.
    """
    with application.database.reading() as session:
        shop, now = session.get_one(Shop, 1), application.clock.now()
        template = compiled(writing, render_context_for(session, shop, writing))
        person = session.get(Person, person_id) if person_id else None
        if person is None:
            return fill_for_preview(session, template, _facts_of_nobody(shop, template), shop, now)
        facts = ContentFiller(application, session, shop, now).facts([person], template)[person.id]
        return fill_for_preview(session, template, facts, shop, now)


def _facts_of_nobody(shop: Shop, template: Compiled) -> dict[str, object]:
    """Only what is the shop's own; no conditional part, no items."""
    facts: dict[str, object] = {"shop_name": shop.name}
    facts |= {f"show_{at}": False for at in range(len(template.rules))}
    return facts | {f"items_{at}": [] for at in range(len(template.item_lists))}


def with_marked_links(
    application: Application, template: CompiledEmail, person_id: int, marks: Mapping[str, str]
) -> Filled:
    """An email as one person reads it, but with all its parts, and links that lead to ``marks`` (by name).

    Raises ``FieldProblem``.
    """
    with application.database.reading() as session:
        shop, now = session.get_one(Shop, 1), application.clock.now()
        person = session.get_one(Person, person_id)
        facts = ContentFiller(application, session, shop, now).facts([person], template)[person_id]
        facts |= {f"show_{at}": True for at in range(len(template.rules))}
        return fill_for_preview(session, template, facts, shop, now, marks)


def items_for(application: Application, writing: Writing, person_id: int | None) -> list[tuple[str, str]]:
    """(name, why) of the items that this person gets."""
    if not isinstance(writing, c.EmailContent) or person_id is None:
        return []
    with application.database.reading() as session:
        shop = session.get_one(Shop, 1)
        made, person = (
            compiled(writing, render_context_for(session, shop, writing)),
            session.get(Person, person_id),
        )
        if person is None or not made.item_lists:
            return []
        facts = ContentFiller(application, session, shop, application.clock.now()).facts([person], made)[
            person.id
        ]
    cards = [
        card
        for name, value in facts.items()
        if name.startswith("items_") and isinstance(value, list)
        for card in value
    ]
    return [(card["name"], card["why"]) for card in cards]


def text_spread(
    application: Application, writing: c.TextContent, audience: Sequence[int] | None = None
) -> Spread:
    """How many parts the people of an audience get, by a sample of them."""
    with application.database.reading() as session:
        shop, now = session.get_one(Shop, 1), application.clock.now()
        template = compiled(writing, render_context_for(session, shop, writing))
        people = sample(application, session, audience, 1)
        facts = ContentFiller(application, session, shop, now).facts(people, template)
        texts = []
        for person in people:
            try:
                texts.append(str(fill_for_preview(session, template, facts[person.id], shop, now)))
            except FieldProblem:
                continue
        return spread(texts)


def sample(
    application: Application, session: Session, audience: Sequence[int] | None, channel: int
) -> list[Person]:
    """Evenly spread over the audience, or over those that the channel with this number can reach."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    if audience is None:
        audience = snapshot.people.ids[np.flatnonzero(snapshot.reachable(channel, now))].tolist()
    step = max(1, len(audience) // SAMPLE)
    return list(session.scalars(select(Person).where(Person.id.in_(list(audience)[::step][:SAMPLE]))))


def variants(
    application: Application, writing: Writing, audience: Sequence[int] | None = None
) -> list[Variant]:
    """For each part with a condition, how many of the audience see it."""
    parts = (
        list(c.every_block(writing.blocks)) if isinstance(writing, c.EmailContent) else list(writing.texts)
    )
    snapshot = application.snapshot()
    now = application.clock.now()
    here = snapshot.on_file(int(now.timestamp()))
    if audience is not None:
        here = here & np.isin(snapshot.people.ids, list(audience))
    found, above = [], np.zeros(len(here), dtype=np.bool_)
    with application.database.reading() as session:
        saved = saved_rules(session)
    for at, part in enumerate(parts, 1):
        if part.when is None:
            above = np.zeros(len(here), dtype=np.bool_)
        elif part.when.rule is not None:
            try:
                met = evaluate(part.when.rule, snapshot, now, saved) & here
            except RuleProblem:
                met = np.zeros(len(here), dtype=np.bool_)
            above = above | met
            found.append(Variant(at, int(met.sum()), int(here.sum())))
        elif part.when.otherwise:
            found.append(Variant(at, int((here & ~above).sum()), int(here.sum())))
    return found
