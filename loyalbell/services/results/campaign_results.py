"""What came of a campaign, with the people behind each figure."""

from collections import Counter
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import BOUNCED, HANDED_OVER, SENT, UNSURE, WAITING, WITHHELD
from loyalbell.core.policy.send_policy import CAUSE_WORDS
from loyalbell.core.results.attribution import REASON_WORDS, Reason
from loyalbell.services.application import Application
from loyalbell.services.results.by_a_person import BY_A_PERSON
from loyalbell.services.results.credits import Credits, credits_of
from loyalbell.storage.person_merge import MERGED
from loyalbell.storage.schema import Campaign, Delivery, DeliveryEvent, Message, MessageVersion, Person

SQL_BATCH = 5_000
FIGURES = {
    "reached": "Reached",
    "delivered": "Delivered",
    "opened": "Opened",
    "clicked": "Clicked",
    "ordered": "Ordered",
    "refused": "Unsubscribed",
    "bounced": "Not accepted",
    "waiting": "Still waiting",
    "unsure": "Perhaps sent",
    "left out": "Left out",
}
EXPLANATIONS = {
    "reached": "a message was handed over for them",
    "delivered": "their mail server took it and sent nothing back",
    "opened": "the pictures were loaded at least once, as far as can be told by a person",
    "clicked": "clicked a link at least once",
    "ordered": "ordered soon after a click, or after a text, or with its code",
    "refused": "unsubscribed in this message",
    "bounced": "their mail server refused it",
    "waiting": "planned, not yet handed over",
    "unsure": "the connection broke at the last moment; a person decides",
    "left out": "in the segment, and not written to",
}


@dataclass(frozen=True)
class PersonLine:
    """One person behind a figure; ``note`` says what happened."""

    id: int
    name: str
    note: str
    at: datetime | None


@dataclass
class Results:
    """People by figure, each once. ``revenue`` is net minor units of the orders attributed.

    ``messages`` are names by id, ``message_of`` is the last that somebody got, ``rounds`` are when each began
    with the people it was handed over for.
    """

    campaign: Campaign
    people: dict[str, dict[int, PersonLine]]
    revenue: int
    orders: int
    by_hour: list[tuple[int, int, int]]
    messages: dict[int, str]
    message_of: dict[int, int]
    rounds: list[tuple[datetime, int]]

    def count_of(self, figure: str, message_id: int) -> int:
        """Of those who got this one of its messages."""
        return sum(self.message_of.get(person) == message_id for person in self.people[figure])

    def count(self, figure: str) -> int:
        return len(self.people[figure])

    def share(self, figure: str) -> float | None:
        """Of delivered people; ``None`` while nothing was delivered."""
        base = self.count("delivered")
        return self.count(figure) / base if base else None


def results_of(application: Application, campaign_id: int) -> Results:
    with application.database.reading() as session:
        campaign = session.get_one(Campaign, campaign_id)
        deliveries = list(
            session.scalars(
                select(Delivery).where(Delivery.origin_kind == "campaign", Delivery.origin_id == campaign_id)
            )
        )
        events = _events(session, campaign_id)
        names = _names(session, [delivery.person_id for delivery in deliveries])
        people = _parted(deliveries, names)
        _add_events(people, deliveries, events, names)
        credited = credits_of(application).of_deliveries(np.array([one.id for one in deliveries]))
        for person_id, at, reason in zip(*_readable(application, credited), strict=True):
            line = PersonLine(person_id, names[person_id], f"ordered: {reason}", at)
            people["ordered"].setdefault(person_id, line)
        revenue = int(credited.money.sum())
        by_hour = _by_hour(campaign, deliveries, events)
        names_of, message_of = _messages(session, deliveries)
        return Results(
            campaign, people, revenue, len(credited.at), by_hour, names_of, message_of, _rounds(deliveries)
        )


def _readable(application: Application, credited: Credits) -> tuple[list[int], list[datetime], list[str]]:
    """Of each order its person's id, when it was, and why it is put down to a message, in words."""
    ids = application.snapshot().people.ids[credited.person].tolist()
    instants = [datetime.fromtimestamp(at, UTC) for at in credited.at.tolist()]
    return ids, instants, [REASON_WORDS[Reason(one)] for one in credited.reason.tolist()]


def _messages(session: Session, deliveries: list[Delivery]) -> tuple[dict[int, str], dict[int, int]]:
    """Names of its messages by id, and the one each person got."""
    gone = [delivery for delivery in deliveries if delivery.state != WITHHELD]
    query = select(MessageVersion.id, Message.id, Message.name).join(Message)
    query = query.where(MessageVersion.id.in_({one.message_version_id for one in gone}))
    versions = {version: (message, name) for version, message, name in session.execute(query)}
    return dict(versions.values()), {one.person_id: versions[one.message_version_id][0] for one in gone}


def _rounds(deliveries: list[Delivery]) -> list[tuple[datetime, int]]:
    """When each round went out, to how many. A message that two records had got before they were merged
    carries a mark behind its round (``storage/person_merge.py``).
    """
    rounds = (one.occurrence.partition(MERGED)[0] for one in deliveries if one.state in HANDED_OVER)
    counts = Counter(round_ for round_ in rounds if round_)
    return [(datetime.fromisoformat(at), counts[at]) for at in sorted(counts)]


def _events(session: Session, campaign_id: int) -> list[DeliveryEvent]:
    query = (
        select(DeliveryEvent)
        .join(Delivery, Delivery.id == DeliveryEvent.delivery_id)
        .where(Delivery.origin_kind == "campaign", Delivery.origin_id == campaign_id, BY_A_PERSON)
        .order_by(DeliveryEvent.at, DeliveryEvent.id)
    )
    return list(session.scalars(query))


def _names(session: Session, ids: list[int]) -> dict[int, str]:
    names: dict[int, str] = {}
    for start in range(0, len(ids), SQL_BATCH):
        people = session.scalars(select(Person).where(Person.id.in_(ids[start : start + SQL_BATCH])))
        names |= {person.id: person.name or person.email or f"customer {person.id}" for person in people}
    return names


def _parted(deliveries: list[Delivery], names: dict[int, str]) -> dict[str, dict[int, PersonLine]]:
    people: dict[str, dict[int, PersonLine]] = {figure: {} for figure in FIGURES}
    for delivery in deliveries:
        for figure, note in _figures_of(delivery):
            people[figure][delivery.person_id] = PersonLine(
                delivery.person_id, names[delivery.person_id], note, delivery.sent_at
            )
    for person in people["reached"]:
        people["left out"].pop(person, None)
    return people


def _figures_of(delivery: Delivery) -> list[tuple[str, str]]:
    if delivery.state == SENT:
        return [("reached", delivery.address or ""), ("delivered", delivery.address or "")]
    if delivery.state == BOUNCED:
        return [("reached", delivery.address or ""), ("bounced", delivery.detail or "")]
    if delivery.state in WAITING:
        return [("waiting", delivery.address or "")]
    if delivery.state == UNSURE:
        return [("unsure", delivery.detail or "")]
    words = CAUSE_WORDS.get(delivery.cause or "", delivery.cause or "")
    detail = (
        f": {delivery.detail}" if delivery.detail and delivery.cause in ("not filled", "not made") else ""
    )
    return [("left out", words + detail)]


def _add_events(
    people: dict[str, dict[int, PersonLine]],
    deliveries: list[Delivery],
    events: list[DeliveryEvent],
    names: dict[int, str],
) -> None:
    whose = {delivery.id: delivery.person_id for delivery in deliveries}
    for event in events:
        if event.kind in people:
            person_id = whose[event.delivery_id]
            line = PersonLine(person_id, names[person_id], event.kind, event.at)
            people[event.kind].setdefault(person_id, line)


def _by_hour(
    campaign: Campaign, deliveries: list[Delivery], events: list[DeliveryEvent]
) -> list[tuple[int, int, int]]:
    """(hours since the start, people who first opened, who first clicked) for the first 48 hours."""
    if campaign.started_at is None:
        return []
    table = [[0, 0] for _ in range(48)]
    seen: set[tuple[int, str]] = set()
    for event in events:
        hour = int((event.at - campaign.started_at).total_seconds() // 3600)
        if (
            event.kind in ("opened", "clicked")
            and (event.delivery_id, event.kind) not in seen
            and 0 <= hour < 48
        ):
            seen.add((event.delivery_id, event.kind))
            table[hour][event.kind == "clicked"] += 1
    return [(hour, opened, clicked) for hour, (opened, clicked) in enumerate(table)]
