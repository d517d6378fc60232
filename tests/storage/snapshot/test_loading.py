"""The ledger and the starters against hand-written SQL on the same demo data."""

import shutil
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.model import Group, Rule
from loyalbell.demo.build import NOW, build_demo
from loyalbell.demo.messages import lapsed
from loyalbell.web.segments.line_suggestions import STARTERS

STANDS = "cancelled_at IS NULL AND NOT (refunded_minor > 0 AND refunded_minor >= total_minor)"
# the first second of the local day 59 days before 12 May 2026 (14 March) and 364 days before (13 May 2025),
# New York
SIXTY, YEAR = (
    int(datetime(2026, 3, 14, 4, tzinfo=UTC).timestamp()),
    int(datetime(2025, 5, 13, 4, tzinfo=UTC).timestamp()),
)
REACH = (
    "SELECT id FROM person WHERE {address} IS NOT NULL AND 'agreed' = (SELECT state FROM consent_entry c"
    " WHERE c.person_id = person.id AND c.channel = '{channel}' ORDER BY at DESC, id DESC LIMIT 1) AND NOT"
    " EXISTS (SELECT 1 FROM suppression s WHERE s.channel = '{channel}' AND lifted_at IS NULL AND"
    " (s.person_id = person.id OR s.address = {address}))"
)
ON_FILE = f"joined_at <= {int(NOW.timestamp())} AND closed_at IS NULL AND deceased_at IS NULL"
ORDERED = f"SELECT person_id FROM orders WHERE {STANDS}"


def start(days_ago: int) -> int:
    """The first second of a local day before 12 May 2026, in New York."""
    day = datetime(2026, 5, 12, tzinfo=ZoneInfo("America/New_York")) - timedelta(days=days_ago)
    return int(day.timestamp())


AT = int(NOW.timestamp())
LINES = (
    "SELECT person_id FROM order_line JOIN orders o ON o.id = order_id WHERE"
    f" {STANDS.replace('total_minor', 'o.total_minor')}"
)
CAME = f"""SELECT person_id, placed_at AS at FROM orders WHERE in_person AND {STANDS} UNION ALL
  SELECT person_id, at FROM visit WHERE at <= {AT} UNION ALL
  SELECT person_id, starts_at FROM appointment WHERE state = 'kept' AND starts_at <= {AT}
  AND settled_at <= {AT}"""
AHEAD = f"SELECT person_id FROM appointment WHERE state = 'booked' AND starts_at > {AT}"
RUNS = (
    "SELECT person_id FROM membership WHERE started_on <= '2026-05-12' AND (ended_on IS NULL OR ended_on >="
    " '2026-05-12')"
)
SENT = (
    "SELECT person_id FROM delivery WHERE state IN ('sent', 'unsure') AND channel = '{channel}' AND sent_at"
    " >= {since}"
)
DID = (
    "SELECT person_id FROM delivery_event e JOIN delivery t ON t.id = delivery_id WHERE e.kind = '{act}' AND"
    " channel = '{channel}' AND at >= {since}"
)
SAID = "SELECT person_id FROM consent_entry c WHERE channel = '{channel}'"
QUERIES = {
    "ordered": ORDERED,
    "not-ordered": f"SELECT id FROM person WHERE id NOT IN ({ORDERED} AND placed_at >= {SIXTY})",
    "often": f"{ORDERED} AND placed_at >= {YEAR} GROUP BY 1 HAVING count(*) >= 3",
    "once": f"{ORDERED} GROUP BY 1 HAVING count(*) = 1",
    "spent": (
        f"{ORDERED} AND placed_at >= {YEAR} GROUP BY 1 HAVING sum(total_minor - refunded_minor) >= 10000"
    ),
    "long-ago": f"{ORDERED} AND placed_at < {YEAR}",
    "reach-email": REACH.format(address="email", channel="email"),
    "reach-text": REACH.format(address="phone", channel="text"),
    "no-reach": (
        "SELECT id FROM person WHERE id NOT IN (" + REACH.format(address="email", channel="email") + ")"
    ),
    "last-order": f"{ORDERED} GROUP BY 1 HAVING max(placed_at) < {start(59)}",
    "average": f"{ORDERED} GROUP BY 1 HAVING sum(total_minor - refunded_minor) >= 5000 * count(*)",
    "nth": (
        "SELECT person_id FROM (SELECT person_id, placed_at, row_number() OVER (PARTITION BY person_id ORDER"
        f" BY placed_at, id) n FROM orders WHERE {STANDS}) WHERE n = 2 AND placed_at >= {start(6)}"
    ),
    "bought": LINES,
    "not-bought": f"SELECT id FROM person WHERE id NOT IN ({LINES} AND placed_at >= {start(89)})",
    "came": f"SELECT person_id FROM ({CAME}) WHERE at >= {start(29)}",
    "seen": (
        f"SELECT person_id FROM ({CAME}) GROUP BY 1 HAVING max(at) >= {start(365)} AND max(at) < {start(364)}"
    ),
    "nothing-booked": f"SELECT id FROM person WHERE id NOT IN ({AHEAD})",
    "booked": f"{AHEAD} AND starts_at < {start(-8)}",
    "missed": (
        f"SELECT person_id FROM appointment WHERE state = 'missed' AND starts_at >= {start(29)} AND starts_at"
        f" <= {AT}"
    ),
    "birthday": "SELECT id FROM person WHERE birthday_month = 5 AND birthday_day = 26",
    "birthday-soon": "SELECT id FROM person WHERE birthday_month = 5 AND birthday_day BETWEEN 12 AND 19",
    "companion": "SELECT person_id FROM companion WHERE birthday_month = 5 AND birthday_day = 26",
    "renews": f"{RUNS} AND term = 'yearly' AND renews_on = '2026-05-15'",
    "member": RUNS,
    "top": (
        "SELECT person_id FROM (SELECT person_id, sum(total_minor - refunded_minor) s FROM orders WHERE"
        f" {STANDS} AND person_id IN (SELECT id FROM person WHERE {ON_FILE}) GROUP BY 1 ORDER BY s DESC,"
        f" person_id LIMIT (SELECT (count(DISTINCT person_id) + 4) / 5 FROM orders WHERE {STANDS} AND"
        f" person_id IN (SELECT id FROM person WHERE {ON_FILE})))"
    ),
    "opened": DID.format(act="opened", channel="email", since=start(89)),
    "clicked": DID.format(act="clicked", channel="text", since=start(59)),
    "received": SENT.format(channel="email", since=start(503)),
    "never-reacted": (
        "SELECT id FROM person WHERE id NOT IN"
        f" ({DID.format(act='opened', channel='email', since=start(503))})"
    ),
    "review": "SELECT person_id FROM answer WHERE kind = 'review' AND score * 5 >= best * 4",
    "agreed": (
        SAID.format(channel="email")
        + " AND state = 'agreed' AND NOT EXISTS (SELECT 1 FROM consent_entry d WHERE d.person_id ="
        " c.person_id AND d.channel = c.channel AND (d.at, d.id) > (c.at, c.id))"
    ),
    "asked": f"SELECT id FROM person WHERE id NOT IN ({SAID.format(channel='text')})",
    "since": (
        "SELECT id FROM person WHERE min(joined_at, coalesce((SELECT min(placed_at) FROM orders WHERE"
        f" person_id = person.id), joined_at)) < {start(59)}"
    ),
    "city": "SELECT id FROM person WHERE city IS NOT NULL",
    "between": f"{ORDERED} AND placed_at >= {start(90)} AND placed_at < {start(59)}",
}


class AgainstSql(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        cls.application = build_demo(cls.folder, people=300)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.application.close()
        shutil.rmtree(cls.folder, ignore_errors=True)

    def ids(self, rule: Rule) -> set[int]:
        snapshot = self.application.snapshot()
        return {int(i) for i in snapshot.people.ids[evaluate(rule, snapshot, NOW)]}

    def by_sql(self, query: str) -> set[int]:
        with self.application.database.reading() as session:
            on_file = f"SELECT id FROM person WHERE id IN ({query}) AND {ON_FILE}"
            return {row[0] for row in session.connection().exec_driver_sql(on_file)}

    def test_every_starter(self) -> None:
        # these have no short SQL; tests/core/rhythm and test_every_condition judge them person by person
        self.assertEqual(
            {key for key, _, _ in STARTERS}
            - {
                "band",
                "gap",
                "gap-visits",
                "offers",
                "offers-ending",
                "offers-out",
                "sequences",
                "sequences-had",
            },
            set(QUERIES),
        )
        found = 0
        for key, words, condition in STARTERS:
            with self.subTest(words):
                if key in QUERIES:
                    expected = self.by_sql(QUERIES[key])
                    found += bool(expected)
                    self.assertEqual(self.ids(Rule(root=Group(lines=[condition]))), expected)
        self.assertGreater(found, len(QUERIES) - 6)  # a few mean days on which nobody happens to fall

    def test_lapsed(self) -> None:
        query = f"{ORDERED} AND person_id NOT IN ({ORDERED} AND placed_at >= {SIXTY})"
        self.assertEqual(self.ids(lapsed(60)), self.by_sql(query))

    def test_the_demo_is_the_same_every_time(self) -> None:
        with tempfile.TemporaryDirectory() as other:
            application = build_demo(Path(other), people=300)
            self.assertEqual(
                application.snapshot().orders.money.sum(), self.application.snapshot().orders.money.sum()
            )
            self.assertEqual(len(application.snapshot().orders), len(self.application.snapshot().orders))
            application.close()
