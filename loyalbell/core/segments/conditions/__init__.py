"""Everything that can be asked of somebody, a file for each condition.

This is the only place that lists them.
"""

from typing import Any

from loyalbell.core.segments.conditions import (
    answers,
    appointments,
    band,
    consent,
    date,
    events,
    field,
    gap,
    items,
    membership,
    messages,
    offers,
    orders,
    people,
    person,
    reach,
    scores,
    segment,
    sequences,
    tag,
    top,
    visits,
)
from loyalbell.core.segments.conditions.answers import AnswersCondition
from loyalbell.core.segments.conditions.appointments import AppointmentsCondition
from loyalbell.core.segments.conditions.band import BandCondition
from loyalbell.core.segments.conditions.base import Amount, Comparison, ConditionType, ShortText
from loyalbell.core.segments.conditions.consent import ConsentCondition
from loyalbell.core.segments.conditions.date import DateCondition
from loyalbell.core.segments.conditions.events import EventsCondition
from loyalbell.core.segments.conditions.field import FieldCondition
from loyalbell.core.segments.conditions.gap import GapCondition
from loyalbell.core.segments.conditions.items import ItemsCondition
from loyalbell.core.segments.conditions.membership import MembershipCondition
from loyalbell.core.segments.conditions.messages import MessagesCondition
from loyalbell.core.segments.conditions.offers import OffersCondition
from loyalbell.core.segments.conditions.orders import OrdersCondition
from loyalbell.core.segments.conditions.people import PeopleCondition
from loyalbell.core.segments.conditions.person import PersonCondition
from loyalbell.core.segments.conditions.reach import ReachCondition
from loyalbell.core.segments.conditions.scores import ScoresCondition
from loyalbell.core.segments.conditions.segment import SegmentCondition
from loyalbell.core.segments.conditions.sequences import SequencesCondition
from loyalbell.core.segments.conditions.tag import TagCondition
from loyalbell.core.segments.conditions.top import TopCondition
from loyalbell.core.segments.conditions.visits import VisitsCondition
from loyalbell.core.segments.conditions.wording import Saying

__all__ = [
    "TYPES",
    "Amount",
    "AnswersCondition",
    "AppointmentsCondition",
    "BandCondition",
    "Comparison",
    "Condition",
    "ConditionType",
    "ConsentCondition",
    "DateCondition",
    "EventsCondition",
    "FieldCondition",
    "GapCondition",
    "ItemsCondition",
    "MembershipCondition",
    "MessagesCondition",
    "OffersCondition",
    "OrdersCondition",
    "PeopleCondition",
    "PersonCondition",
    "ReachCondition",
    "Saying",
    "ScoresCondition",
    "SegmentCondition",
    "SequencesCondition",
    "ShortText",
    "TagCondition",
    "TopCondition",
    "VisitsCondition",
    "say_condition",
]

Condition = (
    OrdersCondition
    | ItemsCondition
    | VisitsCondition
    | AppointmentsCondition
    | EventsCondition
    | MessagesCondition
    | AnswersCondition
    | ReachCondition
    | ConsentCondition
    | TagCondition
    | FieldCondition
    | DateCondition
    | MembershipCondition
    | BandCondition
    | GapCondition
    | OffersCondition
    | SequencesCondition
    | TopCondition
    | ScoresCondition
    | PersonCondition
    | PeopleCondition
    | SegmentCondition
)

TYPES: dict[str, ConditionType] = {
    kind.about: kind
    for kind in (
        orders.CONDITION,
        items.CONDITION,
        visits.CONDITION,
        appointments.CONDITION,
        events.CONDITION,
        messages.CONDITION,
        answers.CONDITION,
        reach.CONDITION,
        consent.CONDITION,
        tag.CONDITION,
        field.CONDITION,
        date.CONDITION,
        membership.CONDITION,
        band.CONDITION,
        gap.CONDITION,
        offers.CONDITION,
        sequences.CONDITION,
        top.CONDITION,
        scores.CONDITION,
        person.CONDITION,
        people.CONDITION,
    )
}
"""By the word of a condition all that is known of it.

``segment`` alone is asked where the saved rules are known.
"""


def say_condition(line: Any, saying: Saying) -> str:
    """A condition in words, after *Customers who*."""
    return (
        segment.say(line, saying)
        if isinstance(line, SegmentCondition)
        else TYPES[line.about].say(line, saying)
    )
