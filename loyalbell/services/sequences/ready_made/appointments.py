"""Sequences about appointments and memberships."""

from loyalbell.services.sequences.ready_made.making import (
    AT_ONCE,
    TEXT_FIRST,
    VISIT,
    Data,
    Making,
    SequenceTemplate,
    on_event,
    rule,
    who_is_in,
)


def _recall(m: Making) -> Data:
    """Last seen exactly 365 days ago and nothing booked ahead: those of one day, not all past it."""
    a_year_on = rule(
        {"about": "visits", "measure": "last", "comparison": "exactly", "value": 365},
        {"about": "appointments", "state": "ahead", "comparison": "exactly", "value": 0},
    )
    return {
        "start": who_is_in(a_year_on),
        "again": {"kind": "after", "days": 300},
        "stops": [{"what": "booking"}, VISIT],
        "steps": [m.message("recall", TEXT_FIRST), m.wait(14), m.message("recall")],
    }


def _reminder(m: Making) -> Data:
    return {
        "start": {"on": "date", "which": "appointment", "days": -1, "at": "10:00"},
        "again": {"kind": "each"},
        "stops": [{"what": "appointment cancelled"}],
        "steps": [m.message("reminder", TEXT_FIRST, AT_ONCE)],
    }


def _missed(m: Making) -> Data:
    return {
        "start": on_event({"what": "appointment missed"}),
        "again": {"kind": "each"},
        "stops": [{"what": "booking"}],
        "steps": [m.wait(2, "hours"), m.message("missed", TEXT_FIRST)],
    }


def _renewal(m: Making) -> Data:
    """Yearly terms only, exactly 3 days before."""
    yearly = rule({"about": "membership", "state": "runs", "term": "yearly"})
    return {
        "start": {"on": "date", "which": "renewal", "days": -3, "at": "10:00"},
        "only": yearly,
        "again": {"kind": "each"},
        "steps": [m.message("renewal", release=AT_ONCE)],
    }


APPOINTMENTS = (
    SequenceTemplate(
        "recall", "A year on, nothing booked", "on the day a year after the last visit", _recall
    ),
    SequenceTemplate("reminder", "Appointment reminder", "the day before", _reminder),
    SequenceTemplate("missed", "Missed appointment", "two hours after", _missed),
    SequenceTemplate("renewal", "Membership renewal", "three days before, yearly terms only", _renewal),
)
