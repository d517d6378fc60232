"""The sheet and the rail of the sequence editor: what they show of one plan."""

from dataclasses import dataclass
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.care import CAUSE_WORDS
from loyalbell.core.messages import content as c
from loyalbell.core.messages.fields import FieldProblem
from loyalbell.core.messages.letter import FilledEmail
from loyalbell.core.messages.text import parts
from loyalbell.core.money import minor_digits, say_money
from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.segments.sentence import say_rule
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences import words
from loyalbell.core.sequences.entry import OUT_WORDS
from loyalbell.core.sequences.figures import Day, Figures
from loyalbell.core.sequences.rehearse import Line
from loyalbell.core.sequences.score import Score, score_of
from loyalbell.core.sequences.words import Names
from loyalbell.core.zones import day_of
from loyalbell.desk import messages, segments
from loyalbell.desk.channel_settings import CareSettings, loaded
from loyalbell.desk.letters import newest_version
from loyalbell.desk.sequences import editing, rehearsing
from loyalbell.desk.sequences.house import guard_of
from loyalbell.desk.sequences.rehearsing import Rehearsed
from loyalbell.store import tables
from loyalbell.store.tables import Department, Event, Item, Message, Offer, Person, Segment, Tag, YearlyDate
from loyalbell.web.drafts import drafts_of
from loyalbell.web.routes.campaigns import ORDERS
from loyalbell.web.sequence_form import KINDS, STARTS
from loyalbell.web.visit import Visit
from loyalbell.web.words import say_day

WAITS = (("for", "for a time"), ("until time", "until a time of the week"), ("until date", "until a date"), ("until event", "until something happens, so long at most"), ("until near", "until so long before their date"))  # fmt: skip
RELEASES = (("at once", "at once"), ("window", "within hours of chosen days"), ("exact", "at an exact time of chosen days"))  # fmt: skip
DIDS = (("got", "got a message"), ("opened", "opened a message"), ("clicked", "pressed a link in a message"), ("replied", "answered a message"))  # fmt: skip
UNITS = tuple((one, one) for one in ("minutes", "hours", "days", "weeks", "months"))
SAMPLE = 4
LOAD_DAYS = 90


def names_of(visit: Visit, session: Session) -> Names:
    return Names(
        segments.saying(visit.desk, visit.desk.ledger()),
        dict(session.execute(select(Message.id, Message.name).where(~Message.hidden)).all()),
        dict(session.execute(select(Offer.id, Offer.name)).all()),
        dict(session.execute(select(tables.Sequence.id, tables.Sequence.name)).all()),
    )


def kit_of(visit: Visit, plan: p.Plan) -> SimpleNamespace:
    """What the choosers offer, as (value, words)."""
    currency = visit.desk.the_shop().currency
    with visit.desk.book.reading() as session:

        def pairs(query: Any) -> list[tuple[Any, str]]:
            return [(at, name) for at, name in session.execute(query).all()]

        names = names_of(visit, session)
        fields = [(f"field:{at}", f"set {name}") for at, (name, _) in names.saying.catalogue.fields.items()]
        tags = pairs(select(Tag.id, Tag.name).order_by(Tag.name))
        named = list(session.scalars(select(YearlyDate.name).distinct()))
        return SimpleNamespace(
            names=names, weekdays=words.DAYS, units=UNITS, kinds=KINDS, starts=STARTS, waits=WAITS, releases=RELEASES, dids=DIDS,
            orders=ORDERS, whats=list(words.WHAT_WORDS.items()), channels=[(one, one) for one in ("email", "text", "chat")],
            messages=sorted(names.messages.items(), key=lambda one: one[1]),
            offers=pairs(select(Offer.id, Offer.name).where(Offer.archived_at.is_(None)).order_by(Offer.name)),
            segments=pairs(select(Segment.id, Segment.name).where(Segment.archived_at.is_(None)).order_by(Segment.name)),
            tags=tags, targets=[*((f"tag:{at}", f"put on “{name}”") for at, name in tags), *((f"off:{at}", f"take off “{name}”") for at, name in tags), *fields],
            items=pairs(select(Item.id, Item.name).order_by(Item.name)),
            departments=pairs(select(Department.id, Department.name).order_by(Department.name)),
            categories=[(one, one) for one in session.scalars(select(Item.category).distinct().order_by(Item.category)) if one],
            sequences=pairs(select(tables.Sequence.id, tables.Sequence.name).where(tables.Sequence.state == "live").order_by(tables.Sequence.name)),
            events=list(session.scalars(select(Event.kind).distinct().order_by(Event.kind))),
            dates=[("birthday", "their birthday"), ("companion", "a companion’s birthday"), ("renewal", "their membership renews"), ("appointment", "an appointment"), *((one, f"their “{one}”") for one in named)],
            sends=[(one.id, names.messages.get(one.message or 0, "a message")) for one in p.every_step(plan.steps) if isinstance(one, p.MessageStep)],
            money=lambda minor: f"{minor / 10 ** minor_digits(currency):.2f}" if minor else "",
        )  # fmt: skip


def sheet_values(visit: Visit, plan: p.Plan, sequence_id: int = 0, picked: str = "") -> dict[str, Any]:
    kit = kit_of(visit, plan)
    names: Names = kit.names
    messages_by_step = {at: name for at, name in kit.sends}
    picked = (
        picked
        if picked in {one.id for one in p.every_step(plan.steps)}
        else (kit.sends[0][0] if kit.sends else "")
    )
    return {
        "plan": plan,
        "kit": kit,
        "picked": picked,
        "score": score(plan, names),
        "band": words.say_stops(plan, names) if plan.stops or plan.stop_when else "",
        "begins": short_start(plan.start),
        "counts": {},
        "mistakes": editing.mistakes(visit.desk, plan, sequence_id),
        "load": None,
        "shown": _shown(visit, plan, picked),
        "say_start": lambda: words.say_start(plan.start, names),
        "say_only": lambda: "everybody" if plan.only is None else f"only those who {_who(plan.only, names)}",
        "say_again": lambda: words.say_again(plan.again),
        "say_stops": lambda: words.say_stops(plan, names)[:1].upper() + words.say_stops(plan, names)[1:],
        "say_goal": lambda: say_goal(plan, names),
        "say_step": lambda step: words.say_step(step, names),
        "say_channels": lambda channels: f"Send {words.say_channels(channels)}",
        "say_release": words.say_release,
        "say_arm": lambda arm: words.say_arm(arm, names, messages_by_step),
    }


def _who(rule: Any, names: Names) -> str:
    return say_rule(rule, names.saying).removeprefix("Customers who ").removeprefix("Customers ")


def say_goal(plan: p.Plan, names: Names) -> str:
    if plan.goal is None:
        return "No goal yet"
    goal = plan.goal
    return f"Goal: {goal.share} % with {words.say_happening(goal.happening, names)} within {goal.days} days"


def short_start(start: p.Start) -> str:
    if isinstance(start, p.OnEvent):
        return words.WHAT_WORDS[start.happening.what].removeprefix("an ").removeprefix("a ")
    if isinstance(start, p.OnLack):
        return f"{start.days} days since"
    if isinstance(start, p.OnDate):
        return {"birthday": "birthday", "companion": "companion", "renewal": "renewal", "appointment": "appointment"}.get(start.which, start.which)  # fmt: skip
    return "segment" if isinstance(start, p.OnSegment) else "by hand"


def score(plan: p.Plan, names: Names) -> Score:
    labels: dict[str, tuple[str, str]] = {}
    arms: dict[str, str] = {}
    messages_by_step = {
        one.id: names.messages.get(one.message or 0, "a message") for one in p.every_step(plan.steps) if isinstance(one, p.MessageStep)
    }  # fmt: skip
    for step in p.every_step(plan.steps):
        if isinstance(step, p.MessageStep):
            labels[step.id] = (
                messages_by_step[step.id] if step.message else "choose a message",
                words.say_release(step.release),
            )
        elif isinstance(step, p.ForkStep):
            labels[step.id] = ("fork", "")
            arms |= {
                f"{step.id}:{at}": words.say_arm(arm, names, messages_by_step)
                for at, arm in enumerate(step.arms)
            }
            arms[f"{step.id}:{len(step.arms)}"] = "all others"
        elif isinstance(step, p.LotStep):
            labels[step.id] = ("lots", "")
            arms |= {f"{step.id}:{at}": arm.name or f"arm {at + 1}" for at, arm in enumerate(step.arms)}
        else:
            labels[step.id] = (words.say_step(step, names), "")
    return score_of(plan, labels, arms)


def _shown(visit: Visit, plan: p.Plan, picked: str) -> SimpleNamespace | None:
    """The picked step's message, as the first of those it could be read as gets it."""
    step = next((one for one in p.every_step(plan.steps) if one.id == picked), None)
    if not isinstance(step, p.MessageStep) or step.message is None:
        return None
    with visit.desk.book.reading() as session:
        message = session.get(Message, step.message)
        if message is None:
            return None
        content = c.read_content(newest_version(session, message.id).content)
    channel = next((one for one in step.channels if one in content.channels()), None)
    writing = content.find(channel) if channel else None
    if writing is None:
        return SimpleNamespace(name=message.name, message=message.id, reader="", problem=f"It says nothing by {' or '.join(step.channels)}.")  # fmt: skip
    readers = messages.readers(visit.desk, content)
    reader = readers[0] if readers else None
    found = SimpleNamespace(
        name=message.name, message=message.id, channel=channel, reader=reader.name if reader else "", reader_id=reader.id if reader else 0,
        problem="", draft=drafts_of(visit).put(visit.visitor.csrf, writing), words="", subject="", counted="",
    )  # fmt: skip
    try:
        filled = messages.read_as(visit.desk, writing, reader.id if reader else None)
    except FieldProblem as problem:
        found.problem = str(problem)
        return found
    if isinstance(filled, FilledEmail):
        found.subject = filled.subject
    else:
        counted = parts(str(filled or ""))
        found.words = filled or ""
        found.counted = f"{counted.parts} part{'s' if counted.parts != 1 else ''}, {counted.encoding}" if channel == "text" else ""  # fmt: skip
    return found


@dataclass(frozen=True)
class Warning:
    level: str
    words: str
    place: str = ""


def rail_days(plan: p.Plan) -> int:
    """How many past days are rehearsed while one types: fewer where a segment must be asked day by day."""
    return rehearsing.SHORT_DAYS if isinstance(plan.start, p.OnSegment) else rehearsing.PAST_DAYS


def rail_values(
    visit: Visit, plan: p.Plan, sequence_id: int = 0, days: int = rehearsing.PAST_DAYS
) -> dict[str, Any]:
    """The rehearsal of the past, as figures and people. A rule that cannot be asked is said instead."""
    try:
        rehearsed = rehearsing.rehearse_past(visit.desk, plan, sequence_id, days)
    except RuleProblem as problem:
        return {"unclear": str(problem), "plan": plan}
    with visit.desk.book.reading() as session:
        names = names_of(visit, session)
    steps = {one.id: short_step(one, names) for one in p.every_step(plan.steps)}
    return {
        "unclear": "",
        "plan": plan,
        "sequence_id": sequence_id,
        "rehearsed": rehearsed,
        "a_day": say_a_day(rehearsed.figures.entered, rehearsed.days),
        "facts": facts(visit, rehearsed.figures, rehearsed.days),
        "warnings": warnings_of(visit, plan, sequence_id, rehearsed, names),
        "people": diaries(visit, rehearsed, steps),
        "load": load_of(
            rehearsed.figures.days, guard_most(visit, rehearsed.figures, len(visit.desk.ledger().people))
        ),
        "step_names": steps,
        "cause_words": say_withheld,
        "out_words": say_kept_out,
    }


def say_withheld(cause: str) -> str:
    return CAUSE_WORDS.get(cause, cause)


def say_kept_out(cause: str) -> str:
    return OUT_WORDS.get(cause, cause)


def short_step(step: p.AnyStep, names: Names) -> str:
    if isinstance(step, p.MessageStep):
        return names.messages.get(step.message or 0, "a message")
    return words.say_step(step, names)


def say_a_day(entered: int, days: int) -> str:
    each = entered / days
    return f"{each:,.0f}" if each >= 10 else f"{each:.1f}" if each else "0"


def sample(rehearsed: Rehearsed) -> list[int]:
    """Some of the people who came in: with the most messages, with few, and one who came back before any."""
    sent = {person: sum(line.what == "send" for line in lines) for person, lines in rehearsed.diaries.items()}
    ordered = sorted(sent, key=lambda person: (-sent[person], person))
    some = [person for person in ordered if sent[person]]
    none = [person for person in ordered if not sent[person]]
    picked = [*some[:1], *some[len(some) // 2 :][:1], *some[-1:], *none[:1]]
    return list(dict.fromkeys(picked))[:SAMPLE]


def facts(visit: Visit, figures: Figures, days: int) -> list[tuple[str, str]]:
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
    for channel, plural in (("email", "emails"), ("text", "texts"), ("chat", "chats")):
        if figures.weekly.get(channel):
            rows.append((f"{plural} a week", f"{figures.weekly[channel]:,.1f}"))
    if figures.heaviest is not None and figures.heaviest.messages:
        rows.append(
            (f"heaviest day, {say_day(day_of(figures.heaviest.day))}", f"{figures.heaviest.messages:,}")
        )
    rows.append(("replies expected a week", f"{figures.replies * 7 / days:.1f}"))
    if figures.cost:
        rows.append(
            (
                "cost of texts and chats a month",
                say_money(round(figures.cost * 30.44 / days), visit.desk.the_shop().currency),
            )
        )
    return rows


def warnings_of(
    visit: Visit, plan: p.Plan, sequence_id: int, rehearsed: Rehearsed, names: Names
) -> list[Warning]:
    found = [
        Warning(one.level, one.words, one.place) for one in editing.mistakes(visit.desk, plan, sequence_id)
    ]
    zone = ZoneInfo(visit.desk.the_shop().zone)
    steps = {one.id: short_step(one, names) for one in p.every_step(plan.steps)}
    for pile in rehearsed.figures.pile_ups:
        at = datetime.fromtimestamp(pile.at, UTC).astimezone(zone)
        said = f"{say_day(at.date())}, {at.hour}:{at:%M}: {pile.messages:,} at once from “{steps.get(pile.step, '')}”. About {pile.replies:,.0f} would answer; the staff can answer {pile.answers:,.0f} an hour."
        found.append(Warning("look at this", said, pile.step))
    heaviest = rehearsed.figures.heaviest
    if heaviest is not None and heaviest.messages:
        most = guard_most(visit, rehearsed.figures, len(visit.desk.ledger().people))
        if heaviest.messages > most:
            said = f"The volume guard would hold {say_day(day_of(heaviest.day))}: {heaviest.messages:,} messages, and {most:,} a day go without a person’s release."
            found.append(Warning("look at this", said))
    past = editing.beyond_count(visit.desk, plan)
    if past and rehearsed.figures.entered < past * 100:
        found.append(
            Warning(
                "look at this",
                f"{past:,} people are already past the line. They stay out, unless you bring them in when you publish.",
            )
        )
    return found


def guard_most(visit: Visit, figures: Figures, people: int) -> int:
    guard = guard_of(loaded(visit.desk, CareSettings))
    return guard.most(min(figures.normal, guard.newcomer * people))


def diaries(visit: Visit, rehearsed: Rehearsed, steps: dict[str, str]) -> list[SimpleNamespace]:
    ledger = visit.desk.ledger()
    ids = {number: int(ledger.people.ids[number]) for number in sample(rehearsed)}
    with visit.desk.book.reading() as session:
        people = {one.id: one for one in session.scalars(select(Person).where(Person.id.in_(ids.values())))}
    return [
        SimpleNamespace(
            id=ids[number], name=people[ids[number]].name or "no name on file",
            lines=[(datetime.fromtimestamp(one.at, UTC), say_line(one, steps)) for one in rehearsed.diaries[number] if one.play == 0],
        )
        for number in ids
        if ids[number] in people
    ]  # fmt: skip


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
        return f"left: {words.WHAT_WORDS.get(cause.removeprefix('stop: '), cause)}"
    return {"stop rule": "left: the stop rule holds", "no longer meant": "left: no longer among those it is for", "closed": "left: closed or deceased"}.get(cause, f"left: {cause}")  # fmt: skip


def load_of(days: list[Day], most: int) -> SimpleNamespace:
    """The strip of messages a day beneath the score, the last days of the rehearsal."""
    kept = days[-LOAD_DAYS:]
    top = max([day.messages for day in kept] or [0]) or 1
    heaviest = max(kept, key=lambda day: day.messages, default=None)
    said = f"heaviest {say_day(day_of(heaviest.day))}: {heaviest.messages:,}" if heaviest and heaviest.messages else "nothing would have gone"  # fmt: skip
    bars = [(f"{say_day(day_of(day.day))}: {day.messages:,}", round(56 * day.messages / top, 1), day.messages > most) for day in kept]  # fmt: skip
    return SimpleNamespace(days=bars, words=said)
