"""Who qualified: still there when the first message could have come."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.sequences.event_rows import STANDING, ByPerson, EventRows
from loyalbell.services.results import qualified
from tests.services.sequences.test_runner import AFTER_AN_ORDER, DAY, SequenceCase, wait

PEOPLE = 4
rows = st.lists(
    st.tuples(st.integers(0, PEOPLE - 1), st.integers(0, 40), st.one_of(st.none(), st.integers(1, 30))),
    max_size=12,
).map(lambda found: sorted(found, key=lambda row: row[1]))
spans = st.lists(
    st.tuples(st.integers(0, PEOPLE - 1), st.integers(0, 40), st.integers(0, 20)), min_size=1, max_size=8
)


class HappenedTest(unittest.TestCase):
    @given(rows, spans)
    def test_as_asked_of_each_alone(self, happened: list, asked: list) -> None:  # type: ignore[type-arg]
        """``ByPerson.first`` is what the engine asks; voided rows included."""
        person, at = (np.array([row[place] for row in happened], dtype=np.int64) for place in range(2))
        until = np.array(
            [STANDING if row[2] is None else row[1] + row[2] for row in happened], dtype=np.int64
        )
        found = EventRows(person.astype(np.int32), at, np.arange(len(at)), until, at)
        alone = ByPerson(found, PEOPLE)
        who, low, wait_ = (np.array([row[place] for row in asked], dtype=np.int64) for place in range(3))
        got = qualified._happened_between(found, who.astype(np.int32), low, low + wait_)
        expected = [alone.first(one, start, start + more) is not None for one, start, more in asked]
        self.assertEqual(got.tolist(), expected)


class QualifiedTest(SequenceCase):
    def test_whoever_ordered_again_before_the_first_message_was_never_meant(self) -> None:
        people = [self.add_person(f"p{at}@example.com") for at in range(3)]
        plan = {
            "start": AFTER_AN_ORDER,
            "stops": [{"what": "order"}],
            "steps": [wait("w", 5), self.message("m")],
        }
        made = self.ring(plan)
        for person in people:
            self.add_order(person, 0)
        began = int(self.clock.now().timestamp())
        self.walk(3 * DAY)
        self.add_order(people[0], 0)
        self.walk(3 * DAY)
        found = qualified.qualified_for(self.application, ("sequence", made))
        ids = self.application.snapshot().people.ids[found.person].tolist()
        self.assertEqual(sorted(ids), people[1:])
        self.assertEqual({at - began for at in found.at.tolist()}, {5 * 86_400})
        self.assertFalse(found.is_held.any())
