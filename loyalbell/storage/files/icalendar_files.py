"""Appointments as iCalendar (RFC 5545): in as rows of a table, out as events."""

from collections.abc import Iterable, Iterator
from datetime import UTC, date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from dateutil.rrule import rrulestr
from icalendar import Calendar, Event, vCalAddress

from loyalbell.storage.files.table_reader import FileProblem

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
AHEAD = timedelta(days=731)


def read_calendar(text: str, zone: str) -> Iterator[list[str]]:
    """A heading row, then a row an event; a repeating event gives a row for each time, two years on at most.

    Floating times are in ``zone``. Raises ``FileProblem`` where the text is no calendar.
    """
    try:
        calendars = Calendar.from_ical(text, multiple=True)
        rows = [
            row for calendar in calendars for event in calendar.walk("VEVENT") for row in _rows(event, zone)
        ]
    except (ValueError, KeyError, IndexError, AttributeError, TypeError) as error:
        raise FileProblem("The calendar file cannot be read. Export it again.") from error
    yield list(HEADINGS)
    yield from rows


def _rows(event: Any, zone: str) -> Iterator[list[str]]:
    if event.get("DTSTART") is None:
        return
    start = event.decoded("DTSTART")
    length = _length(event, start)
    times = _times(event, start, zone)
    for number, begins in enumerate(times):
        uid = str(event.get("UID", ""))
        recurrence = event.get("RECURRENCE-ID")
        if len(times) > 1:
            uid += f"/{begins:%Y%m%dT%H%M}" if number else ""
        elif recurrence is not None:
            uid += f"/{recurrence.dt:%Y%m%dT%H%M}"
        ends = begins + length if length else None
        yield [
            uid,
            str(event.get("X-CUSTOMER-ID", "")),
            _person(event, "ATTENDEE"),
            str(event.get("X-CUSTOMER-PHONE", "")),
            _say(begins, zone),
            _say(ends, zone) if ends else "",
            _said(event, "CREATED", zone),
            _state(event),
            str(event.get("SUMMARY", "")),
            str(event.get("LOCATION", "")),
            str(event.get("X-STAFF", "")),
        ]


def _length(event: Any, start: date | datetime) -> timedelta | None:
    if event.get("DTEND") is not None:
        end: Any = event.decoded("DTEND")
        return end - start if type(end) is type(start) else None
    if event.get("DURATION") is not None:
        found: timedelta = event.decoded("DURATION")
        return found
    return None


def _times(event: Any, start: date | datetime, zone: str) -> list[date | datetime]:
    rule = event.get("RRULE")
    if rule is None:
        return [start]
    begins = _aware(start, zone)
    local = begins.replace(tzinfo=None)
    words = rule.to_ical().decode()
    if "UNTIL=" in words and words.split("UNTIL=")[1].split(";")[0].endswith("Z"):
        until = rule["UNTIL"][0].astimezone(begins.tzinfo).replace(tzinfo=None)
        words = ";".join(
            f"UNTIL={until:%Y%m%dT%H%M%S}" if part.startswith("UNTIL=") else part for part in words.split(";")
        )
    out = {_aware(one, zone) for one in _excluded(event)}
    found: list[date | datetime] = []
    for moment in rrulestr(words, dtstart=local):
        if len(found) >= MOST_REPEATS or moment > local + AHEAD:
            break
        aware = moment.replace(tzinfo=begins.tzinfo)
        if aware not in out:
            found.append(aware if isinstance(start, datetime) else moment.date())
    return found


def _excluded(event: Any) -> Iterator[date | datetime]:
    given = event.get("EXDATE")
    for line in given if isinstance(given, list) else [given] if given is not None else []:
        yield from (one.dt for one in line.dts)


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


def _person(event: Any, name: str) -> str:
    given = event.get(name)
    first = given[0] if isinstance(given, list) and given else given
    return "" if first is None else str(first).removeprefix("mailto:").removeprefix("MAILTO:")


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
