"""A rule as an English sentence, in the words of the editor."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from loyalbell.core.history.money import say_money
from loyalbell.core.history.snapshot import Catalogue
from loyalbell.core.segments.model import (
    AfterJoining,
    AnswersCondition,
    AppointmentsCondition,
    BandCondition,
    BeforeLastDays,
    BetweenDates,
    BetweenDaysAgo,
    Condition,
    ConsentCondition,
    DateCondition,
    EventsCondition,
    Ever,
    FieldCondition,
    GapCondition,
    Group,
    ItemsCondition,
    LastDays,
    MembershipCondition,
    MessagesCondition,
    OffersCondition,
    OrdersCondition,
    PeopleCondition,
    Period,
    PersonCondition,
    ReachCondition,
    Rule,
    ScoresCondition,
    SegmentCondition,
    SequencesCondition,
    SinceEntering,
    TagCondition,
    TopCondition,
    VisitsCondition,
)

MATCH_WORDS = {"all": "meet all of these", "any": "meet any of these", "none": "meet none of these"}
MONTHS = "January February March April May June July August September October November December".split()
ACTS = {
    "received": "received",
    "opened": "opened",
    "clicked": "pressed something in",
    "replied": "replied to",
    "refused": "unsubscribed in",
}
PERSON_FACTS = {
    "city": "city",
    "region": "region",
    "postal_code": "postal code",
    "language": "language",
    "first_name": "first name",
    "last_name": "last name",
    "email": "email",
    "phone": "mobile phone",
}
GONE = "something that is no longer on file"


@dataclass(frozen=True)
class Saying:
    """What the ids in a rule are called: the catalogue, and segments and messages by id."""

    currency: str = "USD"
    catalogue: Catalogue = field(default_factory=Catalogue)
    segments: Mapping[int, str] = field(default_factory=dict)
    messages: Mapping[int, str] = field(default_factory=dict)
    offers: Mapping[int, str] = field(default_factory=dict)
    sequences: Mapping[int, str] = field(default_factory=dict)


def say_period(period: Period) -> str:
    if isinstance(period, LastDays):
        return "today" if period.days == 1 else f"in the last {period.days} days"
    if isinstance(period, BeforeLastDays):
        return "before today" if period.days == 1 else f"more than {period.days} days ago"
    if isinstance(period, BetweenDaysAgo):
        if period.least == period.most:
            return "today" if period.least == 0 else f"exactly {period.least} days ago"
        return f"{period.least} to {period.most} days ago"
    if isinstance(period, BetweenDates):
        return f"from {period.first.day} {period.first:%b %Y} to {period.last.day} {period.last:%b %Y}"
    if isinstance(period, AfterJoining):
        return f"in their first {period.days} days"
    if isinstance(period, SinceEntering):
        return "since they came into the sequence"
    return "ever"


def _when(line: Any) -> str:
    """The period; a first or a last of all time is said without one."""
    ever = isinstance(line.period, Ever) and getattr(line, "measure", "count") in ("first", "last")
    return "" if ever else say_period(line.period)


def say_times(count: int) -> str:
    return {1: "once", 2: "twice"}.get(count, f"{count:,} times")


def says_never(line: Any) -> bool:
    """Whether the line means that nothing happened at all."""
    return bool(line.value == 0 and line.comparison in ("exactly", "at most"))


def say_measure(line: Any, saying: Saying) -> str:
    """``at least twice``, ``at least $100.00 in all``, ``last at least 60 days ago``; empty for never."""
    measure = getattr(line, "measure", "count")
    if measure == "count":
        return "" if says_never(line) else f"{line.comparison} {say_times(line.value)}"
    if measure == "sum":
        return f"for {line.comparison} {say_money(line.value, saying.currency)}"
    if measure == "average":
        return f"for {line.comparison} {say_money(line.value, saying.currency)} on average"
    if measure == "quantity":
        return f"{line.comparison} {line.value:,} of them"
    if measure == "days":
        return f"on {line.comparison} {line.value:,} different {'day' if line.value == 1 else 'days'}"
    ago = "today" if line.value == 0 else "yesterday" if line.value == 1 else f"{line.value:,} days ago"
    return f"{'first' if measure == 'first' else 'last'} {line.comparison} {ago}"


def _named(names: Mapping[int, str], at: int | None, before: str) -> str:
    return "" if at is None else f"{before} {names.get(at, GONE)}"


def _join(*parts: str) -> str:
    return " ".join(part for part in parts if part)


def say_act(line: OrdersCondition) -> str:
    """``ordered``, ``not ordered`` or ``spent``."""
    if line.measure == "sum":
        return "spent"
    return "not ordered" if line.measure == "count" and says_never(line) else "ordered"


def _orders(line: OrdersCondition, saying: Saying) -> str:
    amount = (
        say_measure(line, saying).removeprefix("for ") if line.measure == "sum" else say_measure(line, saying)
    )
    nth = f"their {ordinal(line.nth)} order" if line.nth else ""
    least = f"for {say_money(line.least, saying.currency)} or more each time" if line.least else ""
    places = saying.catalogue
    return _join(
        "have", say_act(line), nth, amount, least, _named(places.departments, line.department, "in"),
        _named(places.locations, line.location, "at"), _when(line),
    )  # fmt: skip


def ordinal(number: int) -> str:
    ending = "th" if 10 <= number % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    return f"{number}{ending}"


def _items(line: ItemsCondition, saying: Saying) -> str:
    names = {at: name for at, (name, _, _) in saying.catalogue.items.items()}
    what = names.get(line.item, GONE) if line.item is not None else ""
    if line.category is not None:
        what = _join(what, "anything of", line.category) if not what else f"{what} ({line.category})"
    bought = "have not bought" if line.measure == "count" and says_never(line) else "have bought"
    department = _named(saying.catalogue.departments, line.department, "in")
    return _join(bought, what or "anything", say_measure(line, saying), department, _when(line))


def _visits(line: VisitsCondition, saying: Saying) -> str:
    came = "have not come in" if line.measure == "count" and says_never(line) else "have come in"
    places = saying.catalogue
    return _join(
        came, _named(places.departments, line.department, "to"), _named(places.locations, line.location, "at"),
        say_measure(line, saying), _when(line),
    )  # fmt: skip


def _appointments(line: AppointmentsCondition, saying: Saying) -> str:
    names = {at: name for at, (name, _, _) in saying.catalogue.items.items()}
    what = _join(_named(saying.catalogue.departments, line.department, "in"), _named(names, line.item, "for"))
    never = says_never(line)
    if line.state == "ahead":
        when = f"within {line.ahead} days" if line.ahead else "ahead"
        if never:
            return _join("have nothing booked", what, when)
        return _join(
            "have",
            "an appointment" if line.value == 1 else f"{line.comparison} {line.value} appointments",
            what,
            when,
        )
    verb = {
        "booked": "have open",
        "kept": "have kept",
        "cancelled": "have cancelled",
        "missed": "have missed",
    }[line.state]
    if never:
        return _join(verb.replace("have", "have not"), "an appointment", what, _when(line))
    return _join(verb, "an appointment", what, f"{line.comparison} {say_times(line.value)}", _when(line))


def _events(line: EventsCondition, saying: Saying) -> str:
    where = (
        f"with {line.property} “{line.holds}”"
        if line.property and line.holds
        else f"with {line.property}"
        if line.property
        else ""
    )
    said = "have not" if line.measure == "count" and says_never(line) else "have"
    return _join(said, f"“{line.kind}”", where, say_measure(line, saying), _when(line))


def _messages(line: MessagesCondition, saying: Saying) -> str:
    what = (
        f"“{saying.messages.get(line.message, GONE)}”"
        if line.message is not None
        else f"any {line.channel or 'message'}"
    )
    if line.message is not None and line.channel:
        what += f" by {line.channel}"
    said = "have not" if says_never(line) else "have"
    return _join(said, ACTS[line.act], what, say_measure(line, saying), _when(line))


def _answers(line: AnswersCondition, saying: Saying) -> str:
    what = {"review": "a review", "survey": "a survey’s question", "any": "us"}[line.kind]
    verb = "have given" if line.kind == "review" else "have answered"
    if says_never(line):
        verb = verb.replace("have", "have not")
    score = "" if (line.low, line.high) == (0, 100) else f"with {line.low} to {line.high} % of the best score"
    return _join(verb, what, score, say_measure(line, saying), _when(line))


def _reach(line: ReachCondition, saying: Saying) -> str:
    return f"can{'' if line.can else 'not'} be reached by {line.channel}"


def _consent(line: ConsentCondition, saying: Saying) -> str:
    said = {
        "agreed": "agreed to",
        "waiting": "were asked to confirm",
        "refused": "refused",
        "never asked": "were never asked about",
    }
    return f"{said[line.state]} {line.channel}"


def _tag(line: TagCondition, saying: Saying) -> str:
    return f"{'carry' if line.has else 'do not carry'} the tag {_named(saying.catalogue.tags, line.tag, '').strip()}"


def _field(line: FieldCondition, saying: Saying) -> str:
    name = saying.catalogue.fields.get(line.field, (GONE, ""))[0]
    if line.comparison in ("in the next days", "in the last days"):
        return f"have {name} {line.comparison.removesuffix(' days')} {line.value} days"
    return _join(f"have {name} that {line.comparison}", line.value if "known" not in line.comparison else "")


def _date(line: DateCondition, saying: Saying) -> str:
    which = {"birthday": "their birthday", "companion": "a companion’s birthday"}.get(line.which)
    if which is None:
        kind = line.which.removeprefix("companion:")
        which = f"a {kind}’s birthday" if kind != line.which else f"their {line.which}"
    if "known" in line.comparison:
        return f"have {which} that {line.comparison}"
    if line.comparison == "month":
        return f"have {which} in {MONTHS[line.value - 1] if 1 <= line.value <= 12 else 'no month'}"
    if line.comparison == "within":
        return f"have {which} today or in the next {line.value} days" if line.value else f"have {which} today"
    if line.value == 0:
        return f"have {which} today"
    return (
        f"have {which} in exactly {line.value} days"
        if line.comparison == "in days"
        else f"had {which} exactly {line.value} days ago"
    )


def _membership(line: MembershipCondition, saying: Saying) -> str:
    what = _join(line.term or "", f"membership {line.plan}" if line.plan else "membership")
    if line.state == "none":
        return f"have no {what} that runs"
    if line.state == "has ended":
        return f"have had a {what} that has ended"
    if line.state == "renews in":
        return f"have a {what} that renews in {line.comparison} {line.days} days"
    return f"have a {what} that runs"


def _band(line: BandCondition, saying: Saying) -> str:
    return _join("are", " or ".join(line.bands), _named(saying.catalogue.departments, line.department, "in"))


def _gap(line: GapCondition, saying: Saying) -> str:
    verb = "come in" if line.what == "visits" else "order"
    often = f"{line.low} days" if line.low == line.high else f"{line.low} to {line.high} days"
    place = _named(saying.catalogue.departments, line.department, "in")
    return _join("usually", verb, place, f"every {often} (known from {line.fewest} {line.what} or more)")


def _sequences(line: SequencesCondition, saying: Saying) -> str:
    which = "any sequence" if line.sequence is None else f"“{saying.sequences.get(line.sequence, GONE)}”"
    verbs = {
        "under way": ("are on their way through", "are not on their way through"),
        "came in": ("came into", "did not come into"),
        "finished": ("came to the end of", "did not come to the end of"),
        "left": ("left early", "did not leave early"),
        "held back": ("were held back from", "were not held back from"),
    }
    verb = verbs[line.state][0 if line.has else 1]
    if line.state == "under way":
        return _join(verb, which, "now")
    return _join(verb, which, f"in the last {line.days} days" if line.days else "ever")


def _offers(line: OffersCondition, saying: Saying) -> str:
    what = (
        f"a code of “{saying.offers.get(line.offer, GONE)}”"
        if line.offer is not None
        else "a code of any offer"
    )
    verbs = {
        "hold": ("hold", "do not hold"),
        "were given": ("were given", "were not given"),
        "used": ("used", "did not use"),
        "let run out": ("let run out", "did not let run out"),
    }
    verb = verbs[line.state][0 if line.has else 1]
    if line.state == "hold":
        return _join(verb, what, f"that ends within {line.days} days" if line.days else "now")
    return _join(verb, what, f"in the last {line.days} days" if line.days else "ever")


def _top(line: TopCondition, saying: Saying) -> str:
    when = f"in the last {line.days} days" if line.days else "ever"
    department = _named(saying.catalogue.departments, line.department, "in")
    return _join(f"are among the {line.percent:g} % who spent most", department, when)


def _scores(line: ScoresCondition, saying: Saying) -> str:
    cells = ", ".join(f"{recency} and {frequency}" for recency, frequency in line.cells[:6])
    more = f" and {len(line.cells) - 6} more" if len(line.cells) > 6 else ""
    return f"score {cells}{more} of 5 for how lately and how often they bought"


def _person(line: PersonCondition, saying: Saying) -> str:
    if line.fact == "since":
        return f"have been customers for {line.comparison} {line.value} days"
    name = PERSON_FACTS[line.fact]
    return _join(
        f"have {'an' if name[0] in 'aeiou' else 'a'} {name} that {line.comparison}",
        line.value if "known" not in line.comparison else "",
    )


def _segment(line: SegmentCondition, saying: Saying) -> str:
    name = saying.segments.get(line.segment, GONE)
    return f"are {'' if line.within else 'not '}in the segment “{name}”"


def _people(line: PeopleCondition, saying: Saying) -> str:
    return f"are on a fixed list of {len(line.ids):,}"


SAYS: dict[str, Callable[[Any, Saying], str]] = {
    "orders": _orders, "items": _items, "visits": _visits, "appointments": _appointments, "events": _events,
    "messages": _messages, "answers": _answers, "reach": _reach, "consent": _consent, "tag": _tag, "field": _field,
    "date": _date, "membership": _membership, "band": _band, "gap": _gap, "offers": _offers, "sequences": _sequences, "top": _top, "scores": _scores, "person": _person,
    "segment": _segment, "people": _people,
}  # fmt: skip


def say_condition(line: Condition, saying: Saying) -> str:
    return SAYS[line.about](line, saying)


def say_group(group: Group, saying: Saying) -> str:
    joiner = " and " if group.match == "all" else " or "
    said = [
        f"({say_group(line, saying)})" if isinstance(line, Group) else say_condition(line, saying)
        for line in group.lines
    ]
    body = joiner.join(said) or "are on file"
    return f"meet none of these: {body}" if group.match == "none" and said else body


def say_rule(rule: Rule, saying: Saying) -> str:
    """The whole rule: ``Customers who have ordered at least once ever and ...``."""
    return f"Customers who {say_group(rule.root, saying)}"
