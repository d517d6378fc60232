"""Sequences for days that come every year."""

from loyalbell.services.sequences.ready_made.making import (
    TEXT_FIRST,
    Data,
    Making,
    SequenceTemplate,
    rule,
    who_is_in,
)


def _birthday(m: Making) -> Data:
    """14 days before, a gift; on the day at 12:00 a text if agreed, else an email."""
    noon = {"kind": "exact", "begins": "12:00"}
    steps = [
        m.message("birthday"),
        m.step("wait", kind="until near", span={"amount": 0, "unit": "days"}),
        m.message("birthday-day", TEXT_FIRST, noon),
    ]
    return {
        "start": {"on": "date", "which": "birthday", "days": -14, "at": "09:00"},
        "again": {"kind": "each"},
        "steps": steps,
    }


def _companion(m: Making) -> Data:
    return {
        "start": {"on": "date", "which": "companion", "days": -7, "at": "09:00"},
        "again": {"kind": "each"},
        "steps": [m.message("companion-birthday")],
    }


def _anniversary(m: Making) -> Data:
    a_year_on = rule({"about": "orders", "measure": "first", "comparison": "exactly", "value": 365})
    return {"start": who_is_in(a_year_on, "10:00"), "steps": [m.message("anniversary")]}


YEARLY_DATES = (
    SequenceTemplate(
        "birthday", "Birthday", "a gift two weeks before, and a greeting at noon on the day", _birthday
    ),
    SequenceTemplate(
        "companion",
        "A companion’s birthday",
        "a week before the birthday of a pet, a child or a partner",
        _companion,
    ),
    SequenceTemplate("anniversary", "A year with us", "a year after their first order", _anniversary),
)
