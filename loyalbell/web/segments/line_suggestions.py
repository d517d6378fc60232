"""Lines to begin with, in everyday words; what is typed into “add a line” is looked for in these."""

from typing import TYPE_CHECKING

from loyalbell.core.segments.model import (
    AnswersCondition,
    AppointmentsCondition,
    BandCondition,
    BeforeLastDays,
    BetweenDaysAgo,
    Condition,
    ConsentCondition,
    DateCondition,
    EventsCondition,
    FieldCondition,
    GapCondition,
    ItemsCondition,
    LastDays,
    MembershipCondition,
    MessagesCondition,
    OffersCondition,
    OrdersCondition,
    PersonCondition,
    ReachCondition,
    SegmentCondition,
    SequencesCondition,
    TagCondition,
    TopCondition,
    VisitsCondition,
)

if TYPE_CHECKING:
    from loyalbell.web.segments.condition_fields import Offers

LineSuggestion = tuple[str, str, Condition]
NONE = "exactly"
STARTERS: tuple[LineSuggestion, ...] = (
    ("ordered", "have ordered at least once", OrdersCondition()),
    (
        "not-ordered",
        "have not ordered in the last 60 days",
        OrdersCondition(comparison="exactly", value=0, period=LastDays(days=60)),
    ),
    (
        "often",
        "have ordered at least 3 times in the last 365 days",
        OrdersCondition(value=3, period=LastDays(days=365)),
    ),
    ("once", "have ordered exactly once", OrdersCondition(comparison="exactly")),
    (
        "spent",
        "have spent at least 100 in the last 365 days",
        OrdersCondition(measure="sum", value=10_000, period=LastDays(days=365)),
    ),
    ("long-ago", "have ordered more than 365 days ago", OrdersCondition(period=BeforeLastDays(days=365))),
    ("last-order", "last ordered at least 60 days ago", OrdersCondition(measure="last", value=60)),
    ("average", "have ordered for at least 50 on average", OrdersCondition(measure="average", value=5_000)),
    ("nth", "made their second order in the last 7 days", OrdersCondition(nth=2, period=LastDays(days=7))),
    ("bought", "have bought an item, or something of a category", ItemsCondition()),
    (
        "not-bought",
        "have not bought an item in the last 90 days",
        ItemsCondition(comparison="exactly", value=0, period=LastDays(days=90)),
    ),
    (
        "came",
        "have come in (visited) at least once in the last 30 days",
        VisitsCondition(period=LastDays(days=30)),
    ),
    (
        "seen",
        "were last seen exactly 365 days ago: last visit a year ago today",
        VisitsCondition(measure="last", comparison="exactly", value=365),
    ),
    (
        "nothing-booked",
        "have nothing booked: no appointment ahead",
        AppointmentsCondition(comparison="exactly", value=0),
    ),
    ("booked", "have an appointment booked within 7 days", AppointmentsCondition(ahead=7)),
    (
        "missed",
        "have missed an appointment in the last 30 days",
        AppointmentsCondition(state="missed", period=LastDays(days=30)),
    ),
    ("birthday", "have their birthday in exactly 14 days", DateCondition(value=14)),
    (
        "birthday-soon",
        "have their birthday today or in the next 7 days",
        DateCondition(comparison="within", value=7),
    ),
    (
        "companion",
        "have a companion’s (pet’s, child’s) birthday in exactly 14 days",
        DateCondition(which="companion", value=14),
    ),
    (
        "renews",
        "have a yearly membership that renews in exactly 3 days",
        MembershipCondition(state="renews in", term="yearly"),
    ),
    ("member", "have a membership that runs", MembershipCondition()),
    ("band", "are late or quiet against their own rhythm", BandCondition(bands=("late", "quiet"))),
    ("gap", "usually order every 35 to 49 days (come every six weeks, how often, regular)", GapCondition()),
    (
        "gap-visits",
        "usually come in every 35 to 49 days (every six weeks, regular visits)",
        GapCondition(what="visits"),
    ),
    ("offers", "hold a code of an offer (coupon, gift, benefit)", OffersCondition()),
    ("offers-ending", "hold a code that ends within 2 days (expires)", OffersCondition(days=2)),
    ("offers-out", "let a code run out in the last 30 days", OffersCondition(state="let run out", days=30)),
    ("sequences", "are on their way through a sequence (automation, under way)", SequencesCondition()),
    (
        "sequences-had",
        "came into a sequence in the last 30 days",
        SequencesCondition(state="came in", days=30),
    ),
    ("top", "are among the top 20 % who spent most (VIP, best customers)", TopCondition()),
    (
        "opened",
        "have opened an email in the last 90 days",
        MessagesCondition(act="opened", channel="email", period=LastDays(days=90)),
    ),
    (
        "clicked",
        "have clicked (pressed something in) a text in the last 60 days",
        MessagesCondition(act="clicked", channel="text", period=LastDays(days=60)),
    ),
    (
        "received",
        "have received at least one email in the last 504 days (72 weeks)",
        MessagesCondition(channel="email", period=LastDays(days=504)),
    ),
    (
        "never-reacted",
        "have not opened any email in the last 504 days (72 weeks)",
        MessagesCondition(
            act="opened", channel="email", comparison="exactly", value=0, period=LastDays(days=504)
        ),
    ),
    (
        "review",
        "have given a review with 80 to 100 % of the best score",
        AnswersCondition(kind="review", low=80),
    ),
    ("reach-email", "can be reached by email", ReachCondition(channel="email")),
    ("reach-text", "can be reached by text", ReachCondition(channel="text")),
    ("no-reach", "cannot be reached by email", ReachCondition(channel="email", can=False)),
    ("agreed", "agreed to email", ConsentCondition()),
    ("asked", "were never asked about texts", ConsentCondition(channel="text", state="never asked")),
    (
        "since",
        "have been customers for at least 60 days",
        PersonCondition(fact="since", comparison="at least", value="60"),
    ),
    ("city", "live in a city, region or postal code", PersonCondition(fact="city", comparison="is known")),
    ("between", "have ordered 60 to 90 days ago", OrdersCondition(period=BetweenDaysAgo(least=60, most=90))),
)


def line_suggestions(offers: "Offers") -> tuple[LineSuggestion, ...]:
    """All of them, and those that need something of this shop: tags, fields, events, segments."""
    found = list(STARTERS)
    found += [(f"tag-{at}", f"carry the tag {name}", TagCondition(tag=int(at))) for at, name in offers.tags]
    found += [
        (f"field-{at}", f"have {name} known (your field)", FieldCondition(field=int(at)))
        for at, name in offers.fields
    ]
    found += [
        (f"event-{at}", f"have “{name}” (event)", EventsCondition(kind=name))
        for at, (name, _) in enumerate(offers.events)
    ]
    found += [
        (f"date-{at}", f"have {words} in exactly 14 days", DateCondition(which=which, value=14))
        for at, (which, words) in enumerate(offers.dates)
        if which not in ("birthday", "companion")
    ]
    found += [
        (f"segment-{at}", f"are in the segment “{name}”", SegmentCondition(segment=int(at)))
        for at, name in offers.segments
    ]
    return tuple(found)
