"""Who would get a campaign: its segment, parted by what its plan leaves out and by the refusals before every
send.
"""

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.campaigns.plan import CampaignPlan, engaged
from loyalbell.core.history.columns import Mask
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.messages.content import read_content
from loyalbell.core.policy.assignment import held_back
from loyalbell.core.policy.delivery_state import WITHHELD
from loyalbell.core.policy.send_policy import CAUSE_WORDS, SendFacts, first_refusal
from loyalbell.core.segments.model import read_rule
from loyalbell.services.application import Application
from loyalbell.services.delivery.claiming import send_facts
from loyalbell.services.delivery.composing.rendering import newest_version
from loyalbell.services.segments.queries import who
from loyalbell.storage.schema import Campaign, Delivery, Message, Person, Segment

SQL_BATCH = 5_000


@dataclass
class Audience:
    """Who would get a campaign now (id → address, channel, message), and who is left out with the cause."""

    reached: dict[int, str] = field(default_factory=dict)
    channel: dict[int, str] = field(default_factory=dict)
    message: dict[int, int] = field(default_factory=dict)
    left_out: dict[int, str] = field(default_factory=dict)

    def causes(self) -> list[tuple[str, str, int]]:
        """(cause, its words, people), the most people first."""
        counts = Counter(self.left_out.values())
        return [(cause, CAUSE_WORDS[cause], count) for cause, count in counts.most_common()]

    def count_of(self, message_id: int) -> int:
        """People who get this one of its messages."""
        return sum(one == message_id for one in self.message.values())

    def __len__(self) -> int:
        return len(self.reached) + len(self.left_out)


def plan_of(campaign: Campaign) -> CampaignPlan:
    """Campaigns from before there were plans went to everybody in their segment."""
    return CampaignPlan.model_validate(campaign.plan or {"engaged_only": False})


def audience(application: Application, campaign: Campaign) -> Audience:
    """Everyone in the campaign's segment now, each with the message that is theirs, or why they are
    left out.
    """
    now, plan = application.clock.now(), plan_of(campaign)
    with application.database.reading() as session:
        segment = session.get_one(Segment, campaign.segment_id)
        snapshot, met = who(application, read_rule(segment.rule), now)
        out = _left_out(application, session, campaign, plan, snapshot, met)
        marketing = session.get_one(Message, campaign.message_id).purpose == "marketing"
        found, taken = Audience(), set[tuple[str, str | None]]()
        for message_id, ids in _by_message(application, session, campaign, plan, snapshot, met).items():
            channels = written_channels(session, campaign.channels, message_id)
            kept = [one for one in ids if one not in out]
            part(session, kept, now, channels, marketing, found, taken)
            found.message |= {one: message_id for one in kept if one in found.reached}
    found.left_out |= out
    _hold_back(found, f"campaign {campaign.id}", plan.held_back)
    return found


def _hold_back(found: Audience, key: str, percent: int) -> None:
    """Out of those who would get it: held back and written to are then alike, and can be compared."""
    for one in [person for person in found.reached if held_back(key, person, percent)]:
        found.left_out[one] = "held back"
        del found.reached[one], found.channel[one], found.message[one]


def _by_message(
    application: Application,
    session: Session,
    campaign: Campaign,
    plan: CampaignPlan,
    snapshot: HistorySnapshot,
    met: Mask,
) -> dict[int, list[int]]:
    """Person ids by the message that is theirs; of several segments the first one counts."""
    found: dict[int, list[int]] = defaultdict(list)
    left = met.copy()
    if plan.parted_by == "segment":
        for variant in plan.variants:
            segment = session.get(Segment, variant.segment)
            if segment is None:
                continue
            _, inside = who(application, read_rule(segment.rule), application.clock.now())
            found[variant.message] += snapshot.people.ids[left & inside].tolist()
            left &= ~inside
    key, by_lot = f"campaign {campaign.id}", plan.variants if plan.parted_by == "share" else ()
    for person in snapshot.people.ids[np.flatnonzero(left)].tolist():
        drawn = plan.variant_of(key, person) if by_lot else None
        found[campaign.message_id if drawn is None else by_lot[drawn].message].append(person)
    return found


def _left_out(
    application: Application,
    session: Session,
    campaign: Campaign,
    plan: CampaignPlan,
    snapshot: HistorySnapshot,
    met: Mask,
) -> dict[int, str]:
    """By person id why the plan leaves somebody of the segment out."""
    now, out = application.clock.now(), dict[int, str]()
    for segment in session.scalars(select(Segment).where(Segment.id.in_(plan.exclude))):
        _, inside = who(application, read_rule(segment.rule), now)
        out |= dict.fromkeys(snapshot.people.ids[met & inside].tolist(), "excluded")
    if plan.engaged_only:
        silent = met & ~engaged(snapshot, int(now.timestamp()), plan.engaged_days)
        out |= {one: "no reaction" for one in snapshot.people.ids[silent].tolist() if one not in out}
    if not plan.again and campaign.started_at is not None:
        out |= dict.fromkeys(_had(session, campaign.id), "had it")
    return out


def _had(session: Session, campaign_id: int) -> list[int]:
    """Person ids to whom an earlier round went."""
    query = select(Delivery.person_id).where(
        Delivery.origin_kind == "campaign", Delivery.origin_id == campaign_id, Delivery.state != WITHHELD
    )
    return list(session.scalars(query))


def written_channels(session: Session, order: Sequence[str], message_id: int) -> list[str]:
    """Those of the channels, in their order, on which the message says something."""
    content = read_content(newest_version(session, message_id).content)
    return [channel for channel in order if channel in content.channels()]


def part(
    session: Session,
    ids: Sequence[int],
    now: datetime,
    channels: Sequence[str],
    marketing: bool,
    found: Audience,
    taken: set[tuple[str, str | None]],
) -> None:
    """Puts each person on the first channel that nothing speaks against.

    The cause is that of the first channel.
    """
    for start in range(0, len(ids), SQL_BATCH):
        people = list(session.scalars(select(Person).where(Person.id.in_(ids[start : start + SQL_BATCH]))))
        facts = {channel: send_facts(session, people, channel, now) for channel in channels}
        for person in people:
            known = {channel: facts[channel][person.id] for channel in channels}
            _place(found, taken, person.id, known, marketing)


def _place(
    found: Audience,
    taken: set[tuple[str, str | None]],
    person_id: int,
    facts: Mapping[str, SendFacts],
    marketing: bool,
) -> None:
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
