"""When one message to one person may leave: windows, quiet hours, closed days, contact limits, patience.

Pure, and the same at every attempt: first, retried, released, resumed, un-silenced, sent again by a person.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

from loyalbell.core.clock.send_windows import NO_QUIET, QuietHours, SendWindow, opens
from loyalbell.core.clock.zones import DAY, Zone
from loyalbell.core.policy.send_policy import FrequencyCap, next_allowed

LATE = 900
"""Seconds by which a tick may lag behind before a message counts as late: a quarter of an hour."""
EXACT_HOLDS = 3_600
"""Seconds for which an exact time holds: no tick comes at its very second, the demo's by the hour."""


class Decision(NamedTuple):
    """``until`` is the instant to which it is postponed; ``cause`` why it is postponed or withheld;
    ``planned`` the first instant at which it could have left.
    """

    kind: Literal["send", "postpone", "withhold"]
    until: int = 0
    cause: str = ""
    planned: int = 0


TOO_LATE, CONTACT_LIMIT = "too late", "contact limit"


@dataclass(frozen=True)
class Attempt:
    """One message that has fallen due. Instants are whole seconds since 1970.

    ``due`` is when it was to leave, ``first_due`` when it was at first, before a limit or the network put it
    off; ``patience`` for how many days a limit or a time when the program was off may put it off; ``sent``
    the instants of earlier marketing messages to the person, ascending.
    """

    due: int
    window: SendWindow
    patience: int
    marketing: bool
    zone: Zone
    sent: Sequence[int] = ()
    first_due: int | None = None
    not_after: int | None = None


def when(attempt: Attempt, quiet: QuietHours, caps: Sequence[FrequencyCap], now: int) -> Decision:
    """What is to be done with it now. A service message is put off by its own window alone.

    A window or the quiet hours put it off for as long as they take; a limit, or a time when the program was
    off, within its patience (rules of the job, section 6).
    """
    quiet = quiet if attempt.marketing else NO_QUIET
    planned = opens(attempt.due, attempt.window, quiet, attempt.zone)
    open_at = opens_or_holds(now, attempt.window, quiet, attempt.zone)
    if planned is None or open_at is None:
        return Decision("withhold", cause="never opens")
    is_late = now - planned > LATE
    first = planned if attempt.first_due is None else min(planned, attempt.first_due)
    last = first + attempt.patience * DAY
    if (is_late and open_at > last) or its_day_is_over(first, open_at, attempt.not_after):
        return Decision("withhold", cause=TOO_LATE, planned=planned)
    if open_at > now:
        return Decision("postpone", open_at, "window", planned)
    allowed = next_allowed(attempt.sent, caps, now) if attempt.marketing else now
    if allowed == now:
        return Decision("send", planned=planned)
    again = opens(allowed, attempt.window, quiet, attempt.zone)
    if again is None or again > last or its_day_is_over(first, again, attempt.not_after):
        return Decision("withhold", cause=CONTACT_LIMIT, planned=planned)
    return Decision("postpone", again, CONTACT_LIMIT, planned)


def its_day_is_over(first: int, at: int, not_after: int | None) -> bool:
    """Whether a message for a day (a birthday) that was to leave by its end would only leave after it.

    ``first``: when it could have left at first, before a limit or the network put it off.
    """
    return not_after is not None and first < not_after <= at


def opens_or_holds(now: int, window: SendWindow, quiet: QuietHours, zone: Zone) -> int | None:
    """``opens``, where an exact time that has just passed still holds."""
    if window.kind == "exact" and opens(now, SendWindow(), quiet, zone) == now:
        began = opens(now - EXACT_HOLDS + 1, window, quiet, zone)
        if began is not None and began <= now:
            return now
    return opens(now, window, quiet, zone)
