"""What pre-flight finds in a message, with the book around it."""

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.messages import content as c
from loyalbell.core.messages.email_rendering import CompiledEmail, FilledEmail
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.messages.mime import Envelope, make_mail
from loyalbell.core.messages.preflight import Finding, preflight
from loyalbell.services.accounts.sessions import FAILED_ACT
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import (
    ContentFiller,
    compiled,
    fill_for_preview,
    render_context_for,
)
from loyalbell.services.messages import queries, spam_filter
from loyalbell.services.messages.preflight_context import Writing, preflight_context
from loyalbell.services.messages.preview import sample
from loyalbell.storage.schema import LogEntry, Shop


def findings_of(
    application: Application, writing: Writing, audience: Sequence[int] | None = None, marketing: bool = True
) -> list[Finding]:
    with application.database.reading() as session:
        shop = session.get_one(Shop, 1)
        made = None
        if isinstance(writing, c.EmailContent):
            try:
                made = compiled(writing, render_context_for(session, shop, writing))
            except FieldProblem:
                made = None
        score = (
            _filter_score(application, session, shop, writing, made)
            if isinstance(made, CompiledEmail)
            else None
        )
        given = preflight_context(application, session, writing, audience, marketing, score)
        found = preflight(writing, given, made if isinstance(made, CompiledEmail) else None)
        if isinstance(writing, c.EmailContent) and isinstance(made, CompiledEmail) and made.item_lists:
            found += _empty_lists(application, session, writing, made)
        return found


def _filter_score(
    application: Application, session: Session, shop: Shop, writing: Writing, made: CompiledEmail
) -> tuple[float, str] | None:
    """What the spam filter of this machine says of it, as one of those it would reach gets it."""
    if not spam_filter.installed():
        return None
    people = sample(application, session, None, 0)[:1]
    try:
        facts = ContentFiller(application, session, shop, application.clock.now()).facts(people, made)
        shown = fill_for_preview(session, made, facts[people[0].id], shop, application.clock.now())
    except (FieldProblem, IndexError):
        return None
    assert isinstance(shown, FilledEmail)
    key = hashlib.sha256(f"{shown.subject}{shown.html}{shown.text}".encode()).hexdigest()
    now, sender = application.clock.now(), shop.sender_email or "shop@localhost.localdomain"
    envelope = Envelope(
        shop.sender_name,
        sender,
        "A customer",
        "customer@example.com",
        f"<{key[:32]}@{sender.partition('@')[2]}>",
        now,
        f"{shop.public_url}/u/x",
    )
    return spam_filter.score_later(application, key, lambda: make_mail(shown, envelope).as_bytes())


def _empty_lists(
    application: Application, session: Session, writing: c.EmailContent, made: CompiledEmail
) -> list[Finding]:
    """Lists of items that stay empty for some, by a sample of who can be reached."""
    people = sample(application, session, None, 0)

    def count() -> list[int]:
        filler = ContentFiller(application, session, session.get_one(Shop, 1), application.clock.now())
        facts = filler.facts(people, made)
        return [sum(not one[f"items_{at}"] for one in facts.values()) for at in range(len(made.item_lists))]

    version = application.snapshot().version
    unknown = _unknown_codes(application, session, writing)
    empty = application.cache.of_version("empty lists", version, repr(made.item_lists), count)
    places = [at for at, block in enumerate(c.every_block(writing.blocks), 1) if isinstance(block, c.Items)]
    return unknown + [
        Finding("look at this", f"{count:,} of {len(people):,} people looked at get no items here.", place)
        for count, place in zip(empty, places, strict=False)
        if count
    ]


def _unknown_codes(application: Application, session: Session, writing: c.EmailContent) -> list[Finding]:
    """Fields from which items are chosen and that name some that are not in the catalogue."""
    filler = ContentFiller(application, session, session.get_one(Shop, 1), application.clock.now())
    found = []
    for place, block in enumerate(c.every_block(writing.blocks), 1):
        if not isinstance(block, c.Items) or block.list != "field" or not block.field:
            continue
        lacking, filled, said = filler.unknown_in(block.field)
        if lacking:
            named = ", ".join(f"“{one}”" for one in said)
            instead = "best sellers" if block.fallback == "best" else "nothing"
            words = (
                f"{lacking:,} of {filled:,} people have something in this field that is not in the catalogue"
                f" ({named}); in its place they get {instead}."
            )
            found.append(Finding("look at this", words, place))
    return found


LIBRARY = "findings of messages"
CHANGES_NOTHING = ("signed in", "signed out", FAILED_ACT)
A_MOMENT = 0.7


@dataclass(frozen=True)
class LibraryFindings:
    """By message id; ``is_fresh`` is false while newer ones are worked out."""

    by_message: Mapping[int, list[Finding]]
    is_fresh: bool


def findings_of_library(application: Application, wait: bool | float = A_MOMENT) -> LibraryFindings:
    """Of every message, for a list of them: worked out behind the page when somebody has done anything, or
    after an hour; until then those of before. What is sent is always looked at afresh.
    """
    messages = [(one, queries.content_of(application, one.id)) for one in queries.library(application)]
    with application.database.reading() as session:
        done = session.scalar(
            select(LogEntry.id)
            .where(LogEntry.act.not_in(CHANGES_NOTHING), ~LogEntry.act.startswith("downloaded"))
            .order_by(LogEntry.id.desc())
            .limit(1)
        )
    hour = int(application.clock.now().timestamp()) // 3_600
    said = "".join(content.model_dump_json() for _, content in messages)
    key = (done, hour, hashlib.sha256(said.encode()).hexdigest())

    def work() -> dict[int, list[Finding]]:
        return {
            message.id: findings_of_all(application, content, None, message.purpose == "marketing")
            for message, content in messages
        }

    nothing: dict[int, list[Finding]] = {}
    before = application.background.newest(LIBRARY)
    patience = wait if wait is True or before is None else False
    found = application.background.get(LIBRARY, key, work, nothing, 2, patience)
    if found is not None:
        return LibraryFindings(found, True)
    return LibraryFindings(before or nothing, False)


def findings_of_all(
    application: Application,
    content: c.MessageContent,
    channels: Sequence[str] | None = None,
    marketing: bool = True,
) -> list[Finding]:
    """Of every writing, or of those on some channels.

    Said with the channel and language where there are several.
    """
    wanted = [writing for writing in content.writings if channels is None or writing.channel in channels]
    if not wanted:
        return [Finding("must fix", "The message says nothing on this channel yet.")]
    if len(wanted) == 1:
        return findings_of(application, wanted[0], None, marketing)
    found = []
    for one in wanted:
        name = one.channel.capitalize() + (f", {one.language}" if one.language else "")
        found += [
            Finding(finding.level, f"{name}: {finding.words}")
            for finding in findings_of(application, one, None, marketing)
            if finding.level != "fine"
        ]
    return found or [Finding("fine", "Everything that was looked at, in each channel and language.")]
