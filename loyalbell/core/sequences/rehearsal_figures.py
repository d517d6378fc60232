"""What a rehearsal comes to: people and messages a day, refusals, replies against the hours, cost, and who
came back by themselves.
"""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.stats import norm

from loyalbell.core.clock.zones import DAY, day_of, zone_of
from loyalbell.core.history.columns import Ints
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.sequences.rehearsal import Rehearsal

QUARTER = 900
RETURN_DAYS = 30


@dataclass(frozen=True)
class Day:
    """One local day of a rehearsal: people who come in, and messages by channel."""

    day: int
    entered: int
    by_channel: Mapping[str, int]

    @property
    def messages(self) -> int:
        return sum(self.by_channel.values())


@dataclass(frozen=True)
class PileUp:
    """A quarter of an hour in which far more leaves than staff can answer.

    ``replies`` are expected, ``answers`` possible.
    """

    at: int
    step: str
    messages: int
    replies: float
    answers: float


@dataclass(frozen=True)
class Baseline:
    """How many came back within ``days`` of what would have been their first message, with no message:
    Wilson's interval.
    """

    came_back: int
    of: int
    days: int = RETURN_DAYS

    @property
    def share(self) -> float | None:
        return self.came_back / self.of if self.of else None

    def interval(self, level: float = 0.95) -> tuple[float, float] | None:
        """Wilson score interval (Wilson 1927, JASA 22:209-212)."""
        if not self.of:
            return None
        z, n, share = float(norm.ppf((1 + level) / 2)), self.of, self.came_back / self.of
        middle = (share + z * z / (2 * n)) / (1 + z * z / n)
        half = z / (1 + z * z / n) * (share * (1 - share) / n + z * z / (4 * n * n)) ** 0.5
        return max(middle - half, 0.0), min(middle + half, 1.0)


@dataclass(frozen=True)
class Figures:
    """``normal`` is the messages on a usual day that had any, ``by_weekday`` those from Monday on.

    ``weekly`` are messages a week by channel; ``cost`` in minor units.

    ``refused`` are (step, cause, messages), ``stayed_out`` (cause, people, times), the most first.
    """

    days: list[Day]
    people: int
    entered: int
    messages: int
    weekly: Mapping[str, float]
    normal: float
    by_weekday: tuple[float, ...]
    heaviest: Day | None
    pile_ups: list[PileUp]
    refused: list[tuple[str, str, int]]
    stayed_out: list[tuple[str, int, int]]
    early: int
    got_some: int
    baseline: Baseline
    cost: float
    replies: float

    @property
    def refused_causes(self) -> list[tuple[str, int]]:
        """(cause, messages) over all steps, the most first."""
        counted: Counter[str] = Counter()
        for _, cause, count in self.refused:
            counted[cause] += count
        return counted.most_common()

    @property
    def not_agreed_yet(self) -> int:
        """Messages that nobody had agreed to by then, where those alone outnumber what would have gone."""
        found = dict(self.refused_causes).get("never asked", 0)
        return found if found > self.messages else 0


def figures(
    found: Rehearsal,
    snapshot: HistorySnapshot,
    play: int,
    costs: Mapping[str, float],
    reply_rates: Mapping[str, float],
    answers_an_hour: float,
) -> Figures:
    """Of one of the sequences played.

    ``costs`` are minor units a message, ``reply_rates`` replies a message, by channel.
    """
    sent = [one for one in found.sent if one.play == play]
    entered = [one for one in found.entered if one.play == play]
    days = _days(found, snapshot, [(one.at, one.channel) for one in sent], [one.at for one in entered])
    counts = [day.messages for day in days if day.messages]
    weeks = max((found.end - found.start) / (7 * DAY), 1 / 7)
    channels = Counter(one.channel for one in sent)
    outs = [one for one in found.outs if one.play == play]
    return Figures(
        days=days,
        people=len({one.person for one in entered}),
        entered=len(entered),
        messages=len(sent),
        weekly={channel: count / weeks for channel, count in channels.items()},
        normal=float(np.median(counts)) if counts else 0.0,
        by_weekday=tuple(_usual(days, weekday) for weekday in range(7)),
        heaviest=max(days, key=lambda day: day.messages, default=None),
        pile_ups=_pile_ups([(one.at, one.step, one.channel) for one in sent], reply_rates, answers_an_hour),
        refused=_refused(found, play),
        stayed_out=_stayed_out(found, play),
        early=sum(one.state == "left" and not one.messages for one in outs),
        got_some=len({(one.person) for one in sent}),
        baseline=baseline(found, snapshot, play),
        cost=sum(costs.get(channel, 0.0) * count for channel, count in channels.items()),
        replies=sum(reply_rates.get(channel, 0.0) * count for channel, count in channels.items()),
    )


def _usual(days: Sequence[Day], weekday: int) -> float:
    """The median of the days of a weekday that had messages; 0 where none had."""
    counts = [day.messages for day in days if day.messages and day_of(day.day).weekday() == weekday]
    return float(np.median(counts)) if counts else 0.0


def _refused(found: Rehearsal, play: int) -> list[tuple[str, str, int]]:
    counted = Counter((one.step, one.cause) for one in found.refused if one.play == play)
    return [(step, cause, count) for (step, cause), count in counted.most_common()]


def _stayed_out(found: Rehearsal, play: int) -> list[tuple[str, int, int]]:
    mine = [one for one in found.stayed_out if one.play == play]
    times = Counter(one.cause for one in mine)
    people = Counter(cause for cause, _ in {(one.cause, one.person) for one in mine})
    return [(cause, people[cause], count) for cause, count in times.most_common()]


def _days(
    found: Rehearsal, snapshot: HistorySnapshot, sent: Sequence[tuple[int, str]], entered: Sequence[int]
) -> list[Day]:
    zone = zone_of(snapshot.zone)
    came = Counter(zone.day(at) for at in entered)
    by_day: dict[int, Counter[str]] = {}
    for at, channel in sent:
        by_day.setdefault(zone.day(at), Counter())[channel] += 1
    first, last = zone.day(found.start + 1), zone.day(found.end)
    return [Day(day, came[day], by_day.get(day, Counter())) for day in range(first, last + 1)]


def _pile_ups(
    sent: Sequence[tuple[int, str, str]], rates: Mapping[str, float], answers_an_hour: float
) -> list[PileUp]:
    """The heaviest quarter of an hour of each step, where what it brings back is more than can be answered in
    an hour.
    """
    quarters: dict[tuple[int, str], list[float]] = {}
    for at, step, channel in sent:
        kept = quarters.setdefault((at // QUARTER, step), [0.0, 0.0])
        kept[0] += 1
        kept[1] += rates.get(channel, 0.0)
    worst: dict[str, PileUp] = {}
    for (quarter, step), (messages, replies) in quarters.items():
        if replies <= answers_an_hour or (step in worst and worst[step].messages >= messages):
            continue
        worst[step] = PileUp(quarter * QUARTER, step, int(messages), replies, answers_an_hour)
    return sorted(worst.values(), key=lambda one: -one.messages)


def baseline(found: Rehearsal, snapshot: HistorySnapshot, play: int, days: int = RETURN_DAYS) -> Baseline:
    """Of those whose ``days`` after the first message lie within the rehearsal: who ordered in that time all
    the same.
    """
    first: dict[int, int] = {}
    for one in found.sent:
        if one.play == play:
            first.setdefault(one.person, one.at)
    whole = {person: at for person, at in first.items() if at + days * DAY <= found.end}
    if not whole:
        return Baseline(0, 0, days)
    orders = snapshot.orders
    rows = orders.span(min(whole.values()), found.end)
    start = np.full(len(snapshot.people), 2**61, dtype=np.int64)
    start[list(whole)] = list(whole.values())
    person, at = orders.person[rows], orders.at[rows]
    later: Ints = at - start[person]
    back = person[(later > 0) & (later <= days * DAY) & (orders.void_at[rows] > found.end)]
    return Baseline(len(np.unique(back)), len(whole), days)
