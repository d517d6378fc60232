"""A sequence's draft: kept, checked, copied, taken out and brought in as JSON."""

from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.messages.content import read_content
from loyalbell.core.messages.preflight import MUST
from loyalbell.core.references import Kind, references_of
from loyalbell.core.sequences.check import Mistake, check
from loyalbell.core.sequences.plan import MessageStep, OnEvent, Plan, every_step, read_plan
from loyalbell.core.sequences.steps.base import Surroundings
from loyalbell.core.sequences.triggers import beyond
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import newest_version
from loyalbell.services.messages.preflight import findings_of_all
from loyalbell.services.offers.queries import terms_of
from loyalbell.services.sequences.shop_policy import around_of, live_plans, send_policy_of
from loyalbell.services.settings.channels import CareSettings
from loyalbell.services.settings.quiet_hours import quiet_of
from loyalbell.storage import schema
from loyalbell.storage.schema import CustomField, Message, Offer, Segment, Shop, Tag

LONGEST_NAME = 120


class SequenceProblem(Exception):
    """Why something cannot be done with a sequence, in words."""


def draft_of(sequence: schema.Sequence) -> Plan:
    return read_plan(sequence.draft)


def mistakes(
    application: Application, plan: Plan, sequence_id: int = 0, paced: bool = False
) -> list[Mistake]:
    """What the check says of a plan, with the book around it."""
    asked = {
        one.message
        for one in every_step(plan.steps)
        if isinstance(one, MessageStep) and one.message is not None
    }
    with application.database.reading() as session:
        return check(plan, surroundings(application, session, plan, asked, sequence_id, paced))


def surroundings(
    application: Application, session: Session, plan: Plan, asked: set[int], sequence_id: int, paced: bool
) -> Surroundings:
    shop, now = application.the_shop(), application.clock.now()
    care = CareSettings.load(session)
    live = live_plans(session)
    return Surroundings(
        messages={at: found for at in asked if (found := _message(application, session, at)) is not None},
        lacking={},
        offers=frozenset(session.scalars(select(Offer.id).where(Offer.archived_at.is_(None)))),
        tags=frozenset(session.scalars(select(Tag.id))),
        fields=frozenset(session.scalars(select(CustomField.id))),
        segments=frozenset(session.scalars(select(Segment.id))),
        sequences=frozenset(sequence.id for sequence, _ in live),
        quiet=quiet_of(care, shop, (now.year, now.year + 1)),
        agreed=_agreed(application, now),
        same_event=tuple(
            sequence.name for sequence, other in live if sequence.id != sequence_id and _same(plan, other)
        ),
        codes=_codes(session, asked),
        paced=paced,
        itself=sequence_id,
    )


def _codes(session: Session, messages: set[int]) -> dict[int, tuple[tuple[int, str, int], ...]]:
    """By message the offers whose codes it shows, where a code of them holds a number of days."""
    offers = {offer.id: offer for offer in session.scalars(select(Offer))}
    found = {}
    for message_id in messages:
        if session.get(Message, message_id) is None:
            continue
        content = read_content(newest_version(session, message_id).content)
        shown = sorted(int(one.key) for one in references_of(content) if one.kind is Kind.OFFER)
        found[message_id] = tuple(
            (at, offers[at].name, days)
            for at in shown
            if at in offers and (days := terms_of(offers[at]).days) is not None
        )
    return found


def _same(plan: Plan, other: Plan) -> bool:
    """Two that greet the same event: an order of any kind meets every narrower one, unless one is for the
    others.
    """
    mine, theirs = plan.start, other.start
    if mine.on != theirs.on or mine.on == "hand":
        return False
    if isinstance(mine, OnEvent) and isinstance(theirs, OnEvent):
        one, two = mine.event_filter, theirs.event_filter
        if one.what != two.what or one.others != two.others or (one.nth or two.nth) != (two.nth or one.nth):
            return False
        narrow: list[tuple[set[Any], set[Any]]] = [
            (set(one.items), set(two.items)),
            (set(one.departments), set(two.departments)),
            (set(one.categories), set(two.categories)),
        ]
        return (
            one.tag == two.tag and one.event == two.event and all(not a or not b or a & b for a, b in narrow)
        )
    return mine == theirs


def _message(
    application: Application, session: Session, message_id: int
) -> tuple[str, bool, dict[str, tuple[str, ...]]] | None:
    """Its name, whether it is marketing, and by channel what must be fixed in it."""
    message = session.get(Message, message_id)
    if message is None:
        return None
    content = read_content(newest_version(session, message_id).content)
    marketing = message.purpose != "service"
    wrong: dict[str, tuple[str, ...]] = {
        channel: tuple(
            found.words
            for found in findings_of_all(application, content, [channel], marketing)
            if found.level == MUST
        )
        for channel in content.channels()
    }
    return message.name, marketing, wrong


def _agreed(application: Application, now: datetime) -> dict[str, float]:
    snapshot, at = application.snapshot(), int(now.timestamp())
    here = snapshot.on_file(at)
    size = max(int(here.sum()), 1)
    return {
        name: float((snapshot.reachable(number, at) & here).sum() / size)
        for number, name in enumerate(CHANNELS)
    }


def beyond_count(application: Application, plan: Plan) -> int:
    """How many are already past the start line now."""
    with application.database.reading() as session:
        around = around_of(
            session, send_policy_of(session, session.get_one(Shop, 1), application.clock.now())
        )
    return len(beyond(plan, application.snapshot(), int(application.clock.now().timestamp()), around))
