"""Nothing typed is lost; what was saved or thrown away does not come back."""

import json
import re
from html import unescape
from typing import Any

from bs4 import BeautifulSoup
from sqlalchemy import delete, select

from loyalbell.services.messages import queries as message_queries
from loyalbell.services.sequences import sequence_templates
from loyalbell.storage import schema
from tests.web.test_message_pages import SignedInPages

TYPED = "it is not saved yet"
HIDDEN = re.compile(r'<input\s+type="hidden"\s+name="(\w+)"\s+value="([^"]*)"')


def hidden(page: str, form: str) -> dict[str, str]:
    """The hidden inputs of a form, as a browser would send them."""
    inside = page[page.index(f'id="{form}"') :]
    inside = inside[: inside.index("</form>")]
    found = {name: unescape(value) for name, value in HIDDEN.findall(inside)}
    return {name: value for name, value in found.items() if name != "_csrf"}


def fields_of(page: str, name: str) -> dict[str, Any]:
    """What a browser would send of the form with this id."""
    form = BeautifulSoup(page, "html.parser").find(id=name)
    assert form is not None
    found: dict[str, Any] = {}
    for one in form.find_all(["input", "select", "textarea"]):
        name = one.get("name")
        if not name or (one.get("type") in ("checkbox", "radio") and not one.has_attr("checked")):
            continue
        values = [one.get("value", "on")]
        if one.name == "select":
            options = one.find_all("option")
            chosen = [each for each in options if each.has_attr("selected")]
            if not chosen and not one.has_attr("multiple"):
                chosen = options[:1]
            values = [each.get("value", each.text.strip()) for each in chosen]
        found.setdefault(name, []).extend(values)
    found.pop("_csrf", None)
    return found


class UnsavedMessages(SignedInPages):
    def setUp(self) -> None:
        super().setUp()
        with self.application.database.transaction() as session:
            session.execute(delete(schema.UnsavedDraft))
            for at, one in enumerate(
                session.scalars(select(schema.Message).where(schema.Message.name == "Storm"))
            ):
                one.name = f"After the storm {self.id()} {at}"
        with self.application.database.reading() as session:
            self.letter = session.scalars(select(schema.Message).where(~schema.Message.hidden)).first()
        assert self.letter is not None
        self.path = f"/messages/{self.letter.id}"

    def page(self, path: str = "") -> dict[str, str]:
        self.said = self.client.get(path or self.path).text
        return hidden(self.said, "letter-form")

    def type(self, form: dict[str, str], name: str = "", to: str = "/messages/read") -> None:
        assert self.letter is not None
        kept = {"name": name or self.letter.name, "purpose": self.letter.purpose}
        self.assertEqual(self.post(to, **form | kept).status_code, 200)

    def test_what_was_typed_is_there_when_the_page_is_opened_again(self) -> None:
        form = self.page()
        self.type(form)
        self.assertFalse(TYPED in self.client.get(self.path).text)
        whole = json.loads(form["whole"])
        whole["writings"][0]["subject"] = "A storm is coming"
        self.type(form | {"whole": json.dumps(whole)}, "Storm")
        again = self.page()
        self.assertTrue(TYPED in self.said)
        self.assertEqual(json.loads(again["whole"])["writings"][0]["subject"], "A storm is coming")
        self.assertIn('value="Storm"', self.said)
        assert self.letter is not None
        saved = message_queries.content_of(self.application, self.letter.id)
        self.assertNotIn("A storm is coming", saved.model_dump_json(), "it is kept beside what is saved")
        self.assertIn("“Storm” has changes of", self.client.get("/messages").text)
        self.post("/messages/unsaved", about=again["about"])
        self.assertNotIn("A storm is coming", self.page()["whole"])
        self.assertFalse(TYPED in self.said)

    def test_undone_to_what_is_saved_leaves_nothing(self) -> None:
        form = self.page()
        self.type(form, "Storm")
        self.type(form)
        self.page()
        self.assertFalse(TYPED in self.said)

    def test_saved_is_not_typed_any_more_nor_by_words_that_come_late(self) -> None:
        form = self.page()
        self.type(form, "Storm")
        self.post("/messages/save", **form, name="Storm", purpose="marketing")
        self.type(form, "Stor")
        self.page()
        self.assertFalse("throw-away" in self.said)
        self.assertIn('value="Storm"', self.said)

    def test_saved_anew_by_another_shows_that_and_keeps_what_was_typed(self) -> None:
        mine = self.page()
        self.type(mine, "Storm")
        other = self.page()
        with self.application.database.transaction() as session:
            session.get_one(schema.Message, int(mine["message_id"])).name = "Calm"
        self.page()
        self.assertIn("This was saved again after you typed", self.said)
        self.assertIn('value="Calm"', self.said)
        self.page(f"{self.path}?typed=yes")
        self.assertIn('value="Storm"', self.said)
        self.assertEqual(other["about"], mine["about"])

    def test_a_new_message_is_kept_before_its_first_save(self) -> None:
        form = self.page("/messages/new?start=blank")
        self.assertTrue(form["about"].startswith("new-"))
        self.type(form, "Storm")
        kept = self.page(f"/messages/new?typed={form['about']}")
        self.assertIn('value="Storm"', self.said)
        self.assertEqual(kept["about"], form["about"])
        self.assertIn(f"/messages/new?typed={form['about']}", self.client.get("/messages").text)
        self.post("/messages/save", **kept, name="Storm", purpose="marketing")
        self.type(kept, "Stor")
        self.assertNotIn(f"/messages/new?typed={form['about']}", self.client.get("/messages").text)
        self.assertEqual(self.client.get(f"/messages/new?typed={form['about']}").status_code, 404)

    def test_what_one_person_typed_no_other_sees(self) -> None:
        self.type(self.page(), "Storm")
        with self.application.database.transaction() as session:
            for one in session.scalars(select(schema.UnsavedDraft)):
                other = schema.User(
                    name="Bo", email="bo.other@otterby.example", password_hash="", role="owner"
                )
                session.add(other)
                session.flush()
                one.user_id = other.id
        self.page()
        self.assertFalse(TYPED in self.said)


class UnsavedSegments(SignedInPages):
    def setUp(self) -> None:
        super().setUp()
        with self.application.database.transaction() as session:
            session.execute(delete(schema.UnsavedDraft))

    def fields(self, page: str) -> dict[str, Any]:
        return fields_of(page, "rule-form")

    def test_every_segment_read_again_unchanged_is_as_saved(self) -> None:
        with self.application.database.reading() as session:
            ids = list(session.scalars(select(schema.Segment.id).where(schema.Segment.archived_at.is_(None))))
        self.assertTrue(ids)
        for at in ids:
            with self.subTest(at):
                form = self.fields(self.client.get(f"/segments/{at}").text)
                self.assertEqual(self.post("/segments/read", **form).status_code, 200)
                self.assertFalse(TYPED in self.client.get(f"/segments/{at}").text)

    def test_what_was_changed_is_there_again_until_it_is_saved(self) -> None:
        form = self.fields(self.client.get("/segments/1").text)
        self.post("/segments/read", **form | {"name": "Storm"})
        page = self.client.get("/segments/1").text
        self.assertTrue(TYPED in page)
        self.assertIn('value="Storm"', page)
        self.assertIn("“Storm” has changes of", self.client.get("/segments").text)
        self.post("/segments/save", **form | {"name": "Storm"})
        self.assertFalse(TYPED in self.client.get("/segments/1").text)
        self.post("/segments/read", **form | {"name": "Stor"})
        self.assertFalse(TYPED in self.client.get("/segments/1").text, "words that come late")

    def test_a_new_one_is_kept_before_its_first_save_and_can_be_discarded(self) -> None:
        form = self.fields(self.client.get("/segments/new").text)
        self.post("/segments/read", **form | {"name": "Newcomers"})
        about = form["about"][0]
        self.assertIn('value="Newcomers"', self.client.get(f"/segments/new?typed={about}").text)
        self.post("/segments/unsaved", about=about)
        self.assertEqual(self.client.get(f"/segments/new?typed={about}").status_code, 404)

    def test_a_list_of_many_is_searched_by_name_and_by_words_of_the_rule(self) -> None:
        with self.application.database.reading() as session:
            one = session.scalars(select(schema.Segment).where(schema.Segment.archived_at.is_(None))).first()
        assert one is not None
        found = self.client.get("/segments", params={"q": one.name.upper()}).text
        self.assertIn(f'href="/segments/{one.id}"', found)
        self.assertIn("No segment holds", self.client.get("/segments?q=zzzz").text)
        self.assertTrue(self.client.get("/segments?q=ordered").text.count('href="/segments/') > 1)


class UnsavedSequences(SignedInPages):
    def test_every_sequence_drawn_again_unchanged_is_as_saved(self) -> None:
        for one in sequence_templates.OCCASIONS:
            with self.subTest(one.key):
                made = sequence_templates.make(self.application, one.key, "Ida")
                page = self.client.get(f"/sequences/{made}").text
                form = self.fields(page)
                self.assertEqual(self.post("/sequences/draw", **form).status_code, 200)
                self.assertFalse(TYPED in self.client.get(f"/sequences/{made}").text)

    def fields(self, page: str) -> dict[str, Any]:
        return fields_of(page, "sequence-form")

    def test_what_was_changed_in_a_sequence_is_there_again_until_it_is_saved(self) -> None:
        made = sequence_templates.make(self.application, "thanks", "Ida")
        page = self.client.get(f"/sequences/{made}").text
        form = self.fields(page) | {"name": "Storm"}
        self.post("/sequences/draw", **form)
        again = self.client.get(f"/sequences/{made}").text
        self.assertTrue(TYPED in again)
        self.assertIn('value="Storm"', again)
        self.post("/sequences", **self.fields(again))
        self.post("/sequences/draw", **form | {"name": "Stor"})
        saved = self.client.get(f"/sequences/{made}").text
        self.assertFalse("throw-away" in saved)
        self.assertIn('value="Storm"', saved)
        self.post("/sequences/draw", **self.fields(saved) | {"name": "Hail"})
        self.post("/sequences/unsaved", about=str(made))
        self.assertIn('value="Storm"', self.client.get(f"/sequences/{made}").text)
