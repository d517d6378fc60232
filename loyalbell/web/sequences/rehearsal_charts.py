"""The measures of a rehearsal's pictures: a bar a day, and a bar each quarter of an hour of one day."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.zones import DAY, Zone, day_of
from loyalbell.core.sequences.rehearsal import Sent
from loyalbell.core.sequences.rehearsal_figures import QUARTER, Day
from loyalbell.web.charts import nice_top
from loyalbell.web.formatting import say_day

WIDE, HIGH = 740.0, 120.0


@dataclass(frozen=True)
class Piece:
    y: float
    height: float
    channel: str


@dataclass(frozen=True)
class Column:
    """One bar: ``key`` leads to what is behind it, ``pieces`` are its channels from below."""

    x: float
    width: float
    key: str
    words: str
    count: int
    pieces: tuple[Piece, ...]
    heavy: bool


@dataclass(frozen=True)
class Columns:
    """``line`` is the height of a limit, with its words, where there is one within the picture."""

    columns: list[Column]
    labels: list[tuple[float, str]]
    top: int
    line: float | None = None
    width: float = WIDE
    height: float = HIGH


def _column(
    at: int, slot: float, top: float, key: str, words: str, by_channel: Mapping[str, int], heavy: bool
) -> Column:
    pieces, base = [], HIGH
    for channel in CHANNELS:
        tall = HIGH * by_channel.get(channel, 0) / top
        if tall:
            base -= tall
            pieces.append(Piece(round(base, 1), round(tall, 1), channel))
    count = sum(by_channel.values())
    return Column(
        round(at * slot, 1), round(slot * 0.82, 1), key, f"{words}: {count:,}", count, tuple(pieces), heavy
    )


def day_columns(days: Sequence[Day], most: int) -> Columns:
    """Messages a day; ``most`` is what the volume guard lets go."""
    top = nice_top(max((day.messages for day in days), default=0))
    slot = WIDE / max(len(days), 1)
    columns = [
        _column(
            at,
            slot,
            top,
            day_of(day.day).isoformat(),
            say_day(day_of(day.day)),
            day.by_channel,
            day.messages > most,
        )
        for at, day in enumerate(days)
    ]
    every = max(len(days) // 7, 1)
    labels = [(at * slot, say_day(day_of(days[at].day))) for at in range(0, len(days) - every // 2, every)]
    return Columns(columns, labels, top, HIGH - HIGH * most / top if most < top else None)


def say_quarter(at: int, zone: Zone) -> str:
    """The wall-clock time, such as 9:15, at which the quarter of an hour of an instant begins."""
    clock = zone.local(at)[1] // QUARTER * QUARTER
    return f"{clock // 3_600}:{clock % 3_600 // 60:02}"


def quarter_columns(sent: Sequence[Sent], start: int, zone: Zone, answerable: Mapping[str, float]) -> Columns:
    """Messages in each quarter of an hour of the day that begins at ``start``.

    ``answerable`` are messages by channel beyond which more answers come back than the staff gives in an
    hour.
    """
    by_quarter: dict[int, Counter[str]] = {}
    for one in sent:
        by_quarter.setdefault((one.at - start) // QUARTER, Counter())[one.channel] += 1
    quarters = DAY // QUARTER
    top = nice_top(max((counts.total() for counts in by_quarter.values()), default=0))
    slot, columns = WIDE / quarters, []
    for at in sorted(by_quarter):
        counts = by_quarter[at]
        heavy = sum(count / answerable.get(channel, 1e9) for channel, count in counts.items()) > 1
        words = say_quarter(start + at * QUARTER, zone)
        columns.append(_column(at, slot, top, words, words, counts, heavy))
    return Columns(columns, [(hour * 4 * slot, f"{hour}:00") for hour in range(0, 24, 3)], top)
