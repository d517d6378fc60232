"""Appointments as iCalendar (RFC 5545): in as rows of a table, out as events."""

from collections.abc import Iterable, Iterator
from datetime import UTC, date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import recurring_ical_events
from icalendar import Calendar, Event, vCalAddress

from loyalbell.storage.files.tables.problems import FileProblem

HEADINGS = (
    "Appointment ID",
    "Customer ID",
    "Email",
    "Phone",
    "Starts at",
    "Ends at",
    "Booked at",
    "State",
    "Service",
    "Location",
    "Staff",
)
STATES = {"CONFIRMED": "booked", "TENTATIVE": "booked", "CANCELLED": "cancelled"}
SAID = {"booked": "CONFIRMED", "kept": "CONFIRMED", "cancelled": "CANCELLED", "missed": "CONFIRMED"}
MOST_REPEATS = 400
FREQUENCIES = ("DAILY", "WEEKLY", "MONTHLY", "YEARLY")
DAY = timedelta(days=1)
AHEAD = timedelta(days=731)


def read_calendar(text: str, zone: str) -> Iterator[list[str]]:
    """A heading row, then a row an event; a repeating event gives a row for each time, two years on at most.
    What was taken out of a series (EXDATE) comes as cancelled, so that nobody is reminded of it.

    Floating times are in ``zone``. Raises ``FileProblem`` where the text is no calendar.
    """
    try:
        calendars = Calendar.from_ical(text, multiple=True)
        rows = [row for calendar in calendars for series in _series(calendar, zone) for row in series.rows()]
    except (ValueError, KeyError, IndexError, AttributeError, TypeError, OverflowError) as error:
        raise FileProblem("The calendar file cannot be read. Export it again.") from error
    yield list(HEADINGS)
    yield from rows


def _series(calendar: Any, zone: str) -> Iterator["_Series"]:
    """The events of a calendar that share an id: one, or a series with its exceptions (RFC 5545, 3.8.4.4)."""
    together: dict[str, list[Any]] = {}
    for number, event in enumerate(calendar.walk("VEVENT")):
        if event.get("DTSTART") is not None:
            together.setdefault(str(event.get("UID", f"\x00{number}")), []).append(event)
    for events in together.values():
        yield _Series(calendar, events, zone)


class _Series:
    def __init__(self, calendar: Any, events: list[Any], zone: str) -> None:
        self.calendar, self.events, self.zone = calendar, events, zone
        self.master = next((event for event in events if event.get("RECURRENCE-ID") is None), None)
        first = (self.master or events[0])["DTSTART"].dt
        self.first, self.is_day = _aware(first, zone), not isinstance(first, datetime)

    def rows(self) -> Iterator[list[str]]:
        if self.master is None or not self.master.keys() & {"RRULE", "RDATE"}:
            for event in self.events:
                yield self._row(event, event["DTSTART"].dt)
            return
        for moment in _excluded(self.master):
            yield self._row(self.master, moment, cancelled=True)
        for event in self._times():
            yield self._row(event, event["DTSTART"].dt)

    def _times(self) -> list[Any]:
        alone = Calendar()
        for zone in self.calendar.walk("VTIMEZONE"):
            alone.add_component(zone)
        for event in self.events:
            alone.add_component(self._bounded(event))
        earliest = min(_aware(event["DTSTART"].dt, self.zone) for event in self.events)
        # a floating time may be up to a day from where UTC has it
        found = recurring_ical_events.of(alone).between(earliest - DAY, self.first + AHEAD)
        return sorted(found, key=lambda event: _aware(event["DTSTART"].dt, self.zone))[:MOST_REPEATS]

    def _bounded(self, event: Any) -> Any:
        """Rules that go on for ever end after two years; those within a day are no appointments."""
        rules = event.get("RRULE")
        if rules is None:
            return event
        event = event.copy(recursive=True)
        for rule in rules if isinstance(rules, list) else [rules]:
            if str(rule.get("FREQ", [""])[0]).upper() not in FREQUENCIES:
                raise FileProblem(
                    f"The calendar holds an event that repeats {str(rule['FREQ'][0]).lower()} (“"
                    f"{event.get('SUMMARY', '')}”). Only those that repeat daily or more seldom are taken."
                )
            if "COUNT" not in rule and "UNTIL" not in rule:
                until = self.first + AHEAD
                aware = isinstance(event["DTSTART"].dt, datetime)
                rule["UNTIL"] = [until.astimezone(UTC) if aware else until.date()]
        return event

    def _row(self, event: Any, begins: date | datetime, cancelled: bool = False) -> list[str]:
        meant = event.get("RECURRENCE-ID")
        length = _length(event, event["DTSTART"].dt)
        ends = begins + length if length else None
        return [
            self._id(event, begins if cancelled or meant is None else meant.dt),
            str(event.get("X-CUSTOMER-ID", "")),
            _customer(event),
            str(event.get("X-CUSTOMER-PHONE", "")),
            _say(begins, self.zone),
            _say(ends, self.zone) if ends else "",
            _said(event, "CREATED", self.zone),
            "cancelled" if cancelled else _state(event),
            str(event.get("SUMMARY", "")),
            str(event.get("LOCATION", "")),
            str(event.get("X-STAFF", "")),
        ]

    def _id(self, event: Any, meant: date | datetime) -> str:
        """The series' own id for its first time, the id and the time in the series for the others: wherever
        one of them was moved to.
        """
        uid = str(event.get("UID", ""))
        at = _aware(meant, self.zone)
        of_day = self.is_day and not isinstance(meant, datetime)
        is_first = self.master is not None and (meant == self.first.date() if of_day else at == self.first)
        if is_first or (self.master is not None and len(self.events) == 1 and not self._repeats()):
            return uid
        return f"{uid}/{at.astimezone(self.first.tzinfo):%Y%m%dT%H%M}"

    def _repeats(self) -> bool:
        return self.master is not None and bool(self.master.keys() & {"RRULE", "RDATE"})


def _length(event: Any, start: date | datetime) -> timedelta | None:
    if event.get("DTEND") is not None:
        end: Any = event.decoded("DTEND")
        return (end - start or None) if type(end) is type(start) else None
    if event.get("DURATION") is not None:
        found: timedelta = event.decoded("DURATION")
        return found
    return None


def _excluded(event: Any) -> Iterator[date | datetime]:
    given = event.get("EXDATE")
    for line in given if isinstance(given, list) else [given] if given is not None else []:
        yield from (day.dt for day in line.dts)


def _aware(moment: date | datetime, zone: str) -> datetime:
    if not isinstance(moment, datetime):
        moment = datetime.combine(moment, time())
    return moment if moment.tzinfo else moment.replace(tzinfo=ZoneInfo(zone))


def _say(moment: date | datetime, zone: str) -> str:
    if not isinstance(moment, datetime):
        return moment.isoformat()
    return _aware(moment, zone).isoformat()


def _said(event: Any, name: str, zone: str) -> str:
    return _say(event.decoded(name), zone) if event.get(name) is not None else ""


def _customer(event: Any) -> str:
    """The address of the first person invited who is not the one that invites, nor a room."""
    given = event.get("ATTENDEE")
    invited = given if isinstance(given, list) else [given] if given is not None else []
    host = _address(event.get("ORGANIZER"))
    for person in invited:
        kind = str(person.params.get("CUTYPE", "INDIVIDUAL")).upper()
        address = _address(person)
        if kind in ("INDIVIDUAL", "GROUP", "UNKNOWN") and address and address.lower() != host.lower():
            return address
    return ""


def _address(person: Any) -> str:
    """A mail address, also where the id is none and the address stands beside it (RFC 7986, 6.2)."""
    if person is None:
        return ""
    text = str(person)
    if text.lower().startswith("mailto:"):
        return text[len("mailto:") :]
    return str(person.params.get("EMAIL", "")) or (text if "@" in text else "")


def _state(event: Any) -> str:
    own = str(event.get("X-STATE", ""))
    return own or STATES.get(str(event.get("STATUS", "")).upper(), "booked")


def write_calendar(rows: Iterable[dict[str, str]], now: datetime) -> str:
    """Appointments, by the headings of their export, as one calendar."""
    calendar = Calendar()
    calendar.add("prodid", "-//Loyal Bell//Appointments//EN")
    calendar.add("version", "2.0")
    for number, row in enumerate(rows, start=1):
        calendar.add_component(_event(row, number, now))
    return str(calendar.to_ical().decode())


def _event(row: dict[str, str], number: int, now: datetime) -> Event:
    event = Event()
    event.add("uid", row.get("Appointment ID") or f"appointment-{number}")
    event.add("dtstamp", now.astimezone(UTC))
    for name, heading in (("dtstart", "Starts at"), ("dtend", "Ends at"), ("created", "Booked at")):
        if row.get(heading):
            event.add(name, datetime.fromisoformat(row[heading]).astimezone(UTC))
    event.add("summary", row.get("Service") or "Appointment")
    event.add("status", SAID[row["State"]])
    event.add("x-state", row["State"])
    for name, heading in (
        ("location", "Location"),
        ("x-staff", "Staff"),
        ("x-customer-id", "Customer ID"),
        ("x-customer-phone", "Phone"),
    ):
        if row.get(heading):
            event.add(name, row[heading])
    if row.get("Email"):
        event.add("attendee", vCalAddress(f"mailto:{row['Email']}"))
    return event
