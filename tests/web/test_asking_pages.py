"""What customers are asked: settled by the shop, answered on public pages, kept once confirmed."""

import re
import unittest

from sqlalchemy import select

from loyalbell.services.customers import asking
from loyalbell.storage.schema import (
    ConsentEntry,
    CustomField,
    FieldValue,
    Person,
    Preference,
    SignUp,
    YearlyDate,
)
from tests.web import test_pages


class Asking(test_pages.PagesCase):
    def setUp(self) -> None:
        super().setUp()
        self.csrf = self.sign_in()

    def field(self, name: str) -> CustomField:
        with self.application.database.reading() as session:
            return session.scalars(select(CustomField).where(CustomField.name == name)).one()

    def settle(self, **form: str) -> str:
        return self.client.post("/asking", data={"_csrf": self.csrf} | form).text

    def test_asked_answered_confirmed_and_kept(self) -> None:
        mornings, found = self.field("Prefers mornings"), self.field("How they found us")
        self.client.post("/fields/yearly", data={"_csrf": self.csrf, "name": "Partner’s birthday"})
        page = self.settle(
            **{
                "sign_up-first_name": "1",
                "order-first_name": "2",
                f"sign_up-field:{found.id}": "1",
                f"order-field:{found.id}": "1",
                f"words-field:{found.id}": "Where did you hear of us?",
                f"needed-field:{found.id}": "1",
                "sign_up-yearly:Partner’s birthday": "1",
                f"preferences-field:{mornings.id}": "1",
                "preferences-birthday": "1",
                "wording": "Yes, send me offers.",
            }
        )
        self.assertIn("Saved.", page)
        public = self.client.get("/sign-up").text
        self.assertIn("Yes, send me offers.", public)
        self.assertLess(public.index("Where did you hear of us?"), public.index("First name"))
        self.assertNotIn("Prefers mornings", public)
        embedded = self.client.get("/asking").text
        self.assertIn("Where did you hear of us?", embedded)
        self.assertIn("/sign-up&#34;", embedded)

        form = {"email": "new.face@example.com", "first_name": "Cleo"}
        for more, words in (
            ({}, "Please answer “Where did you hear of us?”"),
            ({f"field:{found.id}": "From the moon"}, "cannot be taken"),
            (
                {
                    f"field:{found.id}": found.choices[0],
                    "yearly:Partner’s birthday-month": "2",
                    "yearly:Partner’s birthday-day": "31",
                },
                "no day of the year",
            ),
        ):
            answer = self.client.post("/sign-up", data=form | more).text
            self.assertIn(words, answer)
            self.assertIn("Cleo", answer)  # nothing that was typed is lost
        good = form | {
            f"field:{found.id}": found.choices[0],
            "yearly:Partner’s birthday-month": "2",
            "yearly:Partner’s birthday-day": "29",
        }
        self.assertIn("Look into your mailbox", self.client.post("/sign-up", data=good).text)
        with self.application.database.reading() as session:
            row = session.scalars(select(SignUp).where(SignUp.email == "new.face@example.com")).one()
            self.assertIsNone(row.person_id)  # nothing is on file before the address is confirmed
        self.client.post(f"/confirm/{row.token}")
        with self.application.database.reading() as session:
            row = session.get_one(SignUp, row.id)
            value = session.scalars(select(FieldValue).where(FieldValue.person_id == row.person_id)).one()
            day = session.scalars(select(YearlyDate).where(YearlyDate.person_id == row.person_id)).one()
            said = session.scalars(
                select(ConsentEntry).where(
                    ConsentEntry.person_id == row.person_id, ConsentEntry.state == "agreed"
                )
            ).one()
        self.assertEqual(value.value, found.choices[0])
        self.assertEqual((day.name, day.month, day.day), ("Partner’s birthday", 2, 29))
        self.assertEqual(said.wording, "Yes, send me offers. Every mail has a link to stop it.")

    def test_answered_on_the_preferences_page(self) -> None:
        mornings = self.field("Prefers mornings")
        self.settle(**{f"preferences-field:{mornings.id}": "1", "preferences-birthday": "1"})
        with self.application.database.reading() as session:
            person = session.scalars(
                select(Person).where(Person.email.is_not(None)).order_by(Person.id)
            ).first()
            assert person is not None
        token = self.preferences_of(person.id)
        page = self.client.get(f"/preferences/{token}").text
        self.assertIn("Prefers mornings", page)
        form = {
            "email": "1",
            "often": "any",
            f"field:{mornings.id}": "yes",
            "birthday-month": "12",
            "birthday-day": "24",
        }
        self.assertIn("Saved.", self.client.post(f"/preferences/{token}", data=form).text)
        with self.application.database.reading() as session:
            kept = session.get_one(Person, person.id)
            questions = {one.key: one.value for one in asking.questions(session, "preferences", kept)}
        self.assertEqual(questions, {f"field:{mornings.id}": "yes", "birthday": (12, 24)})
        # an empty answer leaves what is known
        self.client.post(f"/preferences/{token}", data={"email": "1", "often": "any"})
        with self.application.database.reading() as session:
            self.assertEqual(session.get_one(Person, person.id).birthday_day, 24)

    def preferences_of(self, person_id: int) -> str:
        with self.application.database.transaction() as session:
            kept = session.scalar(select(Preference).where(Preference.person_id == person_id))
            if kept is None:
                kept = Preference(person_id=person_id, token=f"token-of-{person_id}-for-a-test")
                session.add(kept)
                session.flush()
            return kept.token

    def test_where_each_is_used_is_said(self) -> None:
        page = self.client.get("/fields").text
        birthday = re.search(r"<strong>Birthday</strong>.*?</tr>", page)
        assert birthday
        self.assertNotIn("Not used yet", birthday[0])  # sequences greet on it
        self.client.post("/fields/yearly", data={"_csrf": self.csrf, "name": "Name day"})
        page = self.client.get("/fields").text
        named = re.search(r"<strong>Name day</strong>.*?</tr>", page)
        assert named
        self.assertIn("Not used yet", named[0])
        again = self.client.post("/fields/yearly", data={"_csrf": self.csrf, "name": "name day"})
        self.assertIn("There is “name day” already", again.text)


if __name__ == "__main__":
    unittest.main()
