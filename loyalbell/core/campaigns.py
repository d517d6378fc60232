"""How a campaign goes out beyond its message and its segment: to whom not, when, how fast, and who is held back."""

from datetime import datetime
from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from loyalbell.core.columns import Mask
from loyalbell.core.ledger import Ledger
from loyalbell.core.pacing import Pace
from loyalbell.core.windows import ClockTime, Release, Weekdays

DAY = 86_400
FEW_RECEIVED = 3
"""Who has had fewer messages than this in the time has had no chance to react, and counts as engaged."""


class Pacing(BaseModel):
    """``batch`` people every ``minutes``, on the weekdays and within the hours."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    batch: int = Field(default=50, ge=1, le=100_000)
    minutes: int = Field(default=15, ge=1, le=10_080)
    weekdays: Weekdays = (0, 1, 2, 3, 4)
    begins: ClockTime = "09:00"
    ends: ClockTime = "17:00"

    def pace(self) -> Pace:
        hours = Release(kind="window", weekdays=self.weekdays, begins=self.begins, ends=self.ends)
        return Pace(self.batch, self.minutes * 60, hours)


class CampaignPlan(BaseModel):
    """``exclude`` are segments that are left out; ``held_back`` a share in per cent that gets nothing, to compare with.

    ``at`` is when it goes out, ``None`` as soon as it is confirmed. ``engaged_only`` leaves out who has not reacted in
    ``engaged_days``.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    version: Literal[1] = 1
    exclude: tuple[int, ...] = ()
    engaged_only: bool = True
    engaged_days: Literal[90, 120, 180] = 120
    held_back: int = Field(default=0, ge=0, le=50)
    at: datetime | None = None
    pacing: Pacing | None = None


def engaged(ledger: Ledger, now: int, days: int) -> Mask:
    """Who opened, clicked, answered or ordered in the past days, or has had too few messages to tell.

    Common practice, no source: sending to people who never react harms the sender's name and costs money.
    """
    since, size = now - days * DAY, len(ledger.people)
    found = np.zeros(size, dtype=np.bool_)
    acts = [ledger.words.get(word, -1) for word in ("opened", "clicked", "replied")]
    rows = ledger.responses.span(since, now)
    found[ledger.responses.person[rows][np.isin(ledger.responses.kind[rows], acts)]] = True
    orders = ledger.orders.span(since, now)
    found[ledger.orders.person[orders][ledger.orders.counted(orders, now)]] = True
    got = ledger.per_person(ledger.touches.person[ledger.touches.span(since, now)])
    few: Mask = got < FEW_RECEIVED
    return found | few
