"""The people behind a figure of a rehearsal: those who got messages, whose messages did not go, who stayed
out.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any
from urllib.parse import urlencode

from loyalbell.core.clock.zones import Zone, day_of
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.rehearsal import Rehearsal, Sent, StayedOut
from loyalbell.services.customers import queries as customer_queries
from loyalbell.storage.schema import Person
from loyalbell.web.formatting import Formatter, people
from loyalbell.web.request import RequestContext
from loyalbell.web.sequences import editor_rail as rail
from loyalbell.web.sequences.rehearsal_charts import say_quarter

PAGE = 40


@dataclass(frozen=True)
class Asked:
    """Whose figure is looked at: of a day and a quarter of an hour of it, of a cause for not sending, or of
    one for staying out.
    """

    over: str
    day: str = ""
    quarter: str = ""
    cause: str = ""
    out: str = ""
    page: int = 1

    def query(self, **other: str) -> str:
        given = {
            "over": self.over,
            "day": self.day,
            "quarter": self.quarter,
            "cause": self.cause,
            "out": self.out,
        } | other
        return "?" + urlencode({key: value for key, value in given.items() if value})


@dataclass(frozen=True)
class PersonLine:
    """One person behind a figure: when, at which step, and by which channel (empty for no message)."""

    person: Person
    at: datetime
    by: str
    step: str


@dataclass(frozen=True)
class PeoplePage:
    """One of ``pages`` pages of people behind a figure. ``by``: whether the lines name a channel.

    ``whole_day`` leads from a quarter of an hour to its day.
    """

    heading: str
    lines: list[PersonLine]
    page: int
    pages: int
    address: str
    whole_day: str
    by: bool


def behind(
    context: RequestContext, plan: p.Plan, found: Rehearsal, asked: Asked, chosen: date | None, zone: Zone
) -> PeoplePage | None:
    """A heading, and one page of people; ``None`` where there is nothing to look behind."""
    steps = rail.steps_by_id(context, plan)
    say = Formatter(context.application.the_shop(), context.application.clock.now())
    heading, rows = _chosen(found, asked, chosen, zone, say)
    if not rows:
        return None
    pages = -(-len(rows) // PAGE)
    page = min(max(asked.page, 1), pages)
    return PeoplePage(
        heading=heading,
        lines=_lines(context, rows[(page - 1) * PAGE : page * PAGE], steps),
        page=page,
        pages=pages,
        address=asked.query(),
        whole_day=asked.query(quarter="") if asked.quarter else "",
        by=isinstance(rows[0], Sent),
    )


def _chosen(
    found: Rehearsal, asked: Asked, chosen: date | None, zone: Zone, say: Formatter
) -> tuple[str, Sequence[Any]]:
    if asked.cause:
        refused = [one for one in found.refused if one.play == 0 and one.cause == asked.cause]
        return f"{_messages(refused)} would not be sent: {rail.say_withheld(asked.cause)}", refused
    if asked.out:
        stayed = [one for one in found.stayed_out if one.play == 0 and one.cause == asked.out]
        return (
            (
                f"{people(len({one.person for one in stayed}))} qualified but were not enrolled:"
                f" {rail.say_entry_refusal(asked.out)}"
            ),
            stayed,
        )
    if chosen is None:
        return "", []
    sent = [one for one in found.sent if one.play == 0 and day_of(zone.day(one.at)) == chosen]
    some = [one for one in sent if not asked.quarter or say_quarter(one.at, zone) == asked.quarter]
    within = f", from {asked.quarter} for a quarter of an hour" if asked.quarter else ""
    return f"{_messages(some)}, {say.plain_day(chosen)}{within}", some


def _messages(rows: Sequence[Any]) -> str:
    return f"{len(rows):,} {'message' if len(rows) == 1 else 'messages'}"


def _lines(context: RequestContext, some: Sequence[Any], steps: dict[str, str]) -> list[PersonLine]:
    ids = context.application.snapshot().people.ids
    found = customer_queries.people_by_id(context.application, {int(ids[one.person]) for one in some})
    return [
        PersonLine(
            person=found[at],
            at=datetime.fromtimestamp(one.at, UTC),
            by=getattr(one, "channel", ""),
            step="the start" if isinstance(one, StayedOut) else steps.get(one.step, ""),
        )
        for one in some
        if (at := int(ids[one.person])) in found
    ]
