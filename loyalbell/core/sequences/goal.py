"""Where the goal of a sequence stands: how many did it within so many days, of those whose days are over."""

from collections.abc import Iterable
from dataclasses import dataclass

from loyalbell.core.clock.zones import DAY
from loyalbell.core.sequences.event_rows import ByPerson


@dataclass(frozen=True)
class GoalStand:
    """``reached`` of ``of`` people-ways whose days are over.

    ``early`` have done it of the ``open`` ones still counting.
    """

    reached: int = 0
    of: int = 0
    early: int = 0
    open: int = 0

    @property
    def share(self) -> float | None:
        return self.reached / self.of if self.of else None


def goal_stand(event_rows: ByPerson, starts: Iterable[tuple[int, int]], days: int, now: int) -> GoalStand:
    """``starts`` are (person number, instant from which the days count), once for each way through the
    sequence.
    """
    reached = of = early = still = 0
    for person, at in starts:
        end = at + days * DAY
        did = event_rows.first(person, at, min(end, now)) is not None
        if end <= now:
            of, reached = of + 1, reached + did
        else:
            still, early = still + 1, early + did
    return GoalStand(reached, of, early, still)
