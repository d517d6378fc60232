"""The shop's own rules as the engine of sequences asks them."""

from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.messages.content import read_content
from loyalbell.core.policy.send_policy import VolumeGuard
from loyalbell.core.sequences.engine_facts import MessageFacts, SendPolicy
from loyalbell.core.sequences.event_rows import Others
from loyalbell.core.sequences.plan import EventFilter, OnEvent, Plan, plan_or_none
from loyalbell.core.sequences.triggers import TriggerContext
from loyalbell.services.delivery.claiming import OFTEN
from loyalbell.services.segments.queries import saved_rules
from loyalbell.services.settings.channels import CareSettings, HoldoutSettings
from loyalbell.services.settings.quiet_hours import quiet_of
from loyalbell.storage.schema import Message, MessageVersion, Preference, Sequence, SequenceVersion, Shop


def volume_guard_of(care: CareSettings) -> VolumeGuard:
    return VolumeGuard(care.guard_factor, care.guard_floor, care.newcomer_percent / 100)


def send_policy_of(session: Session, shop: Shop, now: datetime) -> SendPolicy:
    care = CareSettings.load(session)
    kept = list(session.scalars(select(Preference)))
    return SendPolicy(
        limits=tuple(care.limits),
        quiet=quiet_of(care, shop, range(now.year - 1, now.year + 3)),
        letters=letters_of(session),
        segments=saved_rules(session),
        others=named_by_others(session),
        paused={
            one.person_id: int(one.paused_until.timestamp()) for one in kept if one.paused_until is not None
        },
        seldom={one.person_id: OFTEN[one.often] for one in kept if one.often in OFTEN},
        holdout=HoldoutSettings.load(session).holdout,
    )


def letters_of(session: Session) -> dict[int, MessageFacts]:
    """What the engine must know of each message: its purpose, and on which channels it says something."""
    newest = select(func.max(MessageVersion.id)).group_by(MessageVersion.message_id)
    rows = session.execute(
        select(Message.id, Message.purpose, MessageVersion.content)
        .join(MessageVersion, MessageVersion.message_id == Message.id)
        .where(MessageVersion.id.in_(newest), Message.hidden.is_(False))
    )
    return {
        at: MessageFacts(purpose != "service", frozenset(read_content(content).channels()))
        for at, purpose, content in rows
    }


def live_plans(session: Session) -> list[tuple[Sequence, Plan]]:
    """Sequences that are live, with their plans, the first in rank first.

    One whose plan cannot be read is left out here, and set aside by the runner.
    """
    rows = session.execute(
        select(Sequence, SequenceVersion.plan)
        .join(SequenceVersion, SequenceVersion.id == Sequence.live_version_id)
        .where(Sequence.state == "live")
        .order_by(Sequence.rank, Sequence.id)
    ).all()
    plans = [(sequence, plan_or_none(data)) for sequence, data in rows]
    return [(sequence, plan) for sequence, plan in plans if plan is not None]


def named_by_others(session: Session) -> Others:
    """Items, categories and departments that live sequences start on by name."""
    starts = [plan.start.event_filter for _, plan in live_plans(session) if isinstance(plan.start, OnEvent)]
    named: list[EventFilter] = [start for start in starts if not start.others]
    return Others(
        frozenset(at for one in named for at in one.items),
        frozenset(word for one in named for word in one.categories),
        frozenset(at for one in named if not one.items and not one.categories for at in one.departments),
    )


def around_of(session: Session, policy: SendPolicy) -> TriggerContext:
    return TriggerContext(policy.segments, policy.others)


def live_version(session: Session, sequence: Sequence) -> SequenceVersion | None:
    return session.get(SequenceVersion, sequence.live_version_id) if sequence.live_version_id else None
