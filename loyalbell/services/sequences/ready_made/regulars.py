"""Sequences for good customers, for new ones, and for everyone once a month."""

from loyalbell.services.sequences.ready_made.making import (
    AT_ONCE,
    ORDER,
    YEAR,
    Data,
    Making,
    SequenceTemplate,
    rule,
    who_joins,
)

CODE_DAYS = 4
"""The code is given on the first day; on the third it ends in 48 hours."""


def _vip(m: Making) -> Data:
    """Thanks with 10 to 15 % off, products a day later, *ends in two days* a day after that; a purchase ends
    it. One code throughout.
    """
    often = rule(
        {
            "about": "orders",
            "comparison": "at least",
            "value": m.many_orders() + 1,
            "period": {"kind": "last days", "days": YEAR},
        }
    )
    offer = m.offer(10, 15, CODE_DAYS)
    steps = [
        m.message("vip", offer=offer),
        m.wait(1),
        m.message("new-for-vip", offer=offer),
        m.wait(1),
        m.message("expires", offer=offer),
    ]
    return {
        "start": who_joins(often),
        "again": {"kind": "after", "days": 180},
        "stops": [ORDER],
        "steps": steps,
    }


def _welcome(m: Making) -> Data:
    """At once; and to those who have not come back within 24 hours once more."""
    agreed = rule({"about": "consent", "channel": "email", "state": "agreed"})
    seen = m.usual_event()
    back = m.step(
        "wait",
        kind="until event",
        span={"amount": 24, "unit": "hours"},
        happening={"what": "event", "event": seen},
    )
    came = rule({"about": "events", "kind": seen, "period": {"kind": "since entering"}})
    fork = m.step("fork", arms=[{"rule": came, "steps": []}], otherwise=[m.message("welcome-back")])
    return {
        "start": who_joins(agreed),
        "stops": [ORDER],
        "steps": [m.message("welcome", release=AT_ONCE), back, fork],
    }


def _keep_in_touch(m: Making) -> Data:
    """Six different messages: one day before the first, 30 days between, the last on day 151."""
    steps = [m.wait(1), m.message("keep-in-touch")]
    for at in range(2, 7):
        steps += [m.wait(30), m.message(f"keep-in-touch-{at}")]
    return {"start": {"on": "hand"}, "again": {"kind": "after", "days": 180}, "steps": steps}


def _dated_series(m: Making) -> Data:
    """The second two days after the first at 7:55, the third three days later at 11:05, the fourth 14 days
    later at 9:15; a time within the quiet hours moves to their end.
    """
    steps = [m.message("dated-1", release=AT_ONCE)]
    for at, (days, clock) in enumerate(((2, "07:55"), (3, "11:05"), (14, "09:15")), 2):
        steps += [
            m.wait(days),
            m.message(f"dated-{at}", release={"kind": "exact", "begins": m.waking(clock)}),
        ]
    return {"start": {"on": "hand"}, "steps": steps}


REGULARS = (
    SequenceTemplate(
        "vip",
        "Our best customers",
        "for those who order most: thanks with a code, what is new, and a last reminder, in three days",
        _vip,
    ),
    SequenceTemplate(
        "welcome",
        "Welcome",
        "when they agree to emails, and once more if they do not come back within 24 hours",
        _welcome,
    ),
    SequenceTemplate("keep-in-touch", "Keep in touch", "six different messages, one a month", _keep_in_touch),
    SequenceTemplate(
        "dated",
        "A dated series",
        "four messages at set times to people you add from a segment or a list",
        _dated_series,
    ),
)
