"""Timing, and one row of the printed table."""

import os
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Line:
    """``ours`` and ``other`` in seconds, or in ``unit``; ``ratio`` is ours over the other."""

    what: str
    size: str
    ours: float
    other: float
    against: str
    reach: str
    holds: bool
    unit: str = ""

    def said(self, value: float) -> str:
        """The value as time, or in the unit of the line."""
        return f"{value:,.0f} {self.unit}" if self.unit else say(value)

    @property
    def ratio(self) -> float:
        return self.ours / self.other


def median(work: Callable[[], object], runs: int = 5) -> float:
    """Median seconds of ``runs`` runs after one that is not counted."""
    work()
    times = []
    for _ in range(runs):
        begin = time.perf_counter()
        work()
        times.append(time.perf_counter() - begin)
    return statistics.median(times)


def once(work: Callable[[], object]) -> float:
    begin = time.perf_counter()
    work()
    return time.perf_counter() - begin


def taken_by_others() -> float:
    """Seconds of this machine's processors that its host has given to others since it started (proc(5),
    *steal*); 0 where the kernel does not say. Waiting times rise with it, whatever we do.
    """
    try:
        first = Path("/proc/stat").read_text(encoding="ascii").split("\n", 1)[0]
    except OSError:
        return 0.0
    return int(first.split()[8]) / os.sysconf("SC_CLK_TCK")


def say(seconds: float) -> str:
    return f"{seconds * 1000:,.1f} ms" if seconds < 1 else f"{seconds:,.2f} s"
