"""The sheet of the sequence editor: the score and the words of one plan."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.money import minor_digits
from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.messages.text_parts import parts
from loyalbell.core.segments.sentence import say_rule
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences import plan_words
from loyalbell.core.sequences.score import Score, score_of
from loyalbell.core.sequences.steps import BY_DO
from loyalbell.core.sequences.steps.base import Pick
from loyalbell.core.sequences.steps.fork import say_arm
from loyalbell.core.sequences.wording import (
    DAYS,
    WHAT_WORDS,
    Names,
    say_channels,
    say_event_filter,
    say_release,
)
from loyalbell.services.catalogue import queries as catalogue_queries
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.messages import preview
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.offers import queries as offer_queries
from loyalbell.services.segments import queries as segment_queries
from loyalbell.services.sequences import drafts as sequence_drafts
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.storage.schema import Message
from loyalbell.web.channel_orders import orders_with
from loyalbell.web.messages.drafts import drafts_of
from loyalbell.web.request import RequestContext
from loyalbell.web.sequences.forms import STARTS

WAITS = (
    ("for", "for a time"),
    ("until time", "until a time of the week"),
    ("until date", "until a date"),
    ("until event", "until something happens, so long at most"),
    ("until near", "until so long before their date"),
)
RELEASES = (
    ("at once", "at once"),
    ("window", "within hours of chosen days"),
    ("exact", "at an exact time of chosen days"),
)
DIDS = (
    ("got", "got a message"),
    ("opened", "opened a message"),
    ("clicked", "clicked a link in a message"),
    ("replied", "replied to a message"),
)
Pairs = Sequence[tuple[Any, str]]
UNITS = tuple((one, one) for one in ("minutes", "hours", "days", "weeks", "months"))


@dataclass(frozen=True)
class PlanChoices:
    """What the choosers of the plan editor offer, mostly as (value, words)."""

    names: Names
    items: Pairs
    departments: Pairs
    categories: Pairs
    messages: Pairs
    offers: Pairs
    segments: Pairs
    sequences: Pairs
    tags: Pairs
    targets: Pairs
    events: Sequence[str]
    dates: Pairs
    sends: Pairs
    money: Callable[[int | None], str]
    weekdays: Sequence[str] = DAYS
    units: Pairs = UNITS
    kinds: Pairs = tuple((do, made.title) for do, made in BY_DO.items())
    starts: Pairs = STARTS
    waits: Pairs = WAITS
    releases: Pairs = RELEASES
    dids: Pairs = DIDS
    orders: Callable[[Sequence[str]], Pairs] = orders_with
    whats: Pairs = tuple(WHAT_WORDS.items())
    channels: Pairs = tuple((channel, channel) for channel in CHANNELS)

    def sentence(self, step: p.AnyStep) -> Sequence[str | Pick]:
        """The words and choosers of a step in the editor; empty for one with a page part of its own."""
        return BY_DO[step.do].sentence

    def choices(self, pick: Pick) -> Pairs:
        lists: dict[str, Pairs] = {
            "offers": self.offers,
            "sequences": self.sequences,
            "channels": self.channels,
        }
        return lists[pick.of]

    def chosen(self, step: p.AnyStep, pick: Pick) -> str:
        """What stands on a chooser: the name of what is chosen, or what it asks for."""
        value = getattr(step, pick.field)
        if pick.of == "channels":
            return ", ".join(value) or pick.empty
        named: dict[str, dict[int, str]] = {"offers": self.names.offers, "sequences": self.names.sequences}
        return named[pick.of].get(value, pick.empty) if pick.of else value or pick.empty


OWN_DATES = (
    ("birthday", "their birthday"),
    ("companion", "a companion’s birthday"),
    ("renewal", "their membership renews"),
    ("appointment", "an appointment"),
)


def editor_choices_of(context: RequestContext, plan: p.Plan) -> PlanChoices:
    """What the choosers offer for this plan."""
    application = context.application
    currency, names = application.the_shop().currency, sequence_queries.plan_names(application)
    fields = [(f"field:{at}", f"set {name}") for at, (name, _) in names.saying.catalogue.fields.items()]
    tags = [(tag.id, tag.name) for tag in customer_queries.tags_of(application)]
    return PlanChoices(
        names=names,
        messages=sorted(names.messages.items(), key=lambda named: named[1]),
        offers=offer_queries.current_names(application),
        segments=segment_queries.current_names(application),
        tags=tags,
        targets=[
            *((f"tag:{at}", f"put on “{name}”") for at, name in tags),
            *((f"off:{at}", f"take off “{name}”") for at, name in tags),
            *fields,
        ],
        items=catalogue_queries.item_names(application),
        departments=catalogue_queries.department_names(application),
        categories=[(category, category) for category in catalogue_queries.categories(application)],
        sequences=sequence_queries.live_names(application),
        events=customer_queries.kinds_of_events(application),
        dates=[
            *OWN_DATES,
            *((name, f"their “{name}”") for name in customer_queries.names_of_yearly_dates(application)),
        ],
        sends=[
            (step.id, names.messages.get(step.message or 0, "a message"))
            for step in p.every_step(plan.steps)
            if isinstance(step, p.MessageStep)
        ],
        money=lambda minor: f"{minor / 10 ** minor_digits(currency):.2f}" if minor else "",
    )


def sheet_values(
    context: RequestContext, plan: p.Plan, sequence_id: int = 0, picked: str = ""
) -> dict[str, Any]:
    kit = editor_choices_of(context, plan)
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
        "band": plan_words.say_exits(plan, names) if plan.exit_events or plan.exit_condition else "",
        "begins": short_start(plan.start),
        "counts": {},
        "mistakes": sequence_drafts.mistakes(context.application, plan, sequence_id),
        "load": None,
        "shown": _shown(context, plan, picked),
        "say_start": lambda: plan_words.say_start(plan.start, names),
        "say_only": lambda: "everybody" if plan.only is None else f"only those who {_who(plan.only, names)}",
        "say_again": lambda: plan_words.say_reentry(plan.again),
        "say_stops": lambda: (
            plan_words.say_exits(plan, names)[:1].upper() + plan_words.say_exits(plan, names)[1:]
        ),
        "say_goal": lambda: say_goal(plan, names),
        "say_step": lambda step: plan_words.say_step(step, names),
        "say_channels": lambda channels: f"Send {say_channels(channels)}",
        "say_release": say_release,
        "say_arm": lambda arm: say_arm(arm, names, messages_by_step),
    }


def _who(rule: Any, names: Names) -> str:
    return say_rule(rule, names.saying).removeprefix("Customers who ").removeprefix("Customers ")


def say_goal(plan: p.Plan, names: Names) -> str:
    if plan.goal is None:
        return "No goal yet"
    goal = plan.goal
    return f"Goal: {goal.share} % with {say_event_filter(goal.event_filter, names)} within {goal.days} days"


def short_start(start: p.Start) -> str:
    if isinstance(start, p.OnEvent):
        return WHAT_WORDS[start.event_filter.what].removeprefix("an ").removeprefix("a ")
    if isinstance(start, p.OnInactivity):
        return f"{start} since"
    if isinstance(start, p.OnDate):
        return {
            "birthday": "birthday",
            "companion": "companion",
            "renewal": "renewal",
            "appointment": "appointment",
        }.get(start.which, start.which)
    return "segment" if isinstance(start, p.OnSegment) else "by hand"


def score(plan: p.Plan, names: Names) -> Score:
    labels: dict[str, tuple[str, str]] = {}
    arms: dict[str, str] = {}
    messages_by_step = {
        one.id: names.messages.get(one.message or 0, "a message")
        for one in p.every_step(plan.steps)
        if isinstance(one, p.MessageStep)
    }
    for step in p.every_step(plan.steps):
        if isinstance(step, p.MessageStep):
            labels[step.id] = (
                messages_by_step[step.id] if step.message else "choose a message",
                say_release(step.release),
            )
        elif isinstance(step, p.ForkStep):
            labels[step.id] = ("fork", "")
            arms |= {
                f"{step.id}:{at}": say_arm(arm, names, messages_by_step) for at, arm in enumerate(step.arms)
            }
            arms[f"{step.id}:{len(step.arms)}"] = "all others"
        elif isinstance(step, p.RandomSplitStep):
            labels[step.id] = ("random split", "")
            arms |= {f"{step.id}:{at}": arm.name or f"arm {at + 1}" for at, arm in enumerate(step.arms)}
        else:
            labels[step.id] = (plan_words.say_step(step, names), "")
    return score_of(plan, labels, arms)


@dataclass(frozen=True)
class ShownMessage:
    """A step's message as its ``reader`` gets it, or the ``problem`` why it cannot be shown.

    ``draft`` is the number of the writing under which an email's picture is asked for.
    """

    name: str
    message: int
    reader: str = ""
    reader_id: int = 0
    channel: str | None = None
    draft: str = ""
    problem: str = ""
    subject: str = ""
    words: str = ""
    counted: str = ""


def _shown(context: RequestContext, plan: p.Plan, picked: str) -> ShownMessage | None:
    """The picked step's message, as the first of those it could be read as gets it."""
    step = next((one for one in p.every_step(plan.steps) if one.id == picked), None)
    if not isinstance(step, p.MessageStep) or step.message is None:
        return None
    message = context.application.find(Message, step.message)
    if message is None:
        return None
    content = message_queries.content_of(context.application, message.id)
    channel = next((one for one in step.channels if one in content.channels()), None)
    writing = content.find(channel) if channel else None
    shown = ShownMessage(message.name, message.id)
    if writing is None:
        return replace(shown, problem=f"It says nothing by {' or '.join(step.channels)}.")
    reader = next(iter(preview.readers(context.application, content)), None)
    shown = replace(
        shown,
        channel=channel,
        reader=reader.name if reader else "",
        reader_id=reader.id if reader else 0,
        draft=drafts_of(context).put(context.visitor.csrf, writing),
    )
    try:
        filled = preview.read_as(context.application, writing, reader.id if reader else None)
    except FieldProblem as problem:
        return replace(shown, problem=str(problem))
    if isinstance(filled, FilledEmail):
        return replace(shown, subject=filled.subject)
    words = str(filled or "")
    return replace(shown, words=words, counted=_say_parts(words) if channel == "text" else "")


def _say_parts(words: str) -> str:
    counted = parts(words)
    return f"{counted.parts} part{'s' if counted.parts != 1 else ''}, {counted.encoding}"
