"""Bringing a file in on the pages: choose, mend the columns, look, bring in, download what was refused."""

import csv
import io
import time

from tests.web import test_pages

FILE = b"badge,given,post,hatched\nA1,Ann,ann@example.com,31/12/1990\nA2,Bo,bad,1/1/1991\n"


class ImportPages(test_pages.PagesCase):
    def settled(self, path: str) -> str:
        """The page once nothing is under way any more."""
        for _ in range(200):
            page = self.client.get(path).text
            if "/progress" not in page:
                return page
            time.sleep(0.02)
        raise AssertionError("the import did not end")

    def test_from_choosing_to_the_refused_rows(self) -> None:
        token = self.sign_in()
        files = {"file": ("people.csv", io.BytesIO(FILE))}
        page = self.client.post("/imports", data={"_csrf": token, "kind": "customers"}, files=files)
        where = page.url.path
        self.assertIn("Say which column holds", self.settled(where))
        self.assertNotIn("Import 2", page.text)
        columns = {
            "_csrf": token,
            "column-0": "id",
            "column-1": "first_name",
            "column-2": "email",
            "column-3": "birthday",
        }
        self.client.post(f"{where}/columns", data=columns | {"day_first": "0"})
        self.assertIn("not a date", self.settled(where))
        self.client.post(f"{where}/columns", data=columns | {"day_first": "1"})
        page_text = self.settled(where)
        self.assertIn("Import 2 customers<", page_text)
        self.assertIn("come in without <em>email</em>", page_text)
        self.client.post(f"{where}/bring-in", data={"_csrf": token})
        self.assertIn("What this did", self.settled(where))
        self.assertIn("ann@example.com", self.client.get("/customers?q=ann@example.com").text)
        self.client.post(f"{where}/bring-in", data={"_csrf": token})
        rows = list(csv.reader(io.StringIO(self.client.get(f"{where}/refused.csv").text.lstrip("\ufeff"))))
        self.assertEqual(rows[0], ["badge", "given", "post", "hatched", "row", "what became of it", "why"])
        self.assertEqual(rows[1][:5], ["A2", "Bo", "bad", "1/1/1991", "3"])
        listed = self.client.get("/imports").text
        self.assertIn("brought in", listed)
        self.assertIn("imported customers", self.client.get("/log").text)

    def test_no_file_chosen(self) -> None:
        token = self.sign_in()
        answer = self.client.post("/imports", data={"_csrf": token, "kind": "customers"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("Choose a file first", answer.text)
