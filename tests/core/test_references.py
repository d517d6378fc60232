"""Whatever a document can name is found, however deep it stands."""

import typing
import unittest

from pydantic import BaseModel

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.core.messages.content import MessageContent
from loyalbell.core.offers.terms import Terms
from loyalbell.core.references import BY_FIELD, Kind, Reference, references_of
from loyalbell.core.segments.model import Rule, read_rule
from loyalbell.core.sequences.plan import Plan, read_plan

DOCUMENTS = (Rule, MessageContent, Plan, CampaignPlan, Terms)
NO_NAMES = frozenset(
    "ahead amount batch cells days every fewest height held_back high ids least low minutes most nth patience"
    " percent share times uses value weekdays width".split()
)
"""Fields that hold a number and name nothing."""


def models_within(model: type[BaseModel], seen: set[type[BaseModel]]) -> set[type[BaseModel]]:
    if model not in seen:
        seen.add(model)
        for field in model.model_fields.values():
            for part in _parts(field.annotation):
                models_within(part, seen)
    return seen


def _parts(annotation: typing.Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [part for one in typing.get_args(annotation) for part in _parts(one)]


def holds_numbers(annotation: typing.Any) -> bool:
    return annotation is int or any(holds_numbers(one) for one in typing.get_args(annotation))


class ReferencesTest(unittest.TestCase):
    def test_every_number_in_a_document_is_said_to_name_something_or_nothing(self) -> None:
        seen: set[type[BaseModel]] = set()
        for document in DOCUMENTS:
            models_within(document, seen)
        self.assertGreater(len(seen), 40)
        unsaid = {
            f"{model.__name__}.{name}"
            for model in seen
            for name, field in model.model_fields.items()
            if holds_numbers(field.annotation) and name not in BY_FIELD and name not in NO_NAMES
        }
        self.assertEqual(unsaid, set())

    def test_deep_in_a_plan(self) -> None:
        line = {"about": "segment", "segment": 7}
        field = {"about": "field", "field": 4, "comparison": "is known"}
        plan = read_plan(
            {
                "start": {"on": "date", "which": "adoption day"},
                "only": {"root": {"lines": [{"match": "any", "lines": [line]}]}},
                "stops": [{"what": "tag", "tag": 3}],
                "steps": [
                    {
                        "id": "a",
                        "do": "fork",
                        "arms": [
                            {
                                "rule": {"root": {"lines": [field]}},
                                "steps": [{"id": "b", "do": "message", "message": 12}],
                            },
                        ],
                        "otherwise": [{"id": "c", "do": "offer", "offer": 5}],
                    },
                    {"id": "d", "do": "hand off", "list": "Postcards"},
                    {"id": "e", "do": "bring", "sequence": 9},
                ],
            }
        )
        self.assertEqual(
            references_of(plan),
            {
                Reference(Kind.YEARLY_DATE, "adoption day"),
                Reference(Kind.SEGMENT, "7"),
                Reference(Kind.TAG, "3"),
                Reference(Kind.CUSTOM_FIELD, "4"),
                Reference(Kind.MESSAGE, "12"),
                Reference(Kind.OFFER, "5"),
                Reference(Kind.HAND_OFF_LIST, "Postcards"),
                Reference(Kind.SEQUENCE, "9"),
            },
        )

    def test_tokens_in_texts(self) -> None:
        content = MessageContent.model_validate(
            {
                "writings": [
                    {
                        "channel": "email",
                        "subject": "{{ field_3 | default: 'x' }}",
                        "blocks": [
                            {"kind": "text", "text": "Use {{ offer_2.code }} by your {{ birthday }}."}
                        ],
                    }
                ]
            }
        )
        self.assertEqual(
            references_of(content),
            {
                Reference(Kind.CUSTOM_FIELD, "3"),
                Reference(Kind.OFFER, "2"),
                Reference(Kind.YEARLY_DATE, "birthday"),
            },
        )

    def test_the_list_of_numbers_that_name_nothing_holds_no_more_than_there_are(self) -> None:
        seen: set[type[BaseModel]] = set()
        for document in DOCUMENTS:
            models_within(document, seen)
        self.assertEqual(NO_NAMES - {name for model in seen for name in model.model_fields}, set())

    def test_a_number_that_is_compared_with_names_nothing(self) -> None:
        rule = read_rule({"version": 1, "root": {"lines": [{"about": "orders", "value": 3}]}})
        self.assertEqual(references_of(rule), frozenset())
