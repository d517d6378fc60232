"""The pictures of Rhythm as measures that templates draw as SVG."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

WIDTH, HEIGHT = 720.0, 230.0
LEFT, RIGHT, TOP, BOTTOM = 44.0, 16.0, 14.0, 30.0
LONGEST = 730


@dataclass(frozen=True)
class Curve:
    """A step curve with its band; ``ticks`` are (x, label), ``rises`` are (y, label)."""

    line: str
    band: str
    ticks: list[tuple[float, str]]
    rises: list[tuple[float, str]]
    top_day: int

    def x(self, day: float) -> float:
        """Where a day stands."""
        return across(min(day, self.top_day) / self.top_day)


def across(share: float) -> float:
    return round(LEFT + share * (WIDTH - LEFT - RIGHT), 1)


def down(share: float) -> float:
    """``share`` from 0 at the bottom to 1 at the top."""
    return round(TOP + (1 - share) * (HEIGHT - TOP - BOTTOM), 1)


RISES = [(down(share), f"{round(share * 100)} %") for share in (0, 0.25, 0.5, 0.75, 1)]


def repeat_picture(found: Mapping[str, Any]) -> Curve | None:
    """Share not yet back over days; ``None`` where nobody has come back."""
    points = found["curve"]
    if not points:
        return None
    lines = [found["winback_days"] or 0, *(found["thumb_days"] or [0])]
    top = min(LONGEST, max(points[-1][0], 30), max(4 * max(lines), 60))
    shown = [point for point in points if point[0] <= top]
    bounds = [point for point in found["interval"] if point[0] <= top]
    line = _steps([(0, 1.0), *((day, share) for day, share in shown)], top)
    high = _steps([(0, 1.0), *((day, high) for day, _, high in bounds)], top)
    low = _steps([(0, 1.0), *((day, low) for day, low, _ in bounds)], top)
    band = "M" + " L".join([*high, *reversed(low)]) + " Z"
    return Curve(
        "M" + " L".join(line), band, [(across(day / top), _days(day)) for day in _round_days(top)], RISES, top
    )


def _steps(points: Sequence[tuple[float, float]], top: float) -> list[str]:
    found, last = [], points[0][1]
    for day, share in points:
        x = across(day / top)
        found += [f"{x},{down(last)}", f"{x},{down(share)}"]
        last = share
    return [*found, f"{across(1)},{down(last)}"]


def _round_days(top: int) -> list[int]:
    step = next(step for step in (7, 14, 30, 60, 90, 180) if top / step <= 9)
    return list(range(0, top + 1, step))


def _days(day: int) -> str:
    return "0 days" if day == 0 else str(day)


@dataclass(frozen=True)
class Cell:
    """One cell of the grid; ``depth`` is its part of the money from 0 to 1."""

    x: float
    y: float
    recency: int
    frequency: int
    people: int
    money: int
    depth: float
    about: str


def grid_cells(found: Mapping[str, Any], width: float = 92, height: float = 46) -> list[Cell]:
    """Recency upwards, frequency to the right, 5 at the top and right."""
    most = max((cell["money"] for cell in found["cells"]), default=0) or 1
    known = {(cell["recency"], cell["frequency"]): cell for cell in found["cells"]}
    cells = []
    for recency in range(5, 0, -1):
        for frequency in range(1, 6):
            cell = known.get((recency, frequency))
            about = "nobody"
            if cell:
                ago, times = cell["days_ago"], cell["purchases"]
                about = (
                    f"last bought {_range(ago)} days ago, on {_range(times)}"
                    f" {'day' if times[1] == 1 else 'days'}"
                )
            people, money = (cell["people"], cell["money"]) if cell else (0, 0)
            cells.append(
                Cell(
                    (frequency - 1) * width,
                    (5 - recency) * height,
                    recency,
                    frequency,
                    people,
                    money,
                    money / most,
                    about,
                )
            )
    return cells


def _range(pair: Sequence[int]) -> str:
    return str(pair[0]) if pair[0] == pair[1] else f"{pair[0]} to {pair[1]}"


def concentration_line(found: Mapping[str, Any]) -> str:
    """The share of money by the top share of people, as a path."""
    return "M" + " L".join(f"{across(people)},{down(money)}" for people, money in found["curve"])


@dataclass(frozen=True)
class Pair:
    """What was expected and what came, as heights."""

    x: float
    label: str
    expected: float
    came: float
    expected_y: float
    came_y: float


def calibration_pairs(found: Mapping[str, Any]) -> list[Pair]:
    bins = found["bins"]
    top = max((max(one["expected"], one["came"]) for one in bins), default=1.0) or 1.0
    pairs = []
    for at, one in enumerate(bins):
        low, high = one["purchases"]
        label = str(low) if low == high else f"{low}–{high}"
        x = across((at + 0.5) / len(bins))
        pairs.append(
            Pair(x, label, one["expected"], one["came"], down(one["expected"] / top), down(one["came"] / top))
        )
    return pairs


@dataclass(frozen=True)
class Sizes:
    """A line of sizes over a year; ``least`` and ``most`` are its ends."""

    line: str
    least: int
    most: int


def size_picture(sizes: Sequence[int]) -> Sizes:
    """In a picture of 720 x 120, from nought at the bottom."""
    most = max(*sizes, 1)
    step = 700 / max(len(sizes) - 1, 1)
    points = [f"{10 + at * step:.1f},{108 - 98 * size / most:.1f}" for at, size in enumerate(sizes)]
    return Sizes("M" + " L".join(points), min(sizes), max(sizes))
