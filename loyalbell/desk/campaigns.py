"""Campaigns: one message to one segment. Looking before sending, starting, stopping."""

import secrets
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np
from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from loyalbell.core.care import CAUSE_WORDS, first_refusal
from loyalbell.core.messages.content import read_content
from loyalbell.core.messages.preflight import Finding, blocks_sending, preflight
from loyalbell.core.segments.model import read_rule
from loyalbell.desk.desk import Desk
from loyalbell.desk.letters import look_of
from loyalbell.desk.segments import who
from loyalbell.desk.sending import send_facts
from loyalbell.store.tables import Campaign, Message, MessageVersion, Person, Segment, Shop, Touch

SQL_BATCH = 5_000


class CannotSend(Exception):
    """Why a campaign cannot start, in words."""


@dataclass
class Audience:
    """Who would get a campaign now (id → address), and who is left out with the cause."""

    reached: dict[int, str] = field(default_factory=dict)
    left_out: dict[int, str] = field(default_factory=dict)

    def causes(self) -> list[tuple[str, str, int]]:
        """(cause, its words, people), the most people first."""
        counts = Counter(self.left_out.values())
        return [(cause, CAUSE_WORDS[cause], count) for cause, count in counts.most_common()]

    def __len__(self) -> int:
        return len(self.reached) + len(self.left_out)


def audience(desk: Desk, campaign: Campaign) -> Audience:
    """Everyone in the campaign's segment now, parted by the refusals asked before every send."""
    now = desk.clock.now()
    with desk.book.reading() as session:
        segment = session.get_one(Segment, campaign.segment_id)
        ledger, met = who(desk, read_rule(segment.rule), now)
        ids = [int(person_id) for person_id in ledger.people.ids[np.flatnonzero(met)]]
        return part(session, ids, now)


def part(session: Session, ids: Sequence[int], now: datetime) -> Audience:
    found, taken = Audience(), set()
    for start in range(0, len(ids), SQL_BATCH):
        people = session.scalars(select(Person).where(Person.id.in_(ids[start : start + SQL_BATCH])))
        for person_id, facts in send_facts(session, list(people), "email", now).items():
            cause: str | None = first_refusal(facts)
            if cause is None and facts.address in taken:
                cause = "same address"
            if cause:
                found.left_out[person_id] = cause
            else:
                taken.add(facts.address)
                found.reached[person_id] = facts.address or ""
    return found


def newest_version(session: Session, message_id: int) -> MessageVersion:
    query = select(MessageVersion).where(MessageVersion.message_id == message_id)
    return session.scalars(query.order_by(MessageVersion.number.desc()).limit(1)).one()


def findings(desk: Desk, message_id: int) -> list[Finding]:
    """Pre-flight of the newest version of a message."""
    with desk.book.reading() as session:
        content = read_content(newest_version(session, message_id).content)
        look = look_of(session, content.letterhead)
        return preflight(content, look, session.get_one(Shop, 1).sender_email)


def draft_campaign(desk: Desk, name: str, segment_id: int, message_id: int, by: str) -> int:
    """Raises ``CannotSend`` where the name is missing or taken."""
    name = " ".join(name.split())
    if not name:
        raise CannotSend("Give the campaign a name, so that you find it again in Results.")
    with desk.book.writing() as session:
        if session.get(Segment, segment_id) is None or session.get(Message, message_id) is None:
            raise CannotSend("That segment or message is no longer on file. Choose another.")
        if session.scalar(select(Campaign.id).where(Campaign.name == name)):
            raise CannotSend(f"There is a campaign called “{name}” already. Give this one another name.")
        campaign = Campaign(
            name=name,
            segment_id=segment_id,
            message_id=message_id,
            state="draft",
            made_at=desk.clock.now(),
            by=by,
        )
        session.add(campaign)
        session.flush()
        return campaign.id


def start_campaign(desk: Desk, campaign_id: int, people_seen: int, by: str) -> int:
    """Plans a touch for everyone in the segment and begins sending. Returns how many will get it.

    ``people_seen`` is the number the person confirmed. Raises ``CannotSend`` if it
    no longer holds, if the campaign was started before, or if pre-flight forbids it.
    """
    with desk.book.reading() as session:
        campaign = session.get_one(Campaign, campaign_id)
    if blocks_sending(findings(desk, campaign.message_id)):
        raise CannotSend("The message has something that must be fixed first.")
    who = audience(desk, campaign)
    if len(who.reached) != people_seen:
        raise CannotSend(
            f"While you looked, the number changed from {people_seen:,} to {len(who.reached):,} people. "
            "Look again, then send."
        )
    if not who.reached:
        raise CannotSend("Nobody in this segment can be reached by email, so there is nothing to send.")
    with desk.book.writing() as session:
        _start(desk, session, campaign_id, who, by)
    return len(who.reached)


def _start(desk: Desk, session: Session, campaign_id: int, who: Audience, by: str) -> None:
    now = desk.clock.now()
    campaign = session.get_one(Campaign, campaign_id)
    if campaign.state != "draft":
        raise CannotSend("This campaign was started already. Nothing was sent a second time.")
    version = newest_version(session, campaign.message_id)
    campaign.state, campaign.started_at, campaign.message_version_id = "sending", now, version.id
    campaign.rule = session.get_one(Segment, campaign.segment_id).rule
    shared = {
        "origin_kind": "campaign",
        "origin_id": campaign.id,
        "step": "",
        "occurrence": "",
        "message_version_id": version.id,
        "channel": "email",
        "due_at": now,
        "attempts": 0,
    }
    rows = [
        shared
        | {"person_id": person_id, "address": address, "state": "planned", "cause": None, "token": _token()}
        for person_id, address in who.reached.items()
    ]
    rows += [
        shared
        | {"person_id": person_id, "address": None, "state": "withheld", "cause": cause, "token": _token()}
        for person_id, cause in who.left_out.items()
    ]
    session.execute(insert(Touch), rows)
    desk.note(session, by, "started a campaign", campaign=campaign.name, people=len(who.reached))


def _token() -> str:
    """128 random bits; links hold this and nothing about the person."""
    return secrets.token_hex(16)


def stop_campaign(desk: Desk, campaign_id: int, by: str) -> int:
    """Withholds everything not yet handed over. Returns how many will not get it."""
    with desk.book.writing() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state != "sending":
            return 0
        done = session.execute(
            update(Touch)
            .where(Touch.origin_kind == "campaign", Touch.origin_id == campaign_id, Touch.state == "planned")
            .values(state="withheld", cause="stopped")
        )
        campaign.state, campaign.ended_at = "stopped", desk.clock.now()
        count = int(done.rowcount)  # type: ignore[attr-defined]
        desk.note(session, by, "stopped a campaign", campaign=campaign.name, people=count)
        return count


def discard_draft(desk: Desk, campaign_id: int) -> None:
    with desk.book.writing() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state == "draft":
            session.delete(campaign)
