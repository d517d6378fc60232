"""Campaigns: one message to one segment. Looking before sending, starting, stopping."""

import secrets
import string
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from itertools import islice

import numpy as np
from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from loyalbell.core.campaigns import CampaignPlan, engaged
from loyalbell.core.care import CAUSE_WORDS, Guard, SendFacts, first_refusal
from loyalbell.core.columns import Mask
from loyalbell.core.ledger import Ledger
from loyalbell.core.messages.content import CHANNELS, read_content
from loyalbell.core.messages.preflight import Finding, blocks_sending
from loyalbell.core.pacing import instants
from loyalbell.core.segments.model import read_rule
from loyalbell.core.sequences.chance import held_back
from loyalbell.core.zones import zone_of
from loyalbell.desk.channel_settings import CareSettings
from loyalbell.desk.desk import Desk
from loyalbell.desk.letters import newest_version
from loyalbell.desk.messages import findings_of_all
from loyalbell.desk.outgoing import send_facts
from loyalbell.desk.segments import who
from loyalbell.store.tables import Campaign, Message, Person, Segment, Shop, Touch

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


def plan_of(campaign: Campaign) -> CampaignPlan:
    """Campaigns from before there were plans went to everybody in their segment."""
    return CampaignPlan.model_validate(campaign.plan or {"engaged_only": False})


def audience(desk: Desk, campaign: Campaign) -> Audience:
    """Everyone in the campaign's segment now, parted by what its plan leaves out and the refusals before every send."""
    now, plan = desk.clock.now(), plan_of(campaign)
    with desk.book.reading() as session:
        segment = session.get_one(Segment, campaign.segment_id)
        ledger, met = who(desk, read_rule(segment.rule), now)
        out = _left_out(desk, session, campaign, plan, ledger, met)
        ids = [
            int(person_id)
            for person_id in ledger.people.ids[np.flatnonzero(met)]
            if int(person_id) not in out
        ]
        marketing = session.get_one(Message, campaign.message_id).purpose == "marketing"
        found = part(session, ids, now, written_channels(session, campaign), marketing)
    found.left_out |= out
    return found


def _left_out(desk: Desk, session: Session, campaign: Campaign, plan: CampaignPlan, ledger: Ledger, met: Mask) -> dict[int, str]:  # fmt: skip
    """By person id why the plan leaves somebody of the segment out."""
    now, out = desk.clock.now(), dict[int, str]()
    for segment in session.scalars(select(Segment).where(Segment.id.in_(plan.exclude))):
        _, inside = who(desk, read_rule(segment.rule), now)
        out |= dict.fromkeys(ledger.people.ids[met & inside].tolist(), "excluded")
    if plan.engaged_only:
        silent = met & ~engaged(ledger, int(now.timestamp()), plan.engaged_days)
        out |= {one: "no reaction" for one in ledger.people.ids[silent].tolist() if one not in out}
    if plan.held_back:
        key = f"campaign {campaign.id}"
        for one in ledger.people.ids[met].tolist():
            if one not in out and held_back(key, one, plan.held_back):
                out[one] = "held back"
    return out


def change_plan(desk: Desk, campaign_id: int, plan: CampaignPlan) -> None:
    """Of a draft. Raises ``CannotSend``."""
    with desk.book.writing() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state != "draft":
            raise CannotSend("This campaign is under way; its plan can no longer be changed.")
        if plan.at is not None and plan.at <= desk.clock.now():
            raise CannotSend("The time it should go out has passed. Choose a later one, or now.")
        campaign.plan = plan.model_dump(mode="json")


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
            plan=CampaignPlan().model_dump(mode="json"),
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
    plan = plan_of(campaign)
    with desk.book.writing() as session:
        kept = session.get_one(Campaign, campaign_id)
        if kept.state != "draft":
            raise CannotSend("This campaign was started already. Nothing was sent a second time.")
        kept.people_seen = len(who.reached)
        if plan.at is not None and plan.at > desk.clock.now():
            kept.state, kept.goes_out_at, kept.by = "scheduled", plan.at, by
            desk.note(session, by, "scheduled a campaign", campaign=kept.name, at=plan.at.isoformat())
        else:
            _start(desk, session, campaign_id, who, by)
    return len(who.reached)


def start_due(desk: Desk) -> int:
    """Starts the campaigns whose time has come, to whoever is in the segment then. Returns how many began.

    One whose audience has grown far beyond what was confirmed, or whose message has come to need mending, is held.
    """
    now, begun = desk.clock.now(), 0
    with desk.book.reading() as session:
        shop = session.get(Shop, 1)
        due = list(
            session.scalars(
                select(Campaign).where(Campaign.state == "scheduled", Campaign.goes_out_at <= now)
            )
        )
        care = CareSettings.load(session)
    if shop is None or not shop.ringing:
        return 0
    guard = Guard(care.guard_factor, care.guard_floor)
    for campaign in due:
        found = audience(desk, campaign)
        odd = len(found.reached) > guard.most(campaign.people_seen or 0) or blocks_sending(
            findings(desk, campaign)
        )
        with desk.book.writing() as session:
            if odd:
                session.get_one(Campaign, campaign.id).state = "held"
                desk.note(session, "the clock", "held a campaign", campaign=campaign.name, people=len(found.reached), confirmed=campaign.people_seen)  # fmt: skip
            else:
                _start(desk, session, campaign.id, found, campaign.by or "the clock")
                begun += 1
    return begun


def unschedule(desk: Desk, campaign_id: int, by: str) -> None:
    """A scheduled or held campaign becomes a draft again."""
    with desk.book.writing() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state in ("scheduled", "held"):
            campaign.state, campaign.goes_out_at = "draft", None
            campaign.plan = plan_of(campaign).model_copy(update={"at": None}).model_dump(mode="json")
            desk.note(session, by, "took a campaign back", campaign=campaign.name)


def _start(desk: Desk, session: Session, campaign_id: int, who: Audience, by: str) -> None:
    now = desk.clock.now()
    campaign = session.get_one(Campaign, campaign_id)
    if campaign.state not in ("draft", "scheduled"):
        raise CannotSend("This campaign was started already. Nothing was sent a second time.")
    version = newest_version(session, campaign.message_id)
    campaign.state, campaign.started_at, campaign.message_version_id = "sending", now, version.id
    campaign.rule = session.get_one(Segment, campaign.segment_id).rule
    zone = session.get_one(Shop, 1).zone
    session.execute(insert(Touch), _touches(campaign, version.id, who, now, zone))
    desk.note(session, by, "started a campaign", campaign=campaign.name, people=len(who.reached))


def _touches(
    campaign: Campaign, version_id: int, who: Audience, now: datetime, zone: str
) -> list[dict[str, object]]:
    """A row for everybody: planned, at once or paced, or withheld with its cause."""
    shared: dict[str, object] = {
        "origin_kind": "campaign", "origin_id": campaign.id, "step": "", "occurrence": "", "message_version_id": version_id,
        "attempts": 0,
    }  # fmt: skip
    due = _due(plan_of(campaign), len(who.reached), now, zone)
    planned = [
        {"person_id": at, "address": address, "state": "planned", "cause": None, "channel": who.channel[at], "token": new_token(who.channel[at]), "due_at": when}
        for (at, address), when in zip(who.reached.items(), due, strict=True)
    ]  # fmt: skip
    withheld = [
        {"person_id": at, "address": None, "state": "withheld", "cause": cause, "channel": campaign.channels[0], "token": new_token("email"), "due_at": now}
        for at, cause in who.left_out.items()
    ]  # fmt: skip
    return [shared | row for row in (*planned, *withheld)]


def _due(plan: CampaignPlan, people: int, now: datetime, zone: str) -> list[datetime]:
    """When each of the people in turn is written to."""
    if plan.pacing is None or not people:
        return [now] * people
    pace = plan.pacing.pace()
    batches = islice(instants(int(now.timestamp()), pace, zone_of(zone)), -(-people // pace.batch))
    times = [datetime.fromtimestamp(one, now.tzinfo) for one in batches]
    return [times[at // pace.batch] for at in range(people)]


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
