"""The past week in a few sentences, from figures: what brought people back, what to see to, what fails."""

from dataclasses import dataclass
from datetime import timedelta

import numpy as np

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.local_time import local_day
from loyalbell.core.history.money import say_money
from loyalbell.core.history.settled import stands
from loyalbell.core.policy.origins import CAMPAIGN, SEQUENCE
from loyalbell.core.results.experiment import TestVerdict
from loyalbell.core.results.verdict import Verdict
from loyalbell.services.application import Application
from loyalbell.services.results.credits import credits_of
from loyalbell.services.results.experiments import experiments
from loyalbell.services.results.openings import next_steps
from loyalbell.services.results.overview import overview
from loyalbell.services.results.ranges import USUAL, Days, days_of
from loyalbell.services.today.needs import needs_of
from loyalbell.services.today.queries import came_back_in
from loyalbell.storage.schema import Shop

DAYS = {"week": 7, "day": 1}
OUT = "What was sent"
BACK, LOOK, FAILING = "What brought people back", "What to look at", "What is failing"


CHANNEL_WORDS = {
    "email": ("email", "emails"),
    "text": ("text", "texts"),
    "chat": ("chat message", "chat messages"),
}


@dataclass(frozen=True)
class SummaryLine:
    """One sentence of a ``part``, with the page it comes from."""

    part: str
    words: str
    link: str


@dataclass(frozen=True)
class Summary:
    days: Days
    lines: list[SummaryLine]


def past(application: Application, every: str = "week", wait: bool = False) -> Summary:
    """Of the seven days up to yesterday, or of yesterday alone. ``wait``: also for what is still being worked
    out.
    """
    zone = application.the_shop().zone
    today = local_day(application.clock.now(), zone)
    first, last = today - timedelta(days=DAYS[every]), today - timedelta(days=1)
    days = days_of("own", today, zone, first.isoformat(), last.isoformat())
    lines = [
        *_out(application, days),
        *_back(application, days),
        *_look(application, wait),
        *_failing(application),
    ]
    return Summary(days, lines)


def _out(application: Application, days: Days) -> list[SummaryLine]:
    """How many messages of campaigns and sequences left, by channel."""
    snapshot = application.snapshot()
    sent = snapshot.deliveries.taken(snapshot.deliveries.span(days.low, days.high))
    ours = sent.taken(np.isin(sent.origin, [snapshot.words.get(word, -1) for word in (CAMPAIGN, SEQUENCE)]))
    if not len(ours):
        return [SummaryLine(OUT, "Nothing was sent.", "/calendar")]
    counts = [
        f"{count:,} {CHANNEL_WORDS[channel][count != 1]}"
        for code, channel in enumerate(CHANNELS)
        if (count := int((ours.channel == code).sum()))
    ]
    words = f"{' and '.join(counts)} to {_people(len(np.unique(ours.person)))}."
    return [SummaryLine(OUT, words, "/calendar")]


def _stood(application: Application, days: Days) -> int:
    """How many orders of the days stand now."""
    orders, now = application.snapshot().orders, int(application.clock.now().timestamp())
    return int(stands(orders, orders.span(days.low, min(days.high, now)), now).sum())


def _back(application: Application, days: Days) -> list[SummaryLine]:
    credited = credits_of(application)
    ours = (credited.at >= days.low) & (credited.at <= days.high)
    orders, people = int(ours.sum()), len(np.unique(credited.person[ours]))
    address = f"/results?days=own&first={days.first}&last={days.last}"
    every = _stood(application, days)
    if orders:
        shop = application.the_shop()
        money = say_money(int(credited.money[ours].sum()), shop.currency, True, shop.country)
        words = f"{_orders(orders)} of {every:,} followed a message: {money}, from {_people(people)}."
    else:
        words = f"None of {_orders(every)} followed a message." if every else "Nobody ordered."
    lines = [SummaryLine(BACK, words, address)]
    back, away = came_back_in(application, days)
    if back:
        lines.append(SummaryLine(BACK, f"{_people(back)} ordered again after {away} days away or more.", "/"))
    table = overview(application, days_of(USUAL, days.last, days.zone))
    for row in table.rows:
        interval = row.judged.interval
        if row.judged.verdict is Verdict.ADDED and interval is not None:
            low, high = (round(1_000 * bound) for bound in (interval.low, interval.high))
            words = f"“{row.name}” brought back {low:,} to {high:,} more of every 1,000 people in a year."
            link = f"/results?days=year&show={row.origin[0]}-{row.origin[1]}#shown"
            lines.append(SummaryLine(BACK, words, link))
    return lines


def _look(application: Application, wait: bool) -> list[SummaryLine]:
    lines = []
    following = next_steps(application, wait)
    for opening in following.openings[:1] if following else ():
        words = f"{opening.people:,} {opening.who}."
        if opening.added is not None:
            low, high = opening.added
            words += f" A message like “{opening.like}” would add {low:,} to {high:,} orders."
        lines.append(SummaryLine(LOOK, words, "/results#next"))
    for thing in following.not_worth[:2] if following else ():
        lines.append(SummaryLine(LOOK, f"{thing.words}. {thing.why}", thing.href))
    for test in experiments(application):
        if test.standing.verdict is TestVerdict.WON and test.is_open:
            words = f"“{test.leader.name}” won its test in “{test.name}”."
            lines.append(SummaryLine(LOOK, words, "/results/tests"))
    return lines


def _failing(application: Application) -> list[SummaryLine]:
    with application.database.reading() as session:
        needs = needs_of(session, session.get_one(Shop, 1), application.clock.now())
    return [
        SummaryLine(FAILING, f"{need.title}. {need.words}", need.link or "/") for need in needs if need.urgent
    ]


def _people(count: int) -> str:
    return "1 person" if count == 1 else f"{count:,} people"


def _orders(count: int) -> str:
    return "1 order" if count == 1 else f"{count:,} orders"
