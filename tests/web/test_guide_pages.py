"""The guide of a new shop: each step is read off the book, and its acts make what they say."""

import io
import re
import time
import unittest

from sqlalchemy import select

from loyalbell.core.sequences.plan import OnSegment
from loyalbell.services.guide import steps as guide
from loyalbell.services.imports import queries as import_queries
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.storage.schema import Segment, Sequence
from loyalbell.web.app import create_app
from tests.support import ApplicationCase, wait_for
from tests.web.client import PageClient

PEOPLE = "Customer id,First name,Email,Newsletter,Customer since\n" + "".join(
    f"C{at},Ann,a{at}@example.com,yes,2024-01-01\n" for at in range(30)
)
# half of them came on the third of each month until 3 May 2026, half until 3 October 2025
SALES = "Receipt,Date,Customer id,Total\n" + "".join(
    f"R{at}-{month},{2025 + month // 12}-{month % 12 + 1:02}-03,C{at},5.00\n"
    for at in range(30)
    for month in range(17 if at % 2 else 10)
)


class Guide(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.client = PageClient(create_app(self.application))
        self.addCleanup(self.client.close)
        token = self.token_of(self.client.get("/sign-in").text)
        form = {"_csrf": token, "email": "ida@shop.example", "password": "a long password", "next": "/guide"}
        self.token = self.token_of(self.client.post("/sign-in", data=form).text)

    def token_of(self, page: str) -> str:
        found = re.search(r'name="_csrf" value="([^"]+)"', page)
        assert found, page[:300]
        return found[1]

    def done(self) -> set[str]:
        return {step.key for step in guide.steps(self.application) if step.is_done}

    def settled(self) -> None:
        for _ in range(500):
            if not any(
                run.state in ("trying", "running") for run in import_queries.newest_runs(self.application)
            ):
                return
            time.sleep(0.02)
        raise AssertionError("the imports did not end")

    def post(self, path: str, **form: str) -> str:
        return self.client.post(path, data={"_csrf": self.token} | form).url.path

    def test_from_two_files_to_a_win_back(self) -> None:
        self.assertIsNone(guide.found_people(self.application))
        self.assertNotIn("files", self.done())
        files = [
            ("file", (name, io.BytesIO(text.encode())))
            for name, text in (("s.csv", SALES), ("p.csv", PEOPLE))
        ]
        page = self.client.post("/imports", data={"_csrf": self.token, "back": "/guide"}, files=files)
        self.assertEqual(page.url.path, "/guide")
        # customers stand before their orders, in whatever order they were chosen
        self.assertLess(page.text.index("p.csv"), page.text.index("s.csv"))
        self.settled()
        orders, customers = sorted(import_queries.newest_runs(self.application), key=lambda run: run.id)
        self.assertEqual((orders.kind, customers.kind), ("orders", "customers"))
        self.assertEqual(orders.created, 0)  # nobody is on file yet
        self.post(f"/imports/{customers.id}/bring-in")
        self.assertEqual(import_queries.newest_runs(self.application)[0].state, "tried")  # a question is open
        self.post(f"/imports/{customers.id}/answer", since="joined", wording="the card")
        self.settled()
        self.post(f"/imports/{customers.id}/bring-in")
        self.settled()
        # the orders were tried again by themselves, and find their customers now
        wait_for(lambda: "Import 405 orders" in self.client.get(f"/imports/{orders.id}").text)
        self.post(f"/imports/{orders.id}/bring-in")
        self.settled()
        self.assertIn("files", self.done())
        found = guide.found_people(self.application)
        assert found is not None
        self.assertEqual((found.people, found.orders, found.agreed["email"]), (30, 405, 30))
        self.assertEqual(found.past, 15)
        self.assertIn("15 people bought", self.client.get("/guide").text)
        self.assertEqual(self.post("/guide/segment", days="40"), "/segments/1")
        self.assertEqual(self.post("/guide/sequence", days="40"), "/sequences/1")
        self.assertTrue({"segment", "sequence"} <= self.done())
        with self.application.database.reading() as session:
            self.assertEqual(session.scalars(select(Segment.name)).one(), "Away 40 days or longer")
            plan = draft_of(session.scalars(select(Sequence)).one())
        assert isinstance(plan.start, OnSegment)
        self.assertEqual(plan.steps[0].channels, ("email",))  # no text network is set up

    def test_it_can_be_closed_and_opened_again(self) -> None:
        self.assertIn("Go on with getting started", self.client.get("/").text)
        self.post("/guide/close", closed="1")
        self.assertNotIn("Go on with getting started", self.client.get("/").text)
        guide.close(self.application, closed=False)
        self.assertIn("Go on with getting started", self.client.get("/").text)

    def test_a_line_that_is_no_number_of_days(self) -> None:
        for days in ("", "-3", "many", "0", "99999999999"):
            self.assertTrue(self.post("/guide/segment", days=days).startswith("/segments/"))


if __name__ == "__main__":
    unittest.main()
