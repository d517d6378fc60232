"""What the Rhythm page shows: figures of a part of the shop, kept for as long as the book stays the same."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np

from loyalbell.core.history.columns import Ints
from loyalbell.core.rhythm.customer_value import TooLittle
from loyalbell.core.rhythm.return_curve import buying_days
from loyalbell.services.application import Application
from loyalbell.services.background_work import Report
from loyalbell.services.rhythm import bands as rhythm_bands
from loyalbell.services.rhythm import figures
from loyalbell.services.rhythm.figures import Looking

AHEAD_DAYS = 90.0
HELD_OUT = 0.35
TOP_PERCENT = 20.0
"""Of buyers, at the first look."""
RHYTHM = "rhythm"


@dataclass(frozen=True)
class Names:
    """The part of the shop that is looked at, by name; empty for all."""

    department: str = ""
    category: str = ""
    item: str = ""

    @property
    def key(self) -> str:
        return f"{self.department}|{self.category}|{self.item}"


def looking(application: Application, names: Names) -> Looking:
    """Raises ``NotAPart``."""
    return figures.look(
        application, None, department=names.department, category=names.category, item=names.item
    )


def kept(application: Application, what: str, names: Names, make: Callable[[Looking], Any]) -> Any:
    """The figures, worked out once for each state of the book, local day and part."""
    found = looking(application, names)
    key = (found.today, what, names.key)
    return application.cache.of_version(RHYTHM, found.snapshot.version, key, lambda: make(found))


def repeat(application: Application, names: Names) -> Mapping[str, Any]:
    found: Mapping[str, Any] = kept(application, "repeat", names, figures.repeat)
    return found


def last_bought(application: Application, names: Names) -> Ints:
    """The local day on which each bought last; -1 for whoever never did."""

    def make(found: Looking) -> Ints:
        bought = buying_days(found.snapshot, found.as_of, found.part)
        last = np.full(len(found.snapshot.people), -1, dtype=np.int64)
        last[bought.person] = bought.day
        return last

    last: Ints = kept(application, "last", names, make)
    return last


def second_purchases(application: Application, by_item: bool = False) -> list[dict[str, Any]]:
    made = kept(
        application, f"second-{by_item}", Names(), lambda found: figures.second_purchases(found, by_item)
    )
    return list(made)


def in_common(application: Application, names: Names, percent: float) -> list[dict[str, Any]]:
    return list(
        kept(application, f"common-{percent}", names, lambda found: figures.in_common(found, percent))
    )


def bands(application: Application, names: Names) -> Mapping[str, Any]:
    """Now; who went where by month costs a year of looks, and is asked for by itself."""
    found: Mapping[str, Any] = kept(application, "bands", names, lambda made: rhythm_bands.bands(made, 0))
    return found


def movement(application: Application, names: Names) -> list[dict[str, Any]]:
    def make(found: Looking) -> list[dict[str, Any]]:
        return rhythm_bands.movement(found, figures.gap_of(found), figures.MONTHS_BACK)

    return list(kept(application, "movement", names, make))


def grid(application: Application, names: Names) -> Mapping[str, Any]:
    found: Mapping[str, Any] = kept(application, "grid", names, figures.recency_frequency_money)
    return found


def concentration(application: Application, names: Names) -> Mapping[str, Any]:
    found: Mapping[str, Any] = kept(application, "concentration", names, figures.concentrated)
    return found


def cohorts(application: Application, names: Names) -> Mapping[str, Any]:
    found: Mapping[str, Any] = kept(application, "cohorts", names, figures.by_cohort)
    return found


def whole_shop() -> list[Callable[[Application], object]]:
    """All that the page shows at its first look, each to be worked out by itself."""
    names = Names()
    parts = (repeat, last_bought, bands, grid, concentration, cohorts)
    return [
        *(partial(_of, part, names) for part in parts),
        partial(second_purchases, by_item=False),
        partial(second_purchases, by_item=True),
        partial(_of, partial(in_common, percent=TOP_PERCENT), names),
    ]


def _of(part: Callable[..., object], names: Names, application: Application) -> object:
    return part(application, names)


def value_job(application: Application, names: Names) -> str:
    found = looking(application, names)
    return f"value-{found.snapshot.version}-{found.today}-{names.key}"


def value(application: Application, names: Names) -> Mapping[str, Any] | None:
    """What is expected ahead.

    ``None`` while it is being fitted in the background. ``problem`` where it cannot be.
    """
    found = looking(application, names)
    key = (found.today, "value", names.key)
    ready: Mapping[str, Any] | None = application.cache.peek_version(RHYTHM, found.snapshot.version, key)
    if ready is not None:
        return ready
    application.jobs.start(value_job(application, names), lambda report: _fit(application, names, report))
    return None


def _fit(application: Application, names: Names, report: Report) -> None:
    def make(found: Looking) -> dict[str, Any]:
        try:
            made = figures.value(found, "days", AHEAD_DAYS, people=False, report=report)
            report(0.7, "holding the last part of the history out")
            return made | {"calibration": figures.calibration(found, "days", HELD_OUT)}
        except TooLittle as problem:
            return {"problem": str(problem)}

    kept(application, "value", names, make)


def beyond(curve: Mapping[str, Any], day: int) -> float:
    """Of those not back after ``day`` days, the share who still come back without help."""
    share = 1.0
    for at, out in curve["curve"]:
        if at > day:
            break
        share = out
    return 1 - (1 - float(curve["ever"])) / share if share > 0 else 0.0
