"""What can be chosen in each kind of line: the words that open a chooser, and its fields."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel

from loyalbell.core.channels import CHANNELS
from loyalbell.core.rhythm.bands import BANDS
from loyalbell.core.segments import model as m
from loyalbell.core.segments.conditions import Saying, say_condition
from loyalbell.core.segments.conditions.messages import ACTS
from loyalbell.core.segments.conditions.orders import say_act
from loyalbell.core.segments.conditions.person import PERSON_FACTS
from loyalbell.core.segments.conditions.wording import GONE, ordinal, say_measure, say_period, says_never

NEVER = "never"
Options = Sequence[tuple[str, str]]


@dataclass(frozen=True)
class Offers:
    """What this shop has to choose from, as (value, words)."""

    departments: Options = ()
    locations: Options = ()
    items: Options = ()
    categories: Options = ()
    tags: Options = ()
    fields: Options = ()
    events: Options = ()
    dates: Options = ()
    plans: Options = ()
    messages: Options = ()
    segments: Options = ()
    offers: Options = ()
    sequences: Options = ()


@dataclass(frozen=True)
class Field:
    """``kind``: select, id (a select of numbers), number, text, money, amount (money or a count), never,
    checks, date.
    """

    name: str
    label: str
    kind: str = "select"
    options: Options = ()
    offer: str = ""
    blank: str = ""

    def offered(self, offers: Offers) -> Options:
        first = [("", self.blank)] if self.blank else []
        return [*first, *(getattr(offers, self.offer) if self.offer else self.options)]


@dataclass(frozen=True)
class PickSpec:
    name: str
    words: Callable[[Any, Saying], str]
    fields: Sequence[Field]


@dataclass(frozen=True)
class LineSpec:
    model: type[BaseModel]
    picks: Sequence[PickSpec]
    mend: Callable[[dict[str, Any]], None] = field(default=lambda found: None)


def _same(*words: str) -> Options:
    return [(word, word) for word in words]


COMPARISON = Field(
    "comparison", "How much", "never", [*_same("at least", "at most", "exactly"), (NEVER, "not at all")]
)
PLAIN_COMPARISON = Field("comparison", "How much", "select", _same("at least", "at most", "exactly"))
PERIODS = [
    ("ever", "ever"),
    ("last days", "in the last … days"),
    ("before last days", "more than … days ago"),
    ("between days ago", "between … and … days ago"),
    ("between dates", "from one day to another"),
    ("after joining", "in their first … days"),
    ("since entering", "since they came into the sequence"),
]
PERIOD = PickSpec(
    "period",
    lambda line, saying: say_period(line.period),
    (
        Field("period.kind", "When", "select", PERIODS),
        Field("period.days", "Days", "optional"),
        Field("period.least", "At least so many days ago", "optional"),
        Field("period.most", "At most so many days ago", "optional"),
        Field("period.first", "From the day", "date"),
        Field("period.last", "To the day", "date"),
    ),
)


def _where(before: str = "in", blank: str = "anywhere", places: bool = False) -> PickSpec:
    def words(line: Any, saying: Saying) -> str:
        known = saying.catalogue
        said = [] if line.department is None else [f"{before} {known.departments.get(line.department, GONE)}"]
        if places and line.location is not None:
            said.append(f"at {known.locations.get(line.location, GONE)}")
        return " ".join(said) or blank

    place = (Field("location", "Place", "id", offer="locations", blank="any"),) if places else ()
    department = Field("department", "Department", "id", offer="departments", blank="any")
    return PickSpec("department", words, (department, *place))


def _measure(*measures: tuple[str, str], label: str = "Number") -> PickSpec:
    def words(line: Any, saying: Saying) -> str:
        return (
            "at all"
            if getattr(line, "measure", "count") == "count" and says_never(line)
            else say_measure(line, saying)
        )

    asked = (Field("measure", "What is counted", "select", measures),) if measures else ()
    return PickSpec("measure", words, (*asked, COMPARISON, Field("value", label, "amount")))


ANSWERS = {
    "review": "given a review",
    "survey": "answered a survey",
    "any": "given a review or a survey answer",
}


def _not(line: Any) -> str:
    return "not " if getattr(line, "measure", "count") == "count" and says_never(line) else ""


def _orders_words(line: Any, saying: Saying) -> str:
    return f"have {say_act(line)}" + (f" their {ordinal(line.nth)} order" if line.nth else "")


def _item_words(line: Any, saying: Saying) -> str:
    if line.item is not None:
        return saying.catalogue.items.get(line.item, (GONE, "", 0))[0]
    return f"anything of {line.category}" if line.category else "anything"


def _whole(line: Any, saying: Saying) -> str:
    return say_condition(line, saying)


def _appointment_words(line: Any, saying: Saying) -> str:
    if line.state == "ahead":
        return "have nothing booked" if says_never(line) else "have an appointment booked"
    return f"have {line.state} an appointment" if line.state != "booked" else "had an appointment left open"


def _mend_field(found: dict[str, Any]) -> None:
    found["value"] = found.get("value") or ""


def _mend_scores(found: dict[str, Any]) -> None:
    found["cells"] = [tuple(int(part) for part in str(cell).split("-")) for cell in found.get("cells") or []]


MANY = (
    ("count", "how often"),
    ("sum", "how much money in all"),
    ("average", "how much on average"),
    ("days", "on how many days"),
    ("first", "days since the first"),
    ("last", "days since the last"),
)
PICKS: dict[str, LineSpec] = {
    "orders": LineSpec(
        m.OrdersCondition,
        (
            PickSpec(
                "act",
                _orders_words,
                (
                    Field("nth", "Only their n-th order (empty for all)", "optional"),
                    Field("least", "Only orders of at least (empty for all)", "money"),
                ),
            ),
            _measure(*MANY, label="Times, amount or days"),
            _where(places=True),
            PERIOD,
        ),
    ),
    "items": LineSpec(
        m.ItemsCondition,
        (
            PickSpec(
                "what",
                lambda line, saying: f"have {_not(line)}bought {_item_words(line, saying)}",
                (
                    Field("item", "Item", "id", offer="items", blank="any"),
                    Field("category", "Category", "select", offer="categories", blank="any"),
                ),
            ),
            _measure(
                ("count", "in how many orders"),
                ("quantity", "how many of them"),
                ("sum", "how much money in all"),
                ("first", "days since the first"),
                ("last", "days since the last"),
                label="Times, units, amount or days",
            ),
            _where(),
            PERIOD,
        ),
    ),
    "visits": LineSpec(
        m.VisitsCondition,
        (
            PickSpec("said", lambda line, saying: f"have {_not(line)}come in", ()),
            _measure(
                ("count", "how often"),
                ("first", "days since the first"),
                ("last", "days since the last"),
                label="Times or days",
            ),
            _where("to", "anywhere", places=True),
            PERIOD,
        ),
    ),
    "appointments": LineSpec(
        m.AppointmentsCondition,
        (
            PickSpec(
                "state",
                _appointment_words,
                (
                    Field(
                        "state",
                        "Appointments",
                        "select",
                        [
                            ("ahead", "booked, still ahead"),
                            ("kept", "kept"),
                            ("missed", "missed"),
                            ("cancelled", "cancelled"),
                            ("booked", "past and left open"),
                        ],
                    ),
                    COMPARISON,
                    Field("value", "Number", "amount"),
                ),
            ),
            PickSpec(
                "ahead",
                lambda line, saying: (
                    ""
                    if line.state != "ahead"
                    else f"within {line.ahead} days"
                    if line.ahead
                    else "at any time ahead"
                ),
                (Field("ahead", "Within days (0 for any time)", "number"),),
            ),
            PickSpec(
                "item",
                lambda line, saying: (
                    "for anything"
                    if line.item is None
                    else f"for {saying.catalogue.items.get(line.item, (GONE, '', 0))[0]}"
                ),
                (Field("item", "Service", "id", offer="items", blank="any"),),
            ),
            _where(),
            PickSpec(
                "period",
                lambda line, saying: "" if line.state == "ahead" else say_period(line.period),
                PERIOD.fields,
            ),
        ),
    ),
    "events": LineSpec(
        m.EventsCondition,
        (
            PickSpec(
                "kind",
                lambda line, saying: f"have {_not(line)}“{line.kind}”",
                (Field("kind", "What happened", "select", offer="events"),),
            ),
            PickSpec(
                "property",
                lambda line, saying: (
                    f"with {line.property} “{line.holds}”"
                    if line.property and line.holds
                    else f"with {line.property}"
                    if line.property
                    else "in any way"
                ),
                (
                    Field("property", "Only where this property (empty for all)", "text"),
                    Field("holds", "is (empty for anything)", "text"),
                ),
            ),
            _measure(("count", "how often"), ("last", "days since the last"), label="Times or days"),
            PERIOD,
        ),
        lambda found: found.update(holds=found.get("holds") or ""),
    ),
    "messages": LineSpec(
        m.MessagesCondition,
        (
            PickSpec(
                "act",
                lambda line, saying: f"have {_not(line)}{ACTS[line.act]}",
                (Field("act", "What they did", "select", list(ACTS.items())),),
            ),
            PickSpec(
                "message",
                lambda line, saying: (
                    f"“{saying.messages.get(line.message, GONE)}”"
                    if line.message is not None
                    else f"any {line.channel or 'message'}"
                ),
                (
                    Field("channel", "Channel", "select", _same(*CHANNELS), blank="any"),
                    Field("message", "Message", "id", offer="messages", blank="any"),
                ),
            ),
            _measure(label="Messages"),
            PERIOD,
        ),
    ),
    "answers": LineSpec(
        m.AnswersCondition,
        (
            PickSpec(
                "kind",
                lambda line, saying: f"have {_not(line)}" + ANSWERS[line.kind],
                (
                    Field(
                        "kind",
                        "What",
                        "select",
                        [("any", "review or survey"), ("review", "review"), ("survey", "survey")],
                    ),
                ),
            ),
            PickSpec(
                "score",
                lambda line, saying: (
                    "with any score"
                    if (line.low, line.high) == (0, 100)
                    else f"with {line.low} to {line.high} % of the best score"
                ),
                (Field("low", "From % of the best score", "number"), Field("high", "To %", "number")),
            ),
            _measure(label="Times"),
            PERIOD,
        ),
    ),
    "reach": LineSpec(
        m.ReachCondition,
        (
            PickSpec(
                "can",
                lambda line, saying: "can be reached" if line.can else "cannot be reached",
                (
                    Field(
                        "can",
                        "Can they be reached",
                        "select",
                        [("True", "can be reached"), ("False", "cannot be reached")],
                    ),
                ),
            ),
            PickSpec(
                "channel",
                lambda line, saying: f"by {line.channel}",
                (Field("channel", "By", "select", _same(*CHANNELS)),),
            ),
        ),
    ),
    "consent": LineSpec(
        m.ConsentCondition,
        (
            PickSpec(
                "state",
                _whole,
                (
                    Field(
                        "state",
                        "What they said last",
                        "select",
                        [
                            ("agreed", "agreed"),
                            ("waiting", "were asked to confirm"),
                            ("refused", "refused"),
                            ("never asked", "were never asked"),
                        ],
                    ),
                    Field("channel", "About", "select", _same(*CHANNELS)),
                ),
            ),
        ),
    ),
    "tag": LineSpec(
        m.TagCondition,
        (
            PickSpec(
                "has",
                lambda line, saying: "carry the tag" if line.has else "do not carry the tag",
                (Field("has", "Do they", "select", [("True", "carry it"), ("False", "do not carry it")]),),
            ),
            PickSpec(
                "tag",
                lambda line, saying: f"“{saying.catalogue.tags.get(line.tag, GONE)}”",
                (Field("tag", "Tag", "id", offer="tags"),),
            ),
        ),
    ),
    "field": LineSpec(
        m.FieldCondition,
        (
            PickSpec(
                "field",
                lambda line, saying: f"have {saying.catalogue.fields.get(line.field, (GONE, ''))[0]}",
                (Field("field", "Field", "id", offer="fields"),),
            ),
            PickSpec(
                "comparison",
                lambda line, saying: (
                    f"that {line.comparison}" + (f" {line.value}" if "known" not in line.comparison else "")
                ),
                (
                    Field(
                        "comparison",
                        "Compared",
                        "select",
                        _same(
                            "is",
                            "is not",
                            "at least",
                            "at most",
                            "contains",
                            "in the next days",
                            "in the last days",
                            "is known",
                            "is not known",
                        ),
                    ),
                    Field("value", "Value, day (2026-05-12) or number of days", "text"),
                ),
            ),
        ),
        _mend_field,
    ),
    "date": LineSpec(
        m.DateCondition,
        (
            PickSpec(
                "which",
                _whole,
                (
                    Field("which", "Which day of the year", "select", offer="dates"),
                    Field(
                        "comparison",
                        "Compared",
                        "select",
                        [
                            ("in days", "in exactly … days"),
                            ("days ago", "exactly … days ago"),
                            ("within", "today or in the next … days"),
                            ("month", "in the month"),
                            ("is known", "is known"),
                            ("is not known", "is not known"),
                        ],
                    ),
                    Field("value", "Days, or the month’s number", "number"),
                ),
            ),
        ),
    ),
    "membership": LineSpec(
        m.MembershipCondition,
        (
            PickSpec(
                "state",
                _whole,
                (
                    Field(
                        "state",
                        "Membership",
                        "select",
                        [
                            ("runs", "runs"),
                            ("renews in", "renews in … days"),
                            ("has ended", "has ended"),
                            ("none", "has none that runs"),
                        ],
                    ),
                    Field("plan", "Plan", "select", offer="plans", blank="any"),
                    Field(
                        "term",
                        "Term",
                        "select",
                        _same("yearly", "quarterly", "monthly", "weekly", "once"),
                        blank="any",
                    ),
                    PLAIN_COMPARISON,
                    Field("days", "Days until it renews", "number"),
                ),
            ),
        ),
    ),
    "band": LineSpec(
        m.BandCondition,
        (
            PickSpec(
                "bands",
                lambda line, saying: f"are {' or '.join(line.bands)}",
                (Field("bands", "Rhythm now", "checks", _same(*BANDS)),),
            ),
            _where("in", "by all their orders"),
        ),
    ),
    "gap": LineSpec(
        m.GapCondition,
        (
            PickSpec(
                "what",
                lambda line, saying: "usually come in" if line.what == "visits" else "usually order",
                (Field("what", "What is looked at", "select", [("orders", "orders"), ("visits", "visits")]),),
            ),
            _where("in", "anywhere"),
            PickSpec(
                "low",
                lambda line, saying: f"every {line.low} to {line.high} days",
                (
                    Field("low", "At least so many days apart", "number"),
                    Field("high", "At most so many days apart", "number"),
                ),
            ),
            PickSpec(
                "fewest",
                lambda line, saying: f"known from {line.fewest} {line.what} or more",
                (Field("fewest", "Known from so many or more", "number"),),
            ),
        ),
    ),
    "offers": LineSpec(
        m.OffersCondition,
        (
            PickSpec(
                "state",
                _whole,
                (
                    Field(
                        "state",
                        "Codes",
                        "select",
                        [
                            ("hold", "held now"),
                            ("were given", "given"),
                            ("used", "used"),
                            ("let run out", "run out unused"),
                        ],
                    ),
                    Field("has", "Do they", "select", [("True", "yes"), ("False", "no")]),
                    Field("offer", "Offer", "id", offer="offers", blank="any"),
                    Field("days", "Days: ending within, or back (0 for any)", "number"),
                ),
            ),
        ),
    ),
    "sequences": LineSpec(
        m.SequencesCondition,
        (
            PickSpec(
                "state",
                _whole,
                (
                    Field(
                        "state",
                        "Where they are or were",
                        "select",
                        [
                            ("under way", "on their way through it now"),
                            ("came in", "came in"),
                            ("finished", "came to the end"),
                            ("left", "left early"),
                            ("held back", "held back, to compare with"),
                        ],
                    ),
                    Field("has", "Do they", "select", [("True", "yes"), ("False", "no")]),
                    Field("sequence", "Sequence", "id", offer="sequences", blank="any"),
                    Field("days", "Days back (0 for ever)", "number"),
                ),
            ),
        ),
    ),
    "top": LineSpec(
        m.TopCondition,
        (
            PickSpec(
                "percent",
                _whole,
                (
                    Field("percent", "Top per cent", "text"),
                    Field("days", "In the last days (0 for ever)", "number"),
                    Field("department", "Department", "id", offer="departments", blank="any"),
                ),
            ),
        ),
    ),
    "scores": LineSpec(
        m.ScoresCondition,
        (
            PickSpec(
                "cells",
                _whole,
                (
                    Field(
                        "cells",
                        "Recency and frequency",
                        "checks",
                        [(f"{r}-{f}", f"{r} and {f}") for r in range(5, 0, -1) for f in range(5, 0, -1)],
                    ),
                ),
            ),
        ),
        _mend_scores,
    ),
    "person": LineSpec(
        m.PersonCondition,
        (
            PickSpec(
                "fact",
                _whole,
                (
                    Field(
                        "fact",
                        "What is on file",
                        "select",
                        [("since", "days as a customer"), *PERSON_FACTS.items()],
                    ),
                    Field(
                        "comparison",
                        "Compared",
                        "select",
                        _same(
                            "is",
                            "is not",
                            "begins with",
                            "at least",
                            "at most",
                            "exactly",
                            "is known",
                            "is not known",
                        ),
                    ),
                    Field("value", "Value", "text"),
                ),
            ),
        ),
        _mend_field,
    ),
    "segment": LineSpec(
        m.SegmentCondition,
        (
            PickSpec(
                "within",
                lambda line, saying: "are in the segment" if line.within else "are not in the segment",
                (Field("within", "Are they in it", "select", [("True", "in it"), ("False", "not in it")]),),
            ),
            PickSpec(
                "segment",
                lambda line, saying: f"“{saying.segments.get(line.segment, GONE)}”",
                (Field("segment", "Segment", "id", offer="segments"),),
            ),
        ),
    ),
    "people": LineSpec(m.PeopleCondition, (PickSpec("ids", _whole, (Field("ids", "People", "fixed"),)),)),
}


def picks_of(line: Any) -> Sequence[PickSpec]:
    return PICKS[line.about].picks
