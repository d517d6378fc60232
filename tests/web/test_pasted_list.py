"""Pasting a list of people: the known found, the unknown shown, consent asked as for any file."""

import re
import time
import unittest

from sqlalchemy import func, select

from loyalbell.services.segments import pasted_list, queries
from loyalbell.storage.schema import ConsentEntry, ImportRun, Person, Segment
from tests.web import test_pages


class PastedLists(test_pages.PagesCase):
    def setUp(self) -> None:
        super().setUp()
        self.csrf = self.sign_in()
        with self.application.database.reading() as session:
            with_both = select(Person).where(Person.email.is_not(None), Person.phone.is_not(None))
            self.one, self.two = session.scalars(with_both.order_by(Person.id).limit(2))

    def post(self, path: str, **form: str) -> str:
        return self.client.post(path, data={"_csrf": self.csrf} | form)

    def test_known_unknown_odd_and_twice(self) -> None:
        text = (
            f"{self.one.email}\nMr Known <{self.two.email.upper()}>; new.face@example.com,\t(212) 555-0199\n"
            f"{self.one.phone}\nOP-00001\nsomething else\n\nnew.face@example.com"
        )
        found = pasted_list.read(self.application, text)
        self.assertEqual(found.known[:2], [self.one.id, self.two.id])
        self.assertEqual(found.unknown, [("email", "new.face@example.com"), ("phone", "+12125550199")])
        self.assertEqual(found.odd, ["something else"])
        self.assertGreaterEqual(found.twice, 2)  # the phone of the first, the new face
        page = self.post("/segments/list", text=text).text
        self.assertIn("Not on file: 2", page)
        self.assertIn("new.face@example.com", page)

    def test_a_fixed_segment_of_the_known(self) -> None:
        text = f"{self.one.email}, {self.two.email}, nobody@example.com"
        page = self.post("/segments/list/keep", text=text, name="Fair visitors")
        segment_id = int(re.search(r"/segments/(\d+)", str(page.url))[1])
        with self.application.database.reading() as session:
            rule = queries.rule_of(session.get_one(Segment, segment_id))
        self.assertEqual(set(rule.root.lines[0].ids), {self.one.id, self.two.id})

    def test_the_unknown_come_in_like_a_file(self) -> None:
        for agreed, expected in (("", 0), ("1", 1)):
            address = f"pasted{agreed}@example.com"
            self.post("/segments/list/unknown", text=address, agreed=agreed)
            with self.application.database.reading() as session:
                run_id = session.scalar(select(func.max(ImportRun.id)))
            page = self.settled(run_id)
            self.assertEqual("Since when have they agreed?" in page, bool(agreed))
            if agreed:
                self.post(f"/imports/{run_id}/answer", since="now", wording="at the fair")
                self.settled(run_id)
            self.post(f"/imports/{run_id}/bring-in")
            self.settled(run_id)
            with self.application.database.reading() as session:
                person = session.scalars(select(Person).where(Person.email == address)).one()
                said = session.scalars(select(ConsentEntry).where(ConsentEntry.person_id == person.id)).all()
            self.assertEqual(
                [(entry.state, entry.wording) for entry in said], [("agreed", "at the fair")] * expected
            )

    def settled(self, run_id: int) -> str:
        for _ in range(300):
            run = self.application.find(ImportRun, run_id)
            if run.state not in ("new", "trying", "running"):
                return self.client.get(f"/imports/{run_id}").text
            time.sleep(0.02)
        raise AssertionError(run.state)

    def test_wrong_input_is_said(self) -> None:
        for path, form, words in (
            ("/segments/list", {"text": " "}, "Paste some"),
            ("/segments/list/keep", {"text": "nobody@example.com", "name": "x"}, "Nobody on this list"),
            ("/segments/list/unknown", {"text": self.one.email}, "Everybody on this list"),
            ("/segments/list", {"text": "a@b.example," * 50_001}, "At most 50,000"),
        ):
            answer = self.post(path, **form)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.text)


if __name__ == "__main__":
    unittest.main()
