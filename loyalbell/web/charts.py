"""The measures of pictures that templates draw as SVG."""

from collections.abc import Sequence
from dataclasses import dataclass

from loyalbell.services.today.queries import DayLoad
from loyalbell.web.formatting import say_day


@dataclass(frozen=True)
class Bar:
    """One bar of a picture, in its own units; ``y`` is the top, ``said`` stands above it."""

    x: float
    y: float
    width: float
    height: float
    label: str
    value: int
    kind: str = ""
    said: str = ""


@dataclass(frozen=True)
class Bars:
    bars: list[Bar]
    labels: list[tuple[float, str, bool]]
    width: float
    height: float
    top: int


def nice_top(largest: int) -> int:
    """The next of 1, 2, 5 x 10^n that is not below ``largest``."""
    step = 1
    while True:
        for factor in (1, 2, 5):
            if factor * step >= max(largest, 5):
                return factor * step
        step *= 10


def said_of(day: DayLoad) -> str:
    """``597``, or ``597 + 22`` where some wait: once a day, so that the figures never stand on one
    another.
    """
    return " + ".join(f"{one:,}" for one in (day.sent, day.waiting) if one)


def day_bars(days: Sequence[DayLoad], width: float = 780, height: float = 150) -> Bars:
    top = nice_top(max((day.sent + day.waiting for day in days), default=0))
    slot = width / max(len(days), 1)
    bars, labels = [], []
    for at, day in enumerate(days):
        x, base = at * slot + slot * 0.2, height
        for kind, value in (("sent", day.sent), ("waiting", day.waiting)):
            tall = height * value / top
            if value:
                base -= tall
                said = "" if kind == "sent" and day.waiting else said_of(day)
                bars.append(Bar(x, base, slot * 0.6, tall, say_day(day.day), value, kind, said))
        labels.append((at * slot + slot / 2, f"{day.day:%a} {day.day.day}", at == len(days) - 1))
    return Bars(bars, labels, width, height, top)


def hour_bars(rows: Sequence[tuple[int, int, int]], width: float = 560, height: float = 110) -> Bars:
    """People who first opened, and first clicked, in each hour since the start."""
    top = nice_top(max((opened for _, opened, _ in rows), default=0))
    slot = width / max(len(rows), 1)
    bars = []
    for hour, opened, clicked in rows:
        for kind, value in (("opened", opened), ("clicked", clicked)):
            tall = height * value / top
            if value:
                bars.append(
                    Bar(hour * slot + 1, height - tall, slot - 2, tall, f"hour {hour + 1}", value, kind)
                )
    labels = [(hour * slot, f"{hour} h", False) for hour in range(0, len(rows) + 1, 12)]
    return Bars(bars, labels, width, height, top)
