"""The ledger and the starters against hand-written SQL on the same demo data."""

import shutil
import tempfile
import unittest
from datetime import UTC, datetime
from pathlib import Path

from loyalbell.core.segments.evaluate import evaluate
from loyalbell.core.segments.model import Group, Rule
from loyalbell.demo.letters import lapsed
from loyalbell.demo.shop import NOW, build_demo
from loyalbell.web.rule_form import STARTERS

STANDS = "cancelled_at IS NULL AND NOT (refunded_minor > 0 AND refunded_minor >= total_minor)"
# the first second of the local day 59 days before 12 May 2026 (14 March) and 364 days before (13 May 2025), New York
SIXTY, YEAR = (
    int(datetime(2026, 3, 14, 4, tzinfo=UTC).timestamp()),
    int(datetime(2025, 5, 13, 4, tzinfo=UTC).timestamp()),
)
REACH = (
    "SELECT id FROM person WHERE {address} IS NOT NULL AND 'agreed' = (SELECT state FROM consent_entry c WHERE c.person_id = person.id "
    "AND c.channel = '{channel}' ORDER BY at DESC, id DESC LIMIT 1) AND NOT EXISTS (SELECT 1 FROM suppression s "
    "WHERE s.channel = '{channel}' AND lifted_at IS NULL AND (s.person_id = person.id OR s.address = {address}))"
)
ON_FILE = f"joined_at <= {int(NOW.timestamp())} AND closed_at IS NULL AND deceased_at IS NULL"
ORDERED = f"SELECT person_id FROM orders WHERE {STANDS}"
QUERIES = {
    "ordered": ORDERED,
    "not-ordered": f"SELECT id FROM person WHERE id NOT IN ({ORDERED} AND placed_at >= {SIXTY})",
    "often": f"{ORDERED} AND placed_at >= {YEAR} GROUP BY 1 HAVING count(*) >= 3",
    "once": f"{ORDERED} GROUP BY 1 HAVING count(*) = 1",
    "spent": f"{ORDERED} AND placed_at >= {YEAR} GROUP BY 1 HAVING sum(total_minor - refunded_minor) >= 10000",
    "long-ago": f"{ORDERED} AND placed_at < {YEAR}",
    "reach-email": REACH.format(address="email", channel="email"),
    "reach-text": REACH.format(address="phone", channel="text"),
    "no-reach": "SELECT id FROM person WHERE id NOT IN ("
    + REACH.format(address="email", channel="email")
    + ")",
}


class AgainstSql(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        cls.desk = build_demo(cls.folder, people=300)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.desk.close()
        shutil.rmtree(cls.folder, ignore_errors=True)

    def ids(self, rule: Rule) -> set[int]:
        ledger = self.desk.ledger()
        return {int(i) for i in ledger.people.ids[evaluate(rule, ledger, NOW)]}

    def by_sql(self, query: str) -> set[int]:
        with self.desk.book.reading() as session:
            on_file = f"SELECT id FROM person WHERE id IN ({query}) AND {ON_FILE}"
            return {row[0] for row in session.connection().exec_driver_sql(on_file)}

    def test_every_starter(self) -> None:
        self.assertEqual({key for key, _, _ in STARTERS}, set(QUERIES))
        for key, words, condition in STARTERS:
            with self.subTest(words):
                expected = self.by_sql(QUERIES[key])
                self.assertTrue(expected)
                self.assertEqual(self.ids(Rule(root=Group(lines=[condition]))), expected)

    def test_lapsed(self) -> None:
        query = f"{ORDERED} AND person_id NOT IN ({ORDERED} AND placed_at >= {SIXTY})"
        self.assertEqual(self.ids(lapsed(60)), self.by_sql(query))

    def test_the_demo_is_the_same_every_time(self) -> None:
        with tempfile.TemporaryDirectory() as other:
            desk = build_demo(Path(other), people=300)
            self.assertEqual(desk.ledger().orders.money.sum(), self.desk.ledger().orders.money.sum())
            self.assertEqual(len(desk.ledger().orders), len(self.desk.ledger().orders))
            desk.close()
