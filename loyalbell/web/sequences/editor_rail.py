"""The rail of the sequence editor: what a plan would have done, what speaks against it, and some of its
people.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from loyalbell.core.channels import TYPES as CHANNEL_TYPES
from loyalbell.core.clock.zones import day_of
from loyalbell.core.history.money import say_money
from loyalbell.core.policy.send_policy import CAUSE_WORDS
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences import plan_words
from loyalbell.core.sequences.check import Mistake
from loyalbell.core.sequences.entry import OUT_WORDS
from loyalbell.core.sequences.rehearsal import Line
from loyalbell.core.sequences.rehearsal_figures import Day, Figures, PileUp
from loyalbell.core.sequences.wording import WHAT_WORDS, Names
from loyalbell.services.application import Application
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.rehearsal import rehearsals
from loyalbell.services.rehearsal.backlog import BacklogForecast
from loyalbell.services.rehearsal.rehearsals import Rehearsed
from loyalbell.services.rehearsal.silence import why_silent
from loyalbell.services.results.planner import plans_of_tests
from loyalbell.services.sequences import drafts as sequence_drafts
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.services.sequences.shop_policy import volume_guard_of
from loyalbell.services.settings.channels import CareSettings, ResultsSettings, loaded
from loyalbell.web.formatting import about, say_day
from loyalbell.web.request import RequestContext

SAMPLE = 4
SOON = 0.22
"""Seconds that a page waits for the rail; what takes longer follows when it is there."""
LOAD_DAYS = 90


@dataclass(frozen=True)
class Warning:
    level: str
    words: str
    place: str = ""


def rail_days(plan: p.Plan) -> int:
    """How many past days are rehearsed while one types: fewer where a segment must be asked day by day."""
    return rehearsals.SHORT_DAYS if isinstance(plan.start, p.OnSegment) else rehearsals.PAST_DAYS


@dataclass(frozen=True)
class Read:
    """What takes time to work out for the rail."""

    rehearsed: Rehearsed
    mistakes: list[Mistake]
    silence: list[str]


def rail_soon(
    context: RequestContext, plan: p.Plan, sequence_id: int, page: str, days: int, seconds: float = SOON
) -> dict[str, Any] | None:
    """The same, if it can be had at once; ``None`` while it is worked out: ask again in a moment.

    ``page`` tells open pages from one another, so that each waits for its own newest plan only.
    """

    def work(go_on: Callable[[float], None]) -> Read:
        return _read(context.application, plan, sequence_id, days, go_on)

    asker = (context.visitor.user_id, sequence_id, page)
    try:
        found: Read | None = context.application.latest.ask(asker, plan.model_dump_json(), work, seconds)
    except RuleProblem as problem:
        return {"unclear": str(problem), "plan": plan}
    return None if found is None else _values(context, plan, sequence_id, found)


def _read(
    application: Application,
    plan: p.Plan,
    sequence_id: int,
    days: int,
    go_on: Callable[[float], None] = lambda share: None,
) -> Read:
    rehearsed = rehearsals.rehearse_past(application, plan, sequence_id, days, progress=go_on)
    silence = why_silent(application, plan, rehearsed.figures, rehearsed.days)
    return Read(rehearsed, sequence_drafts.mistakes(application, plan, sequence_id), silence)


def _values(context: RequestContext, plan: p.Plan, sequence_id: int, read: Read) -> dict[str, Any]:
    rehearsed, steps = read.rehearsed, steps_by_id(context, plan)
    most = guard_most(context, rehearsed.figures, len(context.application.snapshot().people))
    return {
        "unclear": "",
        "plan": plan,
        "sequence_id": sequence_id,
        "anybody": len(context.application.snapshot().people) > 0,
        "rehearsed": rehearsed,
        "silence": read.silence,
        "a_day": about(rehearsed.figures.entered / rehearsed.days),
        "facts": facts(context, rehearsed.figures, rehearsed.days),
        "warnings": warnings_of(context, plan, read, steps, most),
        "people": diaries(context, rehearsed, steps),
        "tests": say_tests(context, plan, rehearsed),
        "load": load_of(rehearsed.figures.days, most),
        "cause_words": say_withheld,
        "out_words": say_entry_refusal,
    }


def say_tests(context: RequestContext, plan: p.Plan, rehearsed: Rehearsed) -> list[str]:
    """What its comparisons will be able to tell, and when."""
    counting = loaded(context.application, ResultsSettings)
    found = plans_of_tests(plan, rehearsed.figures, rehearsed.days, counting.worth)
    said = [] if plan.held_back else ["Nobody is held back, so nobody will know what it adds."]
    for test in found:
        what = f"which of {' and '.join(test.of)} is better" if test.of else "what it adds"
        how_long = f"about {test.weeks} week{'s' if test.weeks != 1 else ''} at this pace"
        words = (
            f"To see {what}, by {counting.worth_per_thousand} more of every 1,000 who come back,"
            f" {about_people(test.people)} must come in: {how_long}."
        )
        if test.is_too_long:
            words += " That is too long. Look for a bigger difference" + (
                ", or try fewer arms." if len(test.of) > 2 else ", or add more people."
            )
        said.append(words)
    return said


def about_people(count: int) -> str:
    """To two figures: more would pretend to know."""
    return f"about {round(count, 2 - len(str(count))):,} people"


def say_withheld(cause: str) -> str:
    return CAUSE_WORDS.get(cause, cause)


def say_entry_refusal(cause: str) -> str:
    return OUT_WORDS.get(cause, cause)


def steps_by_id(context: RequestContext, plan: p.Plan) -> dict[str, str]:
    """What each step is called in a line."""
    names = sequence_queries.plan_names(context.application)
    return {one.id: short_step(one, names) for one in p.every_step(plan.steps)}


def short_step(step: p.AnyStep, names: Names) -> str:
    if isinstance(step, p.MessageStep):
        return names.messages.get(step.message or 0, "a message")
    return plan_words.say_step(step, names)


def sample(rehearsed: Rehearsed) -> list[int]:
    """Some of the people who came in: with the most messages, with few, and one who came back before any."""
    sent = {person: sum(line.what == "send" for line in lines) for person, lines in rehearsed.diaries.items()}
    ordered = sorted(sent, key=lambda person: (-sent[person], person))
    some = [person for person in ordered if sent[person]]
    none = [person for person in ordered if not sent[person]]
    picked = [*some[:1], *some[len(some) // 2 :][:1], *some[-1:], *none[:1]]
    return list(dict.fromkeys(picked))[:SAMPLE]


def facts(context: RequestContext, figures: Figures, days: int) -> list[tuple[str, str]]:
    rows = [("would have had a message", f"{figures.got_some:,}")]
    if figures.entered:
        rows.append(
            (
                f"of {figures.entered:,} who came in, back before any message",
                f"{100 * figures.early / figures.entered:.0f} %",
            )
        )
    share, interval = figures.baseline.share, figures.baseline.interval()
    if share is not None and interval is not None:
        low, high = (round(100 * one) for one in interval)
        rows.append(
            (
                f"of those, ordered within {figures.baseline.days} days with no message ({low} to {high} %)",
                f"{100 * share:.0f} %",
            )
        )
    for channel, plural in ((name, kind.plural) for name, kind in CHANNEL_TYPES.items()):
        if figures.weekly.get(channel):
            rows.append((f"{plural} a week", f"{figures.weekly[channel]:,.1f}"))
    if figures.heaviest is not None and figures.heaviest.messages:
        rows.append(
            (f"heaviest day, {say_day(day_of(figures.heaviest.day))}", f"{figures.heaviest.messages:,}")
        )
    rows.append(("replies expected a week", f"{figures.replies * 7 / days:.1f}"))
    if figures.cost:
        shop = context.application.the_shop()
        rows.append(
            (
                "cost of texts and chats a month",
                say_money(round(figures.cost * 30.44 / days), shop.currency, country=shop.country),
            )
        )
    return rows


def say_pile_up(pile: PileUp, zone: ZoneInfo, steps: Mapping[str, str]) -> str:
    at = datetime.fromtimestamp(pile.at, UTC).astimezone(zone)
    return (
        f"{say_day(at.date())}, {at.hour}:{at:%M}: {pile.messages:,} at once from"
        f" “{steps.get(pile.step, '')}”. About {pile.replies:,.0f} people would reply; your staff can answer"
        f" {pile.answers:,.0f} an hour."
    )


def warnings_of(
    context: RequestContext, plan: p.Plan, read: Read, steps: dict[str, str], most: int
) -> list[Warning]:
    figures, zone = read.rehearsed.figures, ZoneInfo(context.application.the_shop().zone)
    once = {mistake.words: mistake for mistake in reversed(read.mistakes)}
    found = [
        Warning(mistake.level, mistake.words, mistake.place)
        for mistake in read.mistakes
        if once[mistake.words] is mistake
    ]
    for pile in figures.pile_ups:
        found.append(Warning("look at this", say_pile_up(pile, zone, steps), pile.step))
    heaviest = figures.heaviest
    if heaviest is not None and heaviest.messages > most:
        said = (
            f"{say_day(day_of(heaviest.day))} would wait for your approval: {heaviest.messages:,} messages,"
            f" and the limit before approval is {most:,} a day."
        )
        found.append(Warning("look at this", said))
    past = sequence_drafts.beyond_count(context.application, plan)
    if past and figures.entered < past * 100:
        found.append(
            Warning(
                "look at this",
                f"{past:,} people already qualify. They are left out unless you add them when you publish.",
            )
        )
    return found


def guard_most(context: RequestContext, figures: Figures, people: int) -> int:
    guard = volume_guard_of(loaded(context.application, CareSettings))
    return guard.most(min(figures.normal, guard.newcomer * people))


@dataclass(frozen=True)
class DiaryCard:
    """What one rehearsed person would have been through: instants (UTC) with their words."""

    id: int
    name: str
    lines: list[tuple[datetime, str]]


def diaries(context: RequestContext, rehearsed: Rehearsed, steps: dict[str, str]) -> list[DiaryCard]:
    snapshot = context.application.snapshot()
    ids = {number: int(snapshot.people.ids[number]) for number in sample(rehearsed)}
    people = customer_queries.people_by_id(context.application, ids.values())
    return [
        DiaryCard(
            id=ids[number],
            name=people[ids[number]].name or "no name on file",
            lines=[
                (datetime.fromtimestamp(diary.at, UTC), say_line(diary, steps))
                for diary in rehearsed.diaries[number]
                if diary.play == 0
            ],
        )
        for number in ids
        if ids[number] in people
    ]


def say_line(line: Line, steps: dict[str, str]) -> str:
    name = steps.get(line.step, "")
    if line.what == "send":
        return f"“{name}” by {line.detail}"
    if line.what == "refuse":
        return f"“{name}” not sent: {CAUSE_WORDS.get(line.detail, line.detail)}"
    if line.what == "arm":
        return f"{name}: arm {int(line.detail) + 1}"
    if line.what == "left":
        return say_cause(line.detail)
    if line.what == "finished":
        return "came to the end"
    return "came in" if line.what == "came in" else name


def say_cause(cause: str) -> str:
    """Why somebody left early."""
    if cause.startswith("stop: "):
        return f"left: {WHAT_WORDS.get(cause.removeprefix('stop: '), cause)}"
    return {
        "stop rule": "left: the stop rule holds",
        "no longer meant": "left: no longer among those it is for",
        "closed": "left: closed or deceased",
        "too late": "left: a message could not be sent in time",
    }.get(cause, f"left: {cause}")


@dataclass(frozen=True)
class LoadStrip:
    """Messages a day: for each day its words, the height of its bar (pixels), and whether it is too much."""

    days: list[tuple[str, float, bool]]
    words: str


def backlog_values(
    context: RequestContext, forecast: BacklogForecast, steps: Mapping[str, str]
) -> dict[str, Any]:
    """What letting people in means, drawn by day."""
    zone = ZoneInfo(context.application.the_shop().zone)
    numbers = sorted(forecast.days)
    counts = (
        [(day, forecast.days.get(day, 0)) for day in range(numbers[0], numbers[-1] + 1)] if numbers else []
    )
    top = max((count for _, count in counts), default=1)
    said = [(say_day(day_of(day)), count) for day, count in counts]
    return {
        "forecast": forecast,
        "days": said,
        "fullest": max(said, key=lambda pair: pair[1], default=("", 0)),
        "bars": [(f"{words}: {count:,}", round(44 * count / top, 1)) for words, count in said],
        "pile_ups": [say_pile_up(one, zone, steps) for one in forecast.pile_ups],
    }


def load_of(days: list[Day], most: int) -> LoadStrip:
    """The strip of messages a day beneath the score, the last days of the rehearsal."""
    kept = days[-LOAD_DAYS:]
    top = max([day.messages for day in kept] or [0]) or 1
    heaviest = max(kept, key=lambda day: day.messages, default=None)
    said = (
        f"heaviest {say_day(day_of(heaviest.day))}: {heaviest.messages:,}"
        if heaviest and heaviest.messages
        else "nothing would have been sent"
    )
    bars = [
        (
            f"{say_day(day_of(day.day))}: {day.messages:,}",
            round(56 * day.messages / top, 1),
            day.messages > most,
        )
        for day in kept
    ]
    return LoadStrip(bars, said)
