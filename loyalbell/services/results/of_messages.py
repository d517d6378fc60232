"""How each message of the library did over a year, for the library."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from loyalbell.core.clock.zones import DAY
from loyalbell.services.application import Application

DAYS = 365


@dataclass(frozen=True)
class Did:
    """Of the last 365 days: messages ``sent``, and how many of them were ``clicked``."""

    sent: int
    clicked: int

    @property
    def share(self) -> float | None:
        return self.clicked / self.sent if self.sent else None


NOTHING = Did(0, 0)


def last_year(application: Application) -> Mapping[int, Did]:
    """By message; what was not sent is left out. Kept while the book and the hour stay the same."""
    snapshot, now = application.snapshot(), int(application.clock.now().timestamp())
    return application.cache.of_version(
        "messages of the last year", snapshot.version, now // 3_600, lambda: _last_year(application, now), 2
    )


def _last_year(application: Application, now: int) -> dict[int, Did]:
    snapshot = application.snapshot()
    sent = snapshot.deliveries.taken(snapshot.deliveries.span(now - DAYS * DAY, now))
    acts = snapshot.engagements
    clicks = np.unique(acts.delivery[acts.kind == snapshot.words.get("clicked", -1)])
    was_clicked = np.isin(sent.key, clicks)
    found = {}
    for message in np.unique(sent.message).tolist():
        mine = sent.message == message
        found[int(message)] = Did(int(mine.sum()), int((mine & was_clicked).sum()))
    return found
