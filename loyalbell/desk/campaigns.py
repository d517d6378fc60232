"""Campaigns: one message to one segment. Looking before sending, starting, stopping."""

import secrets
import string
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np
from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from loyalbell.core.care import CAUSE_WORDS, SendFacts, first_refusal
from loyalbell.core.messages.content import CHANNELS, read_content
from loyalbell.core.messages.preflight import Finding, blocks_sending
from loyalbell.core.segments.model import read_rule
from loyalbell.desk.desk import Desk
from loyalbell.desk.letters import newest_version
from loyalbell.desk.messages import findings_of_all
from loyalbell.desk.outgoing import send_facts
from loyalbell.desk.segments import who
from loyalbell.store.tables import Campaign, Message, Person, Segment, Touch

SQL_BATCH = 5_000
SHORT_SIGNS = string.ascii_letters + string.digits
SHORT_LENGTH = 10


class CannotSend(Exception):
    """Why a campaign cannot start, in words."""


@dataclass
class Audience:
    """Who would get a campaign now (id → address, id → channel), and who is left out with the cause."""

    reached: dict[int, str] = field(default_factory=dict)
    channel: dict[int, str] = field(default_factory=dict)
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
        marketing = session.get_one(Message, campaign.message_id).purpose == "marketing"
        return part(session, ids, now, written_channels(session, campaign), marketing)


def written_channels(session: Session, campaign: Campaign) -> list[str]:
    """The campaign's channels, in its order, on which its message says something."""
    content = read_content(newest_version(session, campaign.message_id).content)
    return [channel for channel in campaign.channels if channel in content.channels()]


def part(
    session: Session,
    ids: Sequence[int],
    now: datetime,
    channels: Sequence[str] = ("email",),
    marketing: bool = True,
) -> Audience:
    """Each person on the first channel that nothing speaks against; the cause is that of the first channel."""
    found, taken = Audience(), set[tuple[str, str | None]]()
    for start in range(0, len(ids), SQL_BATCH):
        people = list(session.scalars(select(Person).where(Person.id.in_(ids[start : start + SQL_BATCH]))))
        facts = {channel: send_facts(session, people, channel, now) for channel in channels}
        for person in people:
            known = {channel: facts[channel][person.id] for channel in channels}
            _place(found, taken, person.id, known, marketing)
    return found


def _place(found: Audience, taken: set[tuple[str, str | None]], person_id: int, facts: Mapping[str, SendFacts], marketing: bool) -> None:  # fmt: skip
    causes: list[str] = []
    for channel, known in facts.items():
        cause: str | None = first_refusal(known, marketing)
        if cause is None and (channel, known.address) in taken:
            cause = "same address"
        if cause is None:
            taken.add((channel, known.address))
            found.reached[person_id], found.channel[person_id] = known.address or "", channel
            return
        causes.append(cause)
    found.left_out[person_id] = causes[0] if causes else "not written"


def findings(desk: Desk, campaign: Campaign) -> list[Finding]:
    """Pre-flight of the newest version of its message, on its channels."""
    with desk.book.reading() as session:
        message = session.get_one(Message, campaign.message_id)
        content = read_content(newest_version(session, message.id).content)
    return findings_of_all(desk, content, campaign.channels, message.purpose == "marketing")


def draft_campaign(
    desk: Desk, name: str, segment_id: int, message_id: int, by: str, channels: Sequence[str] = ("email",)
) -> int:
    """``channels`` are tried in their order for each person. Raises ``CannotSend`` where the name is missing or taken."""
    name = " ".join(name.split())
    if not channels or not set(channels) <= set(CHANNELS):
        raise CannotSend("Choose at least one channel: email, text or chat.")
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
            channels=list(channels),
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
    if blocks_sending(findings(desk, campaign)):
        raise CannotSend("The message has something that must be fixed first.")
    who = audience(desk, campaign)
    if len(who.reached) != people_seen:
        raise CannotSend(
            f"While you looked, the number changed from {people_seen:,} to {len(who.reached):,} people. "
            "Look again, then send."
        )
    if not who.reached:
        raise CannotSend(
            "Nobody in this segment can be reached on the channels chosen, so there is nothing to send."
        )
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
    session.execute(insert(Touch), _touches(campaign, version.id, who, now))
    desk.note(session, by, "started a campaign", campaign=campaign.name, people=len(who.reached))


def _touches(campaign: Campaign, version_id: int, who: Audience, now: datetime) -> list[dict[str, object]]:
    """A row for everybody: planned, or withheld with its cause."""
    shared: dict[str, object] = {
        "origin_kind": "campaign", "origin_id": campaign.id, "step": "", "occurrence": "", "message_version_id": version_id,
        "due_at": now, "attempts": 0,
    }  # fmt: skip
    planned = [
        {"person_id": at, "address": address, "state": "planned", "cause": None, "channel": who.channel[at], "token": new_token(who.channel[at])}
        for at, address in who.reached.items()
    ]  # fmt: skip
    withheld = [
        {"person_id": at, "address": None, "state": "withheld", "cause": cause, "channel": campaign.channels[0], "token": new_token("email")}
        for at, cause in who.left_out.items()
    ]  # fmt: skip
    return [shared | row for row in (*planned, *withheld)]


def new_token(channel: str) -> str:
    """Links hold this and nothing about the person: 128 random bits, or 60 in a text, where every sign is paid for."""
    if channel == "email":
        return secrets.token_hex(16)
    return "".join(secrets.choice(SHORT_SIGNS) for _ in range(SHORT_LENGTH))


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
