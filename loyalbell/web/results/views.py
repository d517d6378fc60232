"""The table of results and the picture beneath it, as their templates draw them."""

from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import urlencode

from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.results.experiment import TestVerdict
from loyalbell.core.results.lift import Interval
from loyalbell.core.results.verdict import Judged, Verdict
from loyalbell.services.results.breakdown.lift_by import LiftPart
from loyalbell.services.results.detail import Detail
from loyalbell.services.results.experiments import Experiment
from loyalbell.services.results.overview import ResultRow
from loyalbell.services.results.ranges import RANGES, Days
from loyalbell.web.formatting import signed

WIDE, HALF = 190, 92
"""Units of the mark in a row: its whole width, and from zero to either edge."""
FAR = 5
"""A test that needs so many times the people it has is not worth waiting for."""
LEAST_SCALE, MOST_SCALE = 0.05, 0.25
PICTURE_WIDE, PICTURE_HIGH, LEFT, TOP = 560, 210, 52, 14


def per_thousand(share: float) -> str:
    """``+48``, ``-2`` or ``0`` of 1,000 people."""
    return signed(round(1_000 * share))


@dataclass(frozen=True)
class LiftMark:
    """The mark of one row: where its line begins and ends, and where its best estimate stands."""

    low: float
    best: float
    high: float
    worth_low: float
    worth_high: float
    is_cut_low: bool
    is_cut_high: bool


@dataclass(frozen=True)
class RowView:
    row: ResultRow
    href: str
    mark: LiftMark
    sure: str
    tone: str
    bars: tuple[tuple[float, float], ...]

    @property
    def has_interval(self) -> bool:
        return self.row.judged.interval is not None

    @property
    def kind(self) -> str:
        words = "sequence" if self.row.origin[0] == SEQUENCE else "campaign"
        return " · ".join([words, ", ".join(self.row.channels)] if self.row.channels else [words])

    @property
    def key(self) -> str:
        return key_of(self.row)


def key_of(row: ResultRow) -> str:
    return f"{row.origin[0]}-{row.origin[1]}"


_SURE = {
    Verdict.ADDED: ("certain enough", "good"),
    Verdict.COST: ("fewer came back", "wrong"),
    Verdict.NO_DIFFERENCE: ("no difference worth having", "muted"),
    Verdict.NOBODY_HELD: ("nobody held back", "muted"),
}


def say_sure(row: ResultRow) -> tuple[str, str]:
    """How sure it is, in words, and the tone in which they stand."""
    judged = row.judged
    if judged.verdict is Verdict.TOO_EARLY:
        if row.weeks_to_go is None:
            return "too few people to tell", "muted"
        return f"about {row.weeks_to_go} more week{'s' if row.weeks_to_go != 1 else ''}", "muted"
    return _SURE[judged.verdict]


def views(rows: Sequence[ResultRow]) -> list[RowView]:
    found = [row.judged.interval for row in rows if row.judged.interval is not None]
    widest = max((max(-one.low, one.high) for one in found), default=0.0)
    return [_view(row, min(max(LEAST_SCALE, widest), MOST_SCALE)) for row in rows]


def _view(row: ResultRow, scale: float) -> RowView:
    number = row.origin[1]
    href = f"/results/sequence/{number}" if row.origin[0] == SEQUENCE else f"/results/{number}"
    tallest = max(row.trend, default=0) or 1
    bars = tuple((at * 6.0, 26.0 * count / tallest) for at, count in enumerate(row.trend))
    return RowView(row, href, _mark(row.judged.interval, scale, row.judged.worth), *say_sure(row), bars)


def _mark(interval: Interval | None, scale: float, worth: float) -> LiftMark:
    def x(share: float) -> float:
        return round(WIDE / 2 + HALF * max(-1.0, min(1.0, share / scale)), 1)

    found = interval or Interval(0.0, 0.0, 0.0)
    cut = found.low < -scale, found.high > scale
    return LiftMark(x(found.low), x(found.best), x(found.high), x(-worth), x(worth), *cut)


@dataclass(frozen=True)
class PartView:
    """A month or a segment, with its mark in the scale of all of them."""

    part: LiftPart
    mark: LiftMark
    sure: str
    tone: str

    @property
    def has_interval(self) -> bool:
        return self.part.judged.interval is not None


def part_views(parts: Sequence[LiftPart]) -> list[PartView]:
    intervals = [part.judged.interval for part in parts if part.judged.interval is not None]
    widest = max((max(-one.low, one.high) for one in intervals), default=0.0)
    scale = min(max(LEAST_SCALE, widest), MOST_SCALE)
    return [
        PartView(part, _mark(part.judged.interval, scale, part.judged.worth), *_say_part(part.judged))
        for part in parts
    ]


def _say_part(judged: Judged) -> tuple[str, str]:
    """Without how long it takes: a month that is over gets no more people."""
    if judged.verdict is Verdict.TOO_EARLY:
        return "too few people to tell", "muted"
    return _SURE[judged.verdict]


@dataclass(frozen=True)
class LiftPicture:
    """The interval narrowing as the weeks pass: a band, its best estimate, zero and what is worth having."""

    band: str
    best: str
    zero: float
    worth: tuple[float, float]
    rises: list[tuple[float, str]]
    ticks: list[tuple[float, str]]
    certain: float | None
    certain_week: int | None


def lift_picture(found: Detail) -> LiftPicture | None:
    """``None`` while there is no interval in any week."""
    told = [(one, one.judged.interval) for one in found.weeks if one.judged.interval is not None]
    if not told:
        return None
    weeks, worth = max(week.week for week in found.weeks), found.weeks[-1].judged.worth
    top = _nice(max(min(max(abs(i.low), abs(i.high)), 3 * abs(i.best) + 0.12) for _, i in told))

    def x(week: int) -> float:
        return round(LEFT + (PICTURE_WIDE - LEFT - 10) * week / max(weeks, 1), 1)

    def y(share: float) -> float:
        return round(TOP + (PICTURE_HIGH - 40) * (1 - max(-1.0, min(1.0, share / top))) / 2, 1)

    uppers = [f"{x(one.week)},{y(i.high)}" for one, i in told]
    lowers = [f"{x(one.week)},{y(i.low)}" for one, i in reversed(told)]
    since = found.certain_since
    step = max(1, weeks // 6)
    return LiftPicture(
        band=" ".join(uppers + lowers),
        best=" ".join(f"{x(one.week)},{y(i.best)}" for one, i in told),
        zero=y(0),
        worth=(y(worth), y(-worth)),
        rises=[(y(share), per_thousand(share)) for share in (top, top / 2, 0.0, -top / 2, -top)],
        ticks=[(x(week), f"week {week}") for week in range(0, weeks + 1, step)],
        certain=None if since is None else x(since),
        certain_week=since,
    )


def _nice(share: float) -> float:
    """The next of 0.04, 0.1, 0.2, 0.4, 1 that is not below it."""
    return next((one for one in (0.04, 0.1, 0.2, 0.4) if one >= share), 1.0)


def headline(row: ResultRow, found: Detail) -> str:
    """One sentence: what it added, and how sure that is."""
    interval, verdict = row.judged.interval, row.judged.verdict
    if verdict is Verdict.NOBODY_HELD:
        return "Nobody is held back, so what it added cannot be told."
    if interval is None:
        needed = row.judged.people_to_go or 0
        return f"Too early to tell: about {needed:,} more people must qualify first."
    low, high = (round(1_000 * bound) for bound in (interval.low, interval.high))
    if verdict is Verdict.ADDED:
        return f"Between {max(low, 0):,} and {high:,} more of every 1,000 came back."
    if verdict is Verdict.COST:
        return f"Between {-high:,} and {-low:,} fewer of every 1,000 came back."
    if verdict is Verdict.NO_DIFFERENCE:
        return "It makes no difference worth having."
    if row.weeks_to_go is None:
        return "Too few people to tell whether it brings anyone back."
    return f"Too early to tell: about {row.weeks_to_go} more weeks at this pace."


def added_people(row: ResultRow) -> tuple[int, int] | None:
    """From how many to how many people came back because of it; ``None`` where that is not known."""
    interval = row.judged.interval
    if interval is None or row.judged.verdict is not Verdict.ADDED:
        return None
    return round(interval.low * row.treated), round(interval.high * row.treated)


@dataclass(frozen=True)
class Address:
    """Links of the page that keep the chosen days, order and row."""

    days: Days
    by: str
    show: str = ""

    def link(self, **changed: str) -> str:
        values = {"days": self.days.key, "by": self.by, "show": self.show}
        if self.days.key == "own":
            values |= {"first": self.days.first.isoformat(), "last": self.days.last.isoformat()}
        return "/results?" + urlencode({name: value for name, value in (values | changed).items() if value})

    @property
    def ranges(self) -> list[tuple[str, str, bool]]:
        """(address, words, whether chosen) of each range."""
        return [
            (self.link(days=key), words, key == self.days.key)
            for key, words in RANGES.items()
            if key != "own"
        ]


@dataclass(frozen=True)
class SequenceAddress:
    """Links of a sequence's page that keep the chosen days."""

    sequence_id: int
    address: Address

    def link(self, figure: str = "", step: str = "", days: str = "") -> str:
        query = self.address.link(**({"days": days} if days else {})).partition("?")[2]
        more = urlencode({name: value for name, value in (("figure", figure), ("step", step)) if value})
        path = f"/results/sequence/{self.sequence_id}?{query}"
        return f"{path}&{more}#who" if more else path

    @property
    def ranges(self) -> list[tuple[str, str, bool]]:
        chosen = self.address.days.key
        return [(self.link(days=key), words, key == chosen) for key, words in RANGES.items() if key != "own"]


@dataclass(frozen=True)
class TestView:
    """One test: its sentence, the tone, and where it stands."""

    test: Experiment
    sentence: str
    tone: str
    href: str
    mark: LiftMark


def test_views(tests: Sequence[Experiment]) -> list[TestView]:
    return [_test_view(test) for test in tests]


def _test_view(test: Experiment) -> TestView:
    number = test.origin[1]
    href = f"/results/sequence/{number}" if test.origin[0] == SEQUENCE else f"/results/{number}"
    tone = "good" if test.standing.verdict is TestVerdict.WON else "muted"
    return TestView(
        test, say_test(test), tone, href, _mark(test.standing.ahead, MOST_SCALE, test.standing.worth)
    )


def say_test(test: Experiment) -> str:
    """What it says by now, in one sentence."""
    stand, leader = test.standing, test.leader
    if stand.is_split_wrong:
        return "The groups are not of the sizes that were drawn, so nothing can be said."
    if stand.verdict is TestVerdict.WON and stand.ahead is not None:
        low, high = (round(1_000 * bound) for bound in (stand.ahead.low, stand.ahead.high))
        return f"“{leader.name}” is better: {low:,} to {high:,} more of every 1,000 {test.measure}."
    if stand.verdict is TestVerdict.NO_DIFFERENCE:
        return "No difference worth having. Keep the one you like."
    people = sum(arm.people for arm in test.arms)
    if stand.people_to_go is None or test.origin[0] != SEQUENCE or stand.people_to_go > FAR * people:
        return "Too close to tell, with so few people."
    return f"Not certain yet: about {_about(stand.people_to_go):,} more people."


def _about(count: int) -> int:
    """To two figures: an estimate that says 34,791 pretends to know more than it does."""
    return round(count, 2 - len(str(count)))
