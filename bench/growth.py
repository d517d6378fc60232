"""``python -m bench.growth [people …]``: what grows faster than its data.

The same work at several sizes of the book, in one run; drawn to ``docs/growth.svg`` on logarithmic axes,
where work that grows as its data is a straight line of slope 1. Named is what grows faster at the end.
"""

import gc
import math
import shutil
import sys
import tempfile
from collections.abc import Callable
from datetime import timedelta
from itertools import count
from pathlib import Path

from bench import book_in, questions, sequences
from bench.measure import median, say
from loyalbell.core.rhythm.return_curve import buying_days, gaps, repeat_curve
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import read_rule
from loyalbell.demo.build import NOW
from loyalbell.storage.snapshot.loading import load_snapshot

SIZES = (4_000, 40_000, 200_000, 500_000)
OUT = Path(__file__).resolve().parents[1] / "docs/growth.svg"
FASTER, REHEARSED_AT_MOST = 1.15, 50_000
"""A slope above which work grows faster than its data; the noise of one run lies below."""
INK = (
    "#2f7f75 #c9932f #7a4b94 #a33b2f #24665e #8a6d1d #4a5fa5 #5c5c5c #b0567c #1f2a2b #d98c5f #7d8f2f".split()
)
Times = dict[str, dict[int, float]]


def works(people: int) -> dict[str, Callable[[], object]]:
    snapshot, later = questions.ledger(1, people), count()
    found: dict[str, Callable[[], object]] = {}
    for question in questions.QUESTIONS:
        root = question.rule if "lines" in question.rule else {"match": "all", "lines": [question.rule]}
        rule = read_rule({"version": 1, "root": root})
        found[question.name] = lambda rule=rule: evaluate(  # type: ignore[misc]
            rule, snapshot, NOW + timedelta(seconds=next(later))
        )
    at, today = int(NOW.timestamp()), NOW.date().toordinal() - questions.EPOCH_DAY
    found["the curve of returns"] = lambda: repeat_curve(*gaps(buying_days(snapshot, at), today))
    return found


def loaded(people: int) -> float:
    """Seconds to load a book with as many orders as the others, from a file that the system has at hand."""
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        application = book_in.new_book(folder, people)
        book_in.add_orders(folder, people, questions.ORDERS * people // questions.PEOPLE)

        def load() -> None:
            with application.database.reading() as session:
                load_snapshot(session)

        seconds = median(load, 1)
        application.close()
        return seconds
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def measured(sizes: tuple[int, ...]) -> Times:
    times: Times = {}
    for people in sizes:
        for name, work in works(people).items():
            times.setdefault(name, {})[people] = median(work, 5)
        if people <= REHEARSED_AT_MOST:
            seconds = sequences.seconds_of_a_rehearsed_year(people)
            times.setdefault("a year rehearsed, six steps", {})[people] = seconds
        times.setdefault("the history loaded from the book", {})[people] = loaded(people)
        gc.collect()
        print(f"{people:,} people", flush=True)
    return times


def slope(by_size: dict[int, float]) -> float:
    """Of the line through the two largest on logarithmic axes: 1 where the time grows as the data."""
    (small, before), (large, after) = sorted(by_size.items())[-2:]
    return math.log(after / before) / math.log(large / small)


def _tick(power: int) -> str:
    """A power of ten of a second, in the unit in which it is said shortest."""
    unit, scale = ("s", 0) if power >= 0 else ("ms", 3) if power >= -3 else ("µs", 6)
    return f"{10 ** (power + scale):,} {unit}"


def drawn(times: Times) -> str:
    width, height, left, top = 960, 460, 80, 20
    inner, down = 470, height - 70
    sizes = sorted({size for one in times.values() for size in one})
    all_ = [seconds for one in times.values() for seconds in one.values()]
    low, high = math.floor(math.log10(min(all_))), math.ceil(math.log10(max(all_)))

    def x(size: int) -> float:
        return left + inner * (math.log(size / sizes[0]) / math.log(sizes[-1] / sizes[0]))

    def y(seconds: float) -> float:
        return top + down * (1 - (math.log10(seconds) - low) / (high - low))

    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" role="img"'
        ' font-family="sans-serif" font-size="13"><title>Time against people on file</title>'
        f'<rect width="{width}" height="{height}" fill="#fffef9"/>'
    ]
    for power in range(low, high + 1):
        at = y(10.0**power)
        parts.append(
            f'<line x1="{left}" x2="{left + inner}" y1="{at:.1f}" y2="{at:.1f}" stroke="#e6dcc3"/>'
            f'<text x="{left - 8}" y="{at + 4:.1f}" text-anchor="end">{_tick(power)}</text>'
        )
    for size in sizes:
        parts.append(
            f'<text x="{x(size):.1f}" y="{top + down + 20}" text-anchor="middle">{size // 1_000}k</text>'
        )
    parts.append(f'<text x="{left}" y="{height - 12}">people on file (15 orders and 20 lines each)</text>')
    ends = sorted(times.items(), key=lambda one: -max(one[1].items())[1])
    for row, (name, by_size) in enumerate(ends):
        ink = INK[row % len(INK)]
        points = " ".join(f"{x(size):.1f},{y(seconds):.1f}" for size, seconds in sorted(by_size.items()))
        at = top + 14 + row * 24
        parts.append(
            f'<polyline points="{points}" fill="none" stroke="{ink}" stroke-width="2.5"/>'
            f'<rect x="{left + inner + 16}" y="{at - 10}" width="12" height="12" fill="{ink}"/>'
            f'<text x="{left + inner + 34}" y="{at}">{name}: {say(max(by_size.items())[1])},'
            f" slope {slope(by_size):.2f}</text>"
        )
    return "\n".join([*parts, "</svg>", ""])


def main(sizes: tuple[int, ...]) -> None:
    times = measured(sizes)
    OUT.write_text(drawn(times))
    for name, by_size in times.items():
        steep = slope(by_size)
        said = ", ".join(f"{size // 1_000}k {say(seconds)}" for size, seconds in sorted(by_size.items()))
        print(f"{name}: {said}; slope {steep:.2f}{' FASTER THAN ITS DATA' if steep > FASTER else ''}")


if __name__ == "__main__":
    main(tuple(int(one) for one in sys.argv[1:]) or SIZES)
