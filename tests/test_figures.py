"""The examples of docs/figures.md, worked out by the program from the table itself."""

import re
import unittest
from collections.abc import Callable
from datetime import UTC, datetime

import numpy as np

from loyalbell.core.clock.pacing import Pace, paced
from loyalbell.core.clock.send_windows import SendWindow
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.messages.contrast import contrast
from loyalbell.core.messages.text_parts import parts
from loyalbell.core.policy.send_policy import VolumeGuard
from loyalbell.core.results.lift import share_difference, wilson
from loyalbell.core.results.sample_size import people_needed
from loyalbell.core.rhythm.concentration import concentration
from loyalbell.core.rhythm.return_curve import repeat_curve
from tests.support import snapshot_of
from tests.test_house import ROOT

ROW = re.compile(r"^\| [^|]+ \| [^|]+ \| [^|]+ \| `([^`]+)` \| `([^`]+)` \|$", re.MULTILINE)
Z = 1.959964


def _share_difference(*said: str) -> str:
    found = share_difference(*map(int, said))
    return f"{found.low:.4f} to {found.high:.4f}"


def _wilson(count: str, total: str) -> str:
    low, high = wilson(int(count), int(total), Z)
    return f"{low:.3f} to {high:.3f}"


def _not_back(*said: str) -> str:
    """``5+`` is somebody not back after 5 days; ``after 6`` asks for the curve there."""
    days = said[: said.index("after")]
    length = np.array([int(one.rstrip("+")) for one in days])
    came = np.array([not one.endswith("+") for one in days])
    return f"{repeat_curve(length, came).at(float(said[-1])):g}"


def _paced(people: str, batch: str, minutes: str) -> str:
    start = int(datetime(2026, 5, 12, 9, tzinfo=UTC).timestamp())
    all_day = SendWindow(kind="window", begins="00:00", ends="23:59")
    found = paced(int(people), start, Pace(int(batch), int(minutes) * 60, all_day), zone_of("UTC"))
    return f"{found.batches} batches, {(found.finished_by - start) // 60} minutes"


def _top(percent: str, _: str, *money: str) -> str:
    rows = [(person, 0, 1, int(one), None, None, 0) for person, one in enumerate(money)]
    made = concentration(snapshot_of(len(money), rows), 1)
    return f"{made.top_share(int(percent) / 100):g}"


WORKED: dict[str, Callable[..., str]] = {
    "share_difference": _share_difference,
    "wilson": _wilson,
    "sample_size": lambda base, worth: f"{people_needed(float(base), float(worth))} people in both groups",
    "not_back": _not_back,
    "win_back": lambda gap: f"{2 * int(gap)} to {round(2.5 * int(gap))} days",
    "parts": lambda count, sign: f"{parts(sign * int(count)).parts} of {parts(sign * int(count)).encoding}",
    "contrast": lambda one, other: f"{contrast(one, other):.2f} to 1",
    "paced": _paced,
    "top": _top,
    "limit": lambda usual: f"{VolumeGuard().most(float(usual))} a day",
    "last_day": lambda many, first, rest: str(int(first) + (int(many) - 1) * int(rest)),
}


class Figures(unittest.TestCase):
    def test_every_example_comes_out_as_the_page_says(self) -> None:
        rows = ROW.findall((ROOT / "docs/figures.md").read_text())
        self.assertGreaterEqual(len(rows), 12)
        for example, gives in rows:
            name, *said = example.split()
            with self.subTest(example=example):
                self.assertEqual(WORKED[name](*said), gives)
