"""For how many people a field is missing: of all fields, of some, and of a part of the people."""

from unittest.mock import patch

from loyalbell.services.messages.field_coverage import Missing, missing_everywhere
from tests.support import ApplicationCase


class FieldCoverage(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        for number in range(40):
            named = {"first_name": f"Ann{number}"} if number % 4 else {}
            placed = {"city": "Otterby"} if number % 2 else {}
            person = self.add_person(f"p{number}@example.com", **named, **placed)
            if number % 8 == 0:
                self.add_order(person, 9)

    def test_some_fields_are_as_among_all(self) -> None:
        every = missing_everywhere(self.application)
        for asked in ("first_name", "city", "last_name", "last_order_on", "last_item"):
            some = missing_everywhere(self.application, frozenset({asked}))
            self.assertEqual((some.of(asked), some.people), (every.of(asked), every.people), asked)
        self.assertEqual((every.of("first_name"), every.of("city"), every.of("last_name")), (10, 20, 40))

    def test_of_many_people_a_part_is_looked_at(self) -> None:
        with patch("loyalbell.services.messages.field_coverage.LOOKED_AT_OF_ALL", 10):
            found = missing_everywhere(self.application)
        self.assertEqual((found.of("first_name"), found.people), (40, 40))  # every fourth, all without
        self.assertTrue(found.is_estimate)
        self.assertFalse(missing_everywhere(self.application, frozenset({"city"})).is_estimate)

    def test_what_is_reckoned_is_said_to_two_figures(self) -> None:
        self.assertEqual(Missing({"city": 1_001}, 100_333, 3_000).of("city"), 33_000)
        self.assertEqual(Missing({"city": 1}, 100_333, 3_000).of("city"), 33)
        self.assertEqual(Missing({"city": 0}, 100_333, 3_000).of("city"), 0)
        self.assertEqual(Missing({"city": 1_001}, 3_000, 3_000).of("city"), 1_001)
        self.assertEqual(Missing({}, 100_333, 3_000).of("city"), 100_333)

    def test_one_question_does_not_answer_another(self) -> None:
        self.assertEqual(missing_everywhere(self.application, frozenset({"city"})).of("city"), 20)
        ordered = missing_everywhere(self.application, frozenset({"last_order_on"}))
        self.assertEqual(ordered.of("last_order_on"), 35)
