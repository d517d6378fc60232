"""What has gone out and what is expected, day by day: sequences, campaigns, and the heavy days."""

from collections import Counter
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from itertools import takewhile

from sqlalchemy import func, select, text

from loyalbell.core.clock.zones import day_of, zone_of
from loyalbell.core.history.money import locale_of
from loyalbell.core.policy.delivery_state import HANDED_OVER
from loyalbell.services.application import Application
from loyalbell.services.campaigns.audience import plan_of
from loyalbell.services.campaigns.queries import CannotSend
from loyalbell.services.rehearsal.forecast import WEEKS, Coming
from loyalbell.storage.schema import Campaign, Delivery

PAST_WEEKS = 2
HEAVY = 2.0
"""A day is heavy from so many times the median day of those shown that have any."""


@dataclass
class CalendarDay:
    """``sent`` and ``expected`` are messages by channel; ``campaigns`` are those that go out on the day.

    ``rounds`` are campaigns of which a later round falls on it.
    """

    day: date
    sent: Counter[str] = field(default_factory=Counter)
    expected: Counter[str] = field(default_factory=Counter)
    campaigns: list[Campaign] = field(default_factory=list)
    rounds: list[Campaign] = field(default_factory=list)
    heavy: bool = False

    @property
    def messages(self) -> int:
        """All of the day: what has gone, what is expected, and the people confirmed for its campaigns."""
        planned = sum(one.people_seen or 0 for one in (*self.campaigns, *self.rounds))
        return sum(self.sent.values()) + sum(self.expected.values()) + planned


def calendar(application: Application, coming: Coming | None) -> list[CalendarDay]:
    """Whole weeks, as the shop's country begins them, from two weeks back to the end of what is expected."""
    now, shop = application.clock.now(), application.the_shop()
    zone = zone_of(shop.zone)
    today = zone.day(int(now.timestamp()))
    # 1 January 1970 was a Thursday
    first = today - (today + 3 - locale_of(shop.country).first_week_day) % 7 - 7 * PAST_WEEKS
    days = {at: CalendarDay(day_of(at)) for at in range(first, first + 7 * (PAST_WEEKS + WEEKS + 1))}
    start = datetime.fromtimestamp(zone.instant(first, 0), now.tzinfo)
    with application.database.reading() as session:
        rows = session.execute(
            select(Delivery.sent_at, Delivery.channel, func.count())
            .where(
                Delivery.state.in_(HANDED_OVER),
                Delivery.sent_at >= start,
                Delivery.origin_kind.in_(("campaign", "sequence")),
            )
            .group_by(text("delivery.sent_at / 900"), Delivery.channel)
        ).all()
        coming_up = Campaign.state.in_(("scheduled", "held")) | Campaign.round_at.is_not(None)
        planned = list(session.scalars(select(Campaign).where(coming_up)))
    for at, channel, count in rows:
        found = days.get(zone.day(int(at.timestamp()))) if at is not None else None
        if found is not None:
            found.sent[channel] += count
    for day, counts in (coming.days if coming else {}).items():
        for (_, channel), count in counts.items():
            if day in days:
                days[day].expected[channel] += count
    for campaign in planned:
        day = zone.day(int(campaign.goes_out_at.timestamp())) if campaign.goes_out_at else 0
        if day in days:
            days[day].campaigns.append(campaign)
        for at in _later_rounds(campaign, application.the_shop().zone, now + timedelta(weeks=WEEKS + 1)):
            if (day := zone.day(int(at.timestamp()))) in days:
                days[day].rounds.append(campaign)
    _mark_heavy(list(days.values()))
    return list(days.values())


def _later_rounds(campaign: Campaign, zone: str, until: datetime) -> list[datetime]:
    """Those after the coming one."""
    plan, after = plan_of(campaign), campaign.round_at
    if after is None or not plan.recurs:
        return []
    return list(takewhile(lambda at: at < until, plan.rounds_after(after, zone)))


def _mark_heavy(days: list[CalendarDay]) -> None:
    counts = sorted(day.messages for day in days if day.messages)
    median = counts[len(counts) // 2] if counts else 0
    for day in days:
        day.heavy = bool(median) and day.messages > HEAVY * median


def move_campaign(application: Application, campaign_id: int, to: date, by: str) -> None:
    """Moves a scheduled campaign to the same time of another day. Raises ``CannotSend``."""
    zone = zone_of(application.the_shop().zone)
    with application.database.transaction() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state != "scheduled" or campaign.goes_out_at is None:
            raise CannotSend("Only a campaign that waits for its time can be moved.")
        day, second = zone.local(int(campaign.goes_out_at.timestamp()))
        moved = campaign.goes_out_at.timestamp() + 86_400 * (to - day_of(day)).days
        at = datetime.fromtimestamp(zone.instant(zone.day(int(moved)), second), campaign.goes_out_at.tzinfo)
        if at <= application.clock.now() + timedelta(minutes=1):
            raise CannotSend("That day has passed. Choose a later one.")
        campaign.goes_out_at = at
        plan = plan_of(campaign)
        if not plan.recurs:
            campaign.plan = plan.model_copy(update={"at": at}).model_dump(mode="json")
        application.note(session, by, "moved a campaign", campaign=campaign.name, at=at.isoformat())
