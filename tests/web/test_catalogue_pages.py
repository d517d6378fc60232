"""The catalogue: searched, changed one by one and many at once, with pictures; what buyers do next."""

import io
import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from sqlalchemy import select

from loyalbell.core.history.next_items import WITHIN_DAYS, bought_next
from loyalbell.core.history.snapshot import HistorySnapshot, Lines, People
from loyalbell.storage.schema import GalleryPicture, Item
from tests.support import NOW, ZONE
from tests.web import test_pages

DAY, SECONDS = 86_400, int(NOW.timestamp())
ROWS = st.lists(
    st.tuples(st.integers(0, 3), st.integers(SECONDS - 400 * DAY, SECONDS + 9 * DAY), st.integers(1, 3)),
    max_size=25,
)


class BoughtNext(unittest.TestCase):
    @given(ROWS)
    def test_as_a_loop_counts(self, rows: list[tuple[int, int, int]]) -> None:
        columns = zip(*rows, strict=True) if rows else ([], [], [])
        person, at, item = columns
        lines = Lines.of(person=list(person), at=list(at), item=list(item))
        snapshot = HistorySnapshot(ZONE, "USD", People.of(np.arange(1, 5), np.zeros(4)), lines=lines)
        known = [row for row in rows if row[1] <= SECONDS]
        buyers, counts = 0, dict.fromkeys((1, 2, 3), 0)
        for who in range(4):
            theirs = [row for row in known if row[0] == who]
            first = min((when for _, when, what in theirs if what == 1), default=None)
            if first is None:
                continue
            buyers += 1
            for what in {what for _, when, what in theirs if first < when <= first + WITHIN_DAYS * DAY}:
                counts[what] += 1
        found = bought_next(snapshot.lines, len(snapshot.people), 1, SECONDS)
        self.assertEqual((found[0], dict(found[1])), (buyers, {what: n for what, n in counts.items() if n}))


def png(colour: str = "red") -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (20, 20), colour).save(out, "PNG")
    return out.getvalue()


class CataloguePages(test_pages.PagesCase):
    def setUp(self) -> None:
        super().setUp()
        self.csrf = self.sign_in()

    def item(self, name: str) -> Item:
        with self.application.database.reading() as session:
            return session.scalars(select(Item).where(Item.name == name)).one()

    def post(self, path: str, **form: object) -> object:
        return self.client.post(path, data={"_csrf": self.csrf} | form)

    def test_the_list_is_searched_and_narrowed(self) -> None:
        page = self.client.get("/catalogue?q=kibble").text
        self.assertIn("River fish kibble", page)
        self.assertNotIn("Carrot cake", page)
        page = self.client.get("/catalogue?category=Drinks").text
        self.assertIn("Coffee", page)
        self.assertNotIn("Carrot cake", page)
        self.assertIn("No item fits this search", self.client.get("/catalogue?q=zzz").text)
        self.assertIn("Carrot cake", self.client.get("/catalogue?lacks=no+days&sort=price").text)

    def test_an_item_is_made_and_changed_and_wrong_input_is_said(self) -> None:
        form = {
            "name": "Wool blanket",
            "price": "39.50",
            "department": "Shop",
            "in_stock": "1",
            "lasts_days": "400",
        }
        page = self.post("/catalogue", **form)
        self.assertIn("Saved.", page.text)
        made = self.item("Wool blanket")
        self.assertEqual((made.price_minor, made.lasts_days, made.in_stock), (3950, 400, True))
        for more, words in (
            ({"name": ""}, "Give the item a name"),
            ({"name": "Coffee"}, "called “Coffee” already"),
            ({"price": "much"}, "is not an amount for the price"),
            ({"lasts_days": "0"}, "between 1 and"),
            ({"link": "otterby"}, "must begin with https"),
            ({"external_id": "OT-001"}, "is that of"),
        ):
            answer = self.post("/catalogue", id=str(made.id), **(form | more))
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.text)
        self.post("/catalogue", id=str(made.id), **(form | {"price": "1,040.00", "in_stock": ""}))
        changed = self.item("Wool blanket")
        self.assertEqual((changed.price_minor, changed.in_stock), (104000, False))

    def test_many_at_once(self) -> None:
        ids = [str(self.item(name).id) for name in ("Rope toy", "Feather wand")]
        answer = self.post("/catalogue/many", item=ids, category="Play", stock="no", lasts_days="")
        self.assertIn("2 items changed", answer.text)
        toy = self.item("Rope toy")
        self.assertEqual((toy.category, toy.in_stock, toy.lasts_days), ("Play", False, None))
        self.assertIn("Tick the items first", self.post("/catalogue/many", category="Play").text)
        self.assertIn("Say what to change", self.post("/catalogue/many", item=ids).text)

    def test_pictures_by_the_names_of_items(self) -> None:
        files = [
            ("file", ("OT-001.png", io.BytesIO(png()))),
            ("file", ("Carrot cake.PNG", io.BytesIO(png("blue")))),
            ("file", ("holiday.png", io.BytesIO(png()))),
            ("file", ("OT-002.png", io.BytesIO(b"no picture"))),
        ]
        answer = self.client.post("/catalogue/pictures", data={"_csrf": self.csrf}, files=files)
        self.assertIn("2 pictures taken", answer.text)
        self.assertIn("holiday.png: no item has this id or name", answer.text)
        self.assertIn("OT-002.png: This file is not a picture", answer.text)
        many = [("file", (f"{at}.png", io.BytesIO(png()))) for at in range(201)]
        answer = self.client.post("/catalogue/pictures", data={"_csrf": self.csrf}, files=many)
        self.assertEqual(answer.status_code, 413)
        self.assertIn("at most 200 files", answer.text)
        cake = self.item("Carrot cake")
        with self.application.database.reading() as session:
            picture = session.get_one(GalleryPicture, cake.picture_id)
        shown = self.client.get(f"/picture/{picture.token}")
        self.assertEqual(shown.headers["content-type"], "image/png")
        self.assertIn(f"/picture/{picture.token}", self.client.get(f"/catalogue/{cake.id}").text)
        # pictures of items do not crowd the gallery
        self.assertNotIn(picture.token, self.client.get("/gallery").text)
        self.post(f"/catalogue/{cake.id}/picture", act="delete")
        self.assertIsNone(self.item("Carrot cake").picture_id)

    def test_what_its_buyers_do_next(self) -> None:
        self.assertIn(
            "What its buyers do next", self.client.get(f"/catalogue/{self.item('Full groom').id}").text
        )
        self.assertEqual(self.client.get("/catalogue/99999").status_code, 404)


if __name__ == "__main__":
    unittest.main()
