"""Sequences for people who have stopped coming (shapes: rules of the job, section 6; common practice, no
source).
"""

from loyalbell.services.sequences.ready_made.making import (
    ANY_DAY,
    CAME,
    DAYTIME,
    ORDER,
    TEXT_FIRST,
    VISIT,
    Data,
    Making,
    SequenceTemplate,
    on_event,
    rule,
    who_joins,
)

WEEKS_72 = {"kind": "last days", "days": 504}
DAYS_60 = {"kind": "last days", "days": 60}
TIERS = ((2, 10), (4, 15), (8, 20))
"""Weeks since the last visit, per cent off."""


def _messages(m: Making, first: list[str] = TEXT_FIRST) -> list[Data]:
    """A nudge; an offer 3 days later; the owner 5 days later; the goodbye 5 days after that, after which who
    did not click is taken off.
    """
    return [
        m.message("win-back", first, DAYTIME),
        m.wait(3),
        m.message("win-back-offer"),
        m.wait(5),
        m.message("win-back-last"),
        m.wait(5),
        m.message("goodbye"),
        m.wait(7),
        _off_unless_clicked(m, "email"),
    ]


def _off_unless_clicked(m: Making, channel: str) -> Data:
    return m.step(
        "fork",
        arms=[{"did": "clicked", "steps": []}],
        otherwise=[m.step("stop contact", channels=[channel])],
    )


def _win_back(m: Making) -> Data:
    arms = [
        {"name": f"after {days} days", "share": 50, "steps": [m.wait(days), *_messages(m)]}
        for days in (2 * m.gap(), round(2.5 * m.gap()))
    ]
    return {
        "start": on_event(ORDER),
        "again": {"kind": "each"},
        "stops": CAME,
        "held_back": 10,
        "steps": [m.step("lot", arms=arms)],
        "goal": {"happening": ORDER, "days": 30, "share": 15},
    }


def past_the_line(m: Making, days: int) -> Data:
    """For those whose last order is so many days ago: who is past that already can be brought in, paced."""
    away = rule({"about": "orders", "measure": "last", "comparison": "at least", "value": days})
    return {
        "start": who_joins(away),
        "again": {"kind": "after", "days": max(90, days)},
        "stops": CAME,
        "held_back": 10,
        "steps": _messages(m, TEXT_FIRST if m.can_text() else ["email"]),
        "goal": {"happening": ORDER, "days": 30, "share": 15},
    }


def _late_regulars(m: Making) -> Data:
    """On any day: a window of few weekdays would gather those of the others into a load that the guard must
    hold.
    """
    late = rule({"about": "band", "bands": ["late"]}, {"about": "orders", "value": 3})
    return {
        "start": who_joins(late),
        "again": {"kind": "after", "days": 90},
        "stops": CAME,
        "steps": [m.message("win-back", TEXT_FIRST), m.wait(7), m.message("win-back-offer")],
    }


def _tiers(m: Making) -> Data:
    """2, 4 and 8 weeks since the last visit, each with a better offer than the one before."""
    steps: list[Data] = []
    passed = 0
    for weeks, percent in TIERS:
        offer = m.offer(percent, percent, 14)
        steps += [
            m.wait(weeks - passed, "weeks"),
            m.message(f"weeks-{weeks}", ["email", "text"], ANY_DAY, offer),
        ]
        passed = weeks
    return {"start": on_event(VISIT), "again": {"kind": "each"}, "stops": CAME, "steps": steps}


def _re_engage(m: Making) -> Data:
    """Inactive, chat or text first, wait, then email; it ends when they are active."""
    seen = m.usual_event()
    active = {"what": "event", "event": seen}
    often = rule({"about": "events", "kind": seen, "comparison": "at least", "value": 3})
    return {
        "start": {"on": "lack", "happening": active, "elapsed": {"amount": 72, "unit": "hours"}},
        "only": often,
        "again": {"kind": "after", "days": 30},
        "stops": [active, *CAME],
        "steps": [
            m.message("re-engage", ["chat", "text"]),
            m.wait(24, "hours"),
            m.message("re-engage-email"),
        ],
    }


def _never_reacts(m: Making) -> Data:
    """Agreed, got at least one email in 72 weeks, and in that time neither opened, clicked, bought nor was on
    the site.
    """
    silent = rule(
        {"about": "consent", "channel": "email", "state": "agreed"},
        {"about": "messages", "act": "received", "channel": "email", "period": WEEKS_72},
        {
            "about": "messages",
            "act": "opened",
            "channel": "email",
            "comparison": "exactly",
            "value": 0,
            "period": WEEKS_72,
        },
        {
            "about": "messages",
            "act": "clicked",
            "channel": "email",
            "comparison": "exactly",
            "value": 0,
            "period": WEEKS_72,
        },
        {"about": "orders", "comparison": "exactly", "value": 0, "period": WEEKS_72},
        {
            "about": "events",
            "kind": m.usual_event(),
            "comparison": "exactly",
            "value": 0,
            "period": WEEKS_72,
        },
    )
    return {
        "start": who_joins(silent),
        "stops": CAME,
        "steps": [m.message("never-reacts"), m.wait(14), _off_unless_clicked(m, "email")],
    }


def _never_reacts_to_texts(m: Making) -> Data:
    """Agreed, on file for 60 days, more than 5 texts in 60 days and none clicked."""
    silent = rule(
        {"about": "consent", "channel": "text", "state": "agreed"},
        {"about": "person", "fact": "since", "comparison": "at least", "value": "60"},
        {
            "about": "messages",
            "act": "received",
            "channel": "text",
            "comparison": "at least",
            "value": 6,
            "period": DAYS_60,
        },
        {
            "about": "messages",
            "act": "clicked",
            "channel": "text",
            "comparison": "exactly",
            "value": 0,
            "period": DAYS_60,
        },
    )
    return {
        "start": who_joins(silent),
        "stops": CAME,
        "steps": [m.message("never-reacts", ["text"]), m.wait(14), _off_unless_clicked(m, "text")],
    }


WIN_BACK = (
    SequenceTemplate(
        "win-back",
        "Win them back",
        "four messages to people who have not ordered again, with two waits tested against each other",
        _win_back,
    ),
    SequenceTemplate(
        "late-regulars",
        "Late regulars",
        "as soon as a regular is late against their own rhythm",
        _late_regulars,
    ),
    SequenceTemplate(
        "tiers",
        "2, 4 and 8 weeks",
        "after each visit, each offer better than the one before",
        _tiers,
    ),
    SequenceTemplate(
        "re-engage",
        "Gone quiet on your site",
        "three days without a sign of people who had come often: chat or text first, then an email",
        _re_engage,
    ),
    SequenceTemplate(
        "never-reacts",
        "Goodbye, unless you stay",
        "for people who agreed to emails and never open one",
        _never_reacts,
    ),
    SequenceTemplate(
        "never-reacts-text",
        "Goodbye to texts, unless you stay",
        "for people who got more than five texts in 60 days and clicked none",
        _never_reacts_to_texts,
    ),
)
