"""Segments to start from, for each kind of business, with their numbers taken from this shop's own rhythm."""

from dataclasses import dataclass

import numpy as np

from loyalbell.core.segments import model as m
from loyalbell.core.segments.model import Condition, Group, Rule
from loyalbell.services.application import Application
from loyalbell.services.rhythm import page_figures
from loyalbell.services.rhythm.page_figures import Names

THUMB = (60, 75)
YEAR = m.LastDays(days=365)
NOTHING = {"comparison": "exactly", "value": 0}


@dataclass(frozen=True)
class SegmentTemplate:
    """``kinds`` are the businesses it is usual in; ``why`` says where its number comes from."""

    name: str
    kinds: tuple[str, ...]
    rule: Rule
    why: str


def _all(*lines: Group | Condition) -> Rule:
    return Rule(root=Group(lines=list(lines)))


def _any(*lines: Group | Condition) -> Group:
    return Group(match="any", lines=list(lines))


def _ago(days: int) -> m.OrdersCondition:
    return m.OrdersCondition(comparison="exactly", value=0, period=m.LastDays(days=days))


def _weeks_away(weeks: int, until: int | None) -> Rule:
    """Last came between so many weeks ago and the next step of the ladder."""
    lines: list[Group | Condition] = [m.VisitsCondition(measure="last", value=7 * weeks)]
    if until:
        lines.append(m.VisitsCondition(measure="last", comparison="at most", value=7 * until - 1))
    return _all(*lines)


def segment_templates(application: Application) -> list[SegmentTemplate]:
    return [*_by_buying(application), *_by_messages(), *_by_visits(), *_by_dates()]


def _by_buying(application: Application) -> list[SegmentTemplate]:
    line, thumb = _winback(application)
    often = _often(application)
    bought = m.OrdersCondition()
    rule_of_thumb = f"the rule of thumb, 2 to 2.5 times the usual gap, is {thumb[0]} to {thumb[1]}"
    return [
        SegmentTemplate(
            "Lapsed: ordered before, and not lately",
            ("shop", "salon", "restaurant"),
            _all(bought, _ago(line)),
            f"{line} days: by then nine in ten of those who ever come back have; {rule_of_thumb}",
        ),
        SegmentTemplate(
            "Late against their own rhythm",
            ("shop", "restaurant", "salon", "clinic"),
            _all(m.BandCondition(bands=("late", "quiet"))),
            "each person’s own usual gap",
        ),
        SegmentTemplate(
            "Bought once, a month ago or longer",
            ("shop", "salon"),
            _all(m.OrdersCondition(comparison="exactly"), m.OrdersCondition(measure="last", value=30)),
            "30 days, as is common practice",
        ),
        SegmentTemplate(
            "Best customers by orders",
            ("shop", "restaurant", "salon"),
            _all(m.OrdersCondition(value=often, period=YEAR)),
            f"{often} or more orders in 365 days: what one in ten of your buyers made",
        ),
        SegmentTemplate(
            "Top 20 % by money",
            ("shop", "restaurant", "salon"),
            _all(m.TopCondition(percent=20, days=365)),
            "the last 365 days",
        ),
    ]


def _by_messages() -> list[SegmentTemplate]:
    return [
        SegmentTemplate(
            "Engaged by email",
            ("shop", "restaurant", "salon", "clinic"),
            _all(
                m.ConsentCondition(),
                _any(
                    *(
                        m.MessagesCondition(act=act, channel="email", period=m.LastDays(days=90))
                        for act in ("opened", "clicked")
                    ),
                    m.OrdersCondition(period=m.LastDays(days=90)),
                ),
            ),
            "opened, clicked or bought in 90 days; 120 and 180 are usual too",
        ),
        SegmentTemplate(
            "Never reacts to email",
            ("shop", "restaurant", "salon", "clinic"),
            _never_reacts_email(),
            "agreed and received emails in 72 weeks, without an open, a click or an order (common practice)",
        ),
        SegmentTemplate(
            "Never reacts to texts",
            ("shop", "restaurant", "salon"),
            _all(
                m.ConsentCondition(channel="text"),
                m.PersonCondition(fact="since", comparison="at least", value="60"),
                m.MessagesCondition(channel="text", value=6),
                m.MessagesCondition(act="clicked", channel="text", period=m.LastDays(days=60), **NOTHING),
            ),
            "on file 60 days, more than 5 texts, none clicked in 60 days (common practice)",
        ),
    ]


def _by_visits() -> list[SegmentTemplate]:
    return [
        *(
            SegmentTemplate(
                f"Away {weeks} weeks",
                ("restaurant",),
                _weeks_away(weeks, until),
                "the ladder of 2, 4 and 8 weeks since the last visit, each with a better offer (common"
                " practice)",
            )
            for weeks, until in ((2, 4), (4, 8), (8, None))
        ),
        SegmentTemplate(
            "Recall: last seen a year ago today, nothing booked",
            ("clinic", "salon"),
            _all(
                m.VisitsCondition(measure="last", comparison="exactly", value=365),
                m.AppointmentsCondition(comparison="exactly", value=0),
            ),
            "exactly 365 days: a few dozen people a day, not the whole lapsed book",
        ),
        SegmentTemplate(
            "Missed an appointment and not booked again",
            ("clinic", "salon"),
            _all(
                m.AppointmentsCondition(state="missed", period=m.LastDays(days=30)),
                m.AppointmentsCondition(comparison="exactly", value=0),
            ),
            "the last 30 days",
        ),
    ]


def _by_dates() -> list[SegmentTemplate]:
    return [
        SegmentTemplate(
            "Birthday in 14 days",
            ("shop", "restaurant", "salon"),
            _all(m.DateCondition(value=14)),
            "14 days leave time for a gift",
        ),
        SegmentTemplate(
            "Yearly membership renews in 3 days",
            ("shop", "salon", "clinic"),
            _all(m.MembershipCondition(state="renews in", term="yearly")),
            "yearly terms only, exactly 3 days",
        ),
        SegmentTemplate(
            "Used to come every six weeks, spent well, nothing booked",
            ("salon", "clinic", "shop"),
            _all(
                m.BandCondition(bands=("late", "quiet")),
                m.OrdersCondition(measure="sum", value=20_000, period=YEAR),
                m.AppointmentsCondition(comparison="exactly", value=0),
            ),
            "late or quiet against their own gap, 200 or more in 365 days",
        ),
    ]


def _never_reacts_email() -> Rule:
    weeks = m.LastDays(days=504)
    return _all(
        m.ConsentCondition(),
        m.MessagesCondition(channel="email", period=weeks),
        Group(
            match="none",
            lines=[
                *(
                    m.MessagesCondition(act=act, channel="email", period=weeks)
                    for act in ("opened", "clicked")
                ),
                m.OrdersCondition(period=weeks),
            ],
        ),
    )


def _winback(application: Application) -> tuple[int, tuple[int, int]]:
    found = page_figures.repeat(application, Names())["all"]
    thumb = found["thumb_days"] or THUMB
    return found["winback_days"] or THUMB[0], (thumb[0], thumb[1])


def _often(application: Application) -> int:
    """The orders in 365 days that one in ten of the buyers of that time made, at least 2."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    rows = snapshot.orders.span(now - 365 * 86_400, now)
    counts = snapshot.per_person(snapshot.orders.person[rows][snapshot.orders.counted(rows, now)])
    buyers = counts[counts > 0]
    return max(2, int(np.quantile(buyers, 0.9))) if len(buyers) else 3
