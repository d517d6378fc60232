"""How a campaign goes out beyond its message and its segment: to whom not, when, how fast, and who is held
back.
"""

from collections.abc import Iterator
from datetime import datetime
from typing import Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

from loyalbell.core.clock.pacing import Pace
from loyalbell.core.clock.recurrence import Repeat, rounds
from loyalbell.core.clock.send_windows import ClockTime, SendWindow, Weekdays
from loyalbell.core.history.columns import Mask
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.policy.assignment import arm_of

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
        hours = SendWindow(kind="window", weekdays=self.weekdays, begins=self.begins, ends=self.ends)
        return Pace(self.batch, self.minutes * 60, hours)


class Variant(BaseModel):
    """Another message for some: ``share`` of them in per cent, drawn by lot, or those in ``segment``."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    message: int
    share: int = Field(default=0, ge=0, le=99)
    segment: int | None = None


class CampaignGoal(BaseModel):
    """At least ``share`` per cent of those it reaches clicked or ordered, within ``days`` of getting it."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    what: Literal["clicked", "ordered"] = "clicked"
    share: int = Field(default=15, ge=1, le=100)
    days: int = Field(default=7, ge=1, le=90)


class CampaignPlan(BaseModel):
    """``exclude`` are segments that are left out.

    ``held_back`` a share in per cent that gets nothing, to compare with.

    ``at`` is when it first goes out, ``None`` as soon as it is confirmed; ``more`` and ``repeat`` say when
    again, and ``again`` whether who had it in an earlier round gets it once more. ``engaged_only`` leaves out
    who has not reacted in ``engaged_days``. ``variants`` are messages beside the campaign's own, which goes
    to all the others.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    version: Literal[1] = 1
    exclude: tuple[int, ...] = ()
    engaged_only: bool = True
    engaged_days: Literal[90, 120, 180] = 120
    held_back: int = Field(default=0, ge=0, le=50)
    at: datetime | None = None
    more: tuple[datetime, ...] = Field(default=(), max_length=100)
    repeat: Repeat | None = None
    again: bool = True
    pacing: Pacing | None = None
    parted_by: Literal["share", "segment"] = "share"
    variants: tuple[Variant, ...] = Field(default=(), max_length=5)
    goal: CampaignGoal | None = None

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        if self.more and self.repeat:
            raise ValueError("choose more dates or a repetition, not both")
        if self.parted_by == "share" and sum(variant.share for variant in self.variants) > 99:
            raise ValueError(
                "the shares of the other messages come to 100 % or more, so the first goes to nobody"
            )
        if self.parted_by == "share" and not all(variant.share for variant in self.variants):
            raise ValueError("give each message a share of at least 1 %")
        if self.parted_by == "segment" and any(variant.segment is None for variant in self.variants):
            raise ValueError("choose the segment that gets each of the other messages")
        return self

    @property
    def recurs(self) -> bool:
        return bool(self.more or self.repeat)

    def rounds(self, now: datetime, zone: str) -> Iterator[datetime]:
        """When it goes out, ascending; ``now`` is the first time where none is set."""
        return rounds(self.at or now, self.more, self.repeat, zone)

    def rounds_after(self, after: datetime, zone: str) -> Iterator[datetime]:
        """Those later than ``after``, which stands for the first time where none is set."""
        return (one for one in self.rounds(after, zone) if one > after)

    def next_round(self, after: datetime, now: datetime, zone: str) -> datetime | None:
        """The first round later than ``after``."""
        return next((one for one in self.rounds(now, zone) if one > after), None)

    def variant_of(self, key: str, person: int) -> int | None:
        """The place among the variants that is drawn for somebody.

        ``None`` for the campaign's own message.
        """
        shares = [variant.share for variant in self.variants]
        drawn = arm_of(key, person, "variant", [*shares, 100 - sum(shares)])
        return drawn if drawn < len(shares) else None


def engaged(snapshot: HistorySnapshot, now: int, days: int) -> Mask:
    """Who opened, clicked, answered or ordered in the past days, or has had too few messages to tell.

    Common practice, no source: sending to people who never react harms the sender's name and costs money.
    """
    since, size = now - days * DAY, len(snapshot.people)
    found = np.zeros(size, dtype=np.bool_)
    acts = [snapshot.words.get(word, -1) for word in ("opened", "clicked", "replied")]
    rows = snapshot.engagements.span(since, now)
    found[snapshot.engagements.person[rows][np.isin(snapshot.engagements.kind[rows], acts)]] = True
    orders = snapshot.orders.span(since, now)
    found[snapshot.orders.person[orders][snapshot.orders.counted(orders, now)]] = True
    got = snapshot.per_person(snapshot.deliveries.person[snapshot.deliveries.span(since, now)])
    few: Mask = got < FEW_RECEIVED
    return found | few
