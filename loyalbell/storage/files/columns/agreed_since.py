"""Since when the people of a file have agreed: a file of today brings consents that are years old."""

from dataclasses import dataclass
from datetime import UTC, datetime, time
from typing import Any

from loyalbell.core.clock.local_time import at_local

SINCE = ("now", "joined", "column", "day")
LONGEST_WORDING = 500


@dataclass(frozen=True)
class AgreedSince:
    """``since``: from the import on, since each became a customer, by a column, or since one ``day`` (ISO) in
    ``zone``. ``wording`` is what they agreed to or how, as the shop remembers it.
    """

    since: str = "now"
    day: str = ""
    zone: str = "UTC"
    wording: str = ""

    def at(self, values: dict[str, Any], now: datetime) -> datetime:
        """The instant for one person, never after ``now``; where the file does not say, ``now``."""
        seconds = values.get({"column": "agreed_at", "joined": "joined"}.get(self.since, ""))
        if self.since == "day" and self.day:
            return min(at_local(datetime.fromisoformat(self.day).date(), time(), self.zone), now)
        if seconds is None:
            return now
        return min(datetime.fromtimestamp(seconds, UTC), now)

    def as_json(self) -> dict[str, str]:
        return {"since": self.since, "day": self.day, "wording": self.wording}


FROM_NOW_ON = AgreedSince()
