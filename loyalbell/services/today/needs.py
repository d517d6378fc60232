"""What needs a person: one card for each thing, the urgent ones first."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import case, func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages.spoken_dates import say_instant
from loyalbell.core.policy.delivery_state import BOUNCED, FAILED, HELD, PLANNED, UNSURE
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE
from loyalbell.services.approvals import open_requests
from loyalbell.services.delivery.circuits import closed_channels
from loyalbell.services.replies import inbox
from loyalbell.services.today.skipped import skipped_sum
from loyalbell.storage.schema import (
    ApprovalRequest,
    Campaign,
    Delivery,
    HeldBatch,
    ImportRun,
    Person,
    Sequence,
    Shop,
)


@dataclass(frozen=True)
class Need:
    """Something a person should look at. ``urgent`` ones need them now."""

    title: str
    words: str
    link: str
    act: str
    urgent: bool = False


Troubles = dict[tuple[str, int], dict[str, int]]
"""By (origin, its id) and state: how many messages are in it; of planned ones those that were tried."""


def needs_of(session: Session, shop: Shop, now: datetime) -> list[Need]:
    needs = [*_channel_needs(session, shop, now), *_skipped_needs(session, shop, now)]
    if not shop.ringing:
        needs.append(
            Need("Everything is silent", "Nothing is sent until you switch back to ringing.", "", "", True)
        )
    if session.scalar(select(Person.id).limit(1)) is None:
        words = "Bring in your customers from your till, booking system or spreadsheet, then their orders."
        needs.append(Need("The book is empty", words, "/imports", "Bring in a file"))
    waiting = inbox.waiting(session)
    if waiting:
        title = "1 unanswered reply" if waiting == 1 else f"{waiting:,} unanswered replies"
        needs.append(
            Need(title, "Customers wrote back, and nobody has seen to it yet.", "/replies", "Read them")
        )
    asked = open_requests(session)
    needs += [_asked_need(one) for one in asked]
    asked_about = {one.about_id for one in asked if one.kind == "campaign"}
    troubles = _troubles(session)
    for campaign in session.scalars(select(Campaign).where(Campaign.started_at.is_not(None))):
        needs += _campaign_needs(campaign, troubles.get((CAMPAIGN, campaign.id), {}))
    for campaign in session.scalars(select(Campaign).where(Campaign.state == "held")):
        needs.append(
            Need(
                f"“{campaign.name}” is held",
                campaign.held_because or "",
                f"/campaigns/{campaign.id}",
                "Look",
                True,
            )
        )
    for campaign in session.scalars(select(Campaign).where(Campaign.state == "draft").limit(5)):
        if campaign.id in asked_about:
            continue
        words = "Nobody gets it until you have checked it and sent it."
        needs.append(Need(f"“{campaign.name}” is not sent yet", words, f"/campaigns/{campaign.id}", "Look"))
    needs += [*_sequence_needs(session, troubles), *_failed_needs(session, troubles)]
    for run in session.scalars(
        select(ImportRun)
        .where((ImportRun.refused > 0) | (ImportRun.state == "failed"))
        .order_by(ImportRun.id.desc())
        .limit(3)
    ):
        needs.append(_import_need(run))
    return sorted(needs, key=lambda need: not need.urgent)


def _asked_need(request: ApprovalRequest) -> Need:
    """Somebody waits for a second person."""
    name, people = request.detail.get("name", ""), request.detail.get("people")
    if request.kind == "campaign":
        title, link = f"{request.by} asks to send “{name}”", f"/campaigns/{request.about_id}"
    else:
        title, link = f"{request.by} asks to publish “{name}”", f"/sequences/{request.about_id}/publish"
    said = f"To {people:,} people. " if people else ""
    return Need(title, f"{said}An owner looks at it and approves.", link, "Look")


def _channel_needs(session: Session, shop: Shop, now: datetime) -> list[Need]:
    """Channels whose network does not take our messages."""
    needs = []
    for closed in closed_channels(session, now):
        since = say_instant(closed.since, now, shop.zone)
        waiting = "1 message waits" if closed.waiting == 1 else f"{closed.waiting:,} messages wait"
        title = f"{closed.channel.capitalize()} has not been accepted since {since}"
        if closed.many_alike:
            words = (
                f"The network refuses many addresses with the same words: “{closed.words}”. Nobody has been"
                f" marked as gone. {waiting} until you decide."
            )
        else:
            words = f"The network says: “{closed.words}”. {waiting}; Loyal Bell keeps trying."
        needs.append(Need(title, words, "/settings/channels", "Look", True))
    return needs


def _skipped_needs(session: Session, shop: Shop, now: datetime) -> list[Need]:
    """One card for everything that was skipped because its time had passed."""
    total = skipped_sum(session, now)
    if total is None:
        return []
    title = "1 message came too late" if total.messages == 1 else f"{total.messages:,} messages came too late"
    first, last = (say_instant(at, now, shop.zone) for at in (total.first, total.last))
    between = f"on {first}" if first == last else f"between {first} and {last}"
    people = "1 person" if total.people == 1 else f"{total.people:,} people"
    words = f"They should have left {between}, to {people}, and were not sent."
    return [Need(title, words, "/skipped", "See who")]


def _of_sequences(session: Session, troubles: Troubles, state: str) -> list[tuple[int, str, int]]:
    """(Id, name, messages in the state) of sequences."""
    counts = {
        origin: of[state] for (kind, origin), of in troubles.items() if kind == SEQUENCE and state in of
    }
    named = session.execute(select(Sequence.id, Sequence.name).where(Sequence.id.in_(counts)))
    return [(one, name, counts[one]) for one, name in named]


def _failed_needs(session: Session, troubles: Troubles) -> list[Need]:
    """Sequences some of whose messages were given up."""
    return [
        Need(
            "1 message not delivered" if count == 1 else f"{count:,} messages not delivered",
            f"of “{name}”: the network did not take {'it' if count == 1 else 'them'} in time.",
            f"/sequences/{sequence_id}/live",
            "Look",
            True,
        )
        for sequence_id, name, count in _of_sequences(session, troubles, FAILED)
    ]


def _troubles(session: Session) -> Troubles:
    """Asked by state, of which each has an index, and for everything at once: messages that simply left are
    the most, and are not looked at.
    """
    query = (
        select(
            Delivery.origin_kind,
            Delivery.origin_id,
            Delivery.state,
            func.count(),
            func.count(case((Delivery.attempts > 0, 1))),
        )
        .where(Delivery.state.in_((UNSURE, FAILED, BOUNCED, PLANNED)))
        .group_by(Delivery.origin_kind, Delivery.origin_id, Delivery.state)
    )
    found: Troubles = {}
    for kind, origin, state, count, tried in session.execute(query):
        found.setdefault((kind, origin), {})[state] = tried if state == PLANNED else count
    return found


def _campaign_needs(campaign: Campaign, counts: Mapping[str, int]) -> list[Need]:
    link, needs = f"/results/{campaign.id}", []
    if counts.get(UNSURE):
        words = f"“{campaign.name}” was cut off at the moment of sending. They may or may not have it."
        needs.append(Need(f"{counts[UNSURE]} perhaps sent", words, link + "?figure=unsure", "Decide", True))
    if counts.get(FAILED):
        many = counts[FAILED]
        words = f"of “{campaign.name}”: the network did not take {'it' if many == 1 else 'them'} in time."
        needs.append(
            Need(f"{many:,} message{'' if many == 1 else 's'} not delivered", words, link, "Look", True)
        )
    retries = counts.get(PLANNED)
    if retries:
        words = f"The mail server did not take them yet; “{campaign.name}” tries again by itself."
        needs.append(Need(f"{retries} wait for another try", words, link + "?figure=waiting", "Look"))
    if counts.get(BOUNCED):
        words = f"of “{campaign.name}”; the mail servers said why."
        needs.append(Need(f"{counts[BOUNCED]} not accepted", words, link + "?figure=bounced", "Look"))
    return needs


def _sequence_needs(session: Session, troubles: Troubles) -> list[Need]:
    """Held batches, and messages of sequences that were cut off at the moment of sending."""
    needs = _held_needs(session)
    for one in session.scalars(select(Sequence).where(Sequence.publish_problem.is_not(None))):
        words = f"It should have started and could not: {one.publish_problem}"
        needs.append(
            Need(f"“{one.name}” could not be published", words, f"/sequences/{one.id}/publish", "Look", True)
        )
    for one in session.scalars(select(Sequence).where(Sequence.set_aside_because.is_not(None))):
        words = (
            f"{one.set_aside_because} Everyone keeps their place and nothing of it is sent."
            " The others go on. Mend it, then resume it."
        )
        needs.append(Need(f"“{one.name}” has been set aside", words, f"/sequences/{one.id}", "Mend it", True))
    for sequence_id, name, count in _of_sequences(session, troubles, UNSURE):
        words = f"of “{name}” were cut off at the moment of sending. They may or may not have arrived."
        needs.append(Need(f"{count} perhaps sent", words, f"/sequences/{sequence_id}/live", "Decide", True))
    return needs


def _held_needs(session: Session) -> list[Need]:
    """One for each sequence, however many of its days are held."""
    held = session.execute(
        select(
            Sequence.name,
            func.count(),
            func.count(func.distinct(HeldBatch.id)),
            func.max(HeldBatch.id),
            func.max(HeldBatch.normal),
        )
        .select_from(HeldBatch)
        .join(Sequence, Sequence.id == HeldBatch.origin_id)
        .join(Delivery, (Delivery.held_batch_id == HeldBatch.id) & (Delivery.state == HELD))
        .where(HeldBatch.state == "held", HeldBatch.origin_kind == "sequence")
        .group_by(Sequence.id)
        .order_by(Sequence.rank, Sequence.id)
    )
    needs = []
    for name, count, days, newest, normal in held:
        of_days = f", on {days} days" if days > 1 else ""
        usual = f"{normal:,.0f}" if normal >= 1 else "less than 1"
        words = f"of “{name}”{of_days}: far more than its usual {usual} a day. They wait for your approval."
        link = "/held" if days > 1 else f"/held/{newest}"
        title = "1 message is held" if count == 1 else f"{count:,} messages are held"
        needs.append(Need(title, words, link, "Look", True))
    return needs


def _import_need(run: ImportRun) -> Need:
    link = f"/imports/{run.id}"
    if run.state == "failed":
        return Need(f"{run.filename} was not imported", run.problem or "", link, "Look", True)
    one = run.refused == 1
    state = ("was left out" if one else "were left out") if run.state == "done" else "would be refused"
    return Need(
        f"{run.refused:,} {'row' if one else 'rows'} of {run.filename} {state}",
        "Download them, fix them, and import them again.",
        link,
        "Look",
    )
