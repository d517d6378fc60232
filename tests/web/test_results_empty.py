"""Results of a shop that has just begun, and addresses that nobody would type."""

from tests.web.test_pages import PagesCase


class ResultsOfANewShopTest(PagesCase):
    def test_every_page_opens_with_little_in_it(self) -> None:
        self.sign_in()
        for path in ("/results", "/results?days=7", "/results/tests", "/results/domains", "/worth-doing"):
            with self.subTest(path=path):
                self.assertEqual(self.client.get(path).status_code, 200)
        week = self.client.get("/week").text
        self.assertNotRegex(week, r"</h3> <ul[^>]*> ?</ul>", "no heading without lines")
        page = self.client.get("/results?days=own&first=1990-01-01&last=1990-01-31").text
        self.assertNotIn("of every 1,000 came back.", page)

    def test_addresses_that_nobody_would_type(self) -> None:
        self.sign_in()
        for path, status in (
            ("/results?days=forever", 200),
            ("/results?by=<script>&show='--", 200),
            ("/results?days=own&first=9999-99-99", 422),
            ("/results.pdf", 404),
            ("/results/sequence/123456789012345678901234567890.svg", 404),
            ("/results/person/1.svg", 404),
            ("/results/sequence/123456789012345678901234567890", 404),
            ("/results/sequence/1?figure=nonsense&step=nonsense&page=0", 200),
            ("/results/sequence/1?figure=clicked&step=nonsense&page=123456789012345678", 200),
            ("/results/sequence/1?figure=ordered&page=-5", 200),
        ):
            with self.subTest(path=path):
                page = self.client.get(path)
                self.assertEqual(page.status_code, status, page.text[:300])
                self.assertNotIn("<script>&", page.text)

    def test_how_results_are_counted_is_set_and_refused_in_words(self) -> None:
        csrf = self.sign_in()
        form = {"_csrf": csrf, "window_days": "0", "worth_per_thousand": "15"}
        page = self.client.post("/settings/results", data=form)
        self.assertEqual(page.status_code, 422)
        self.assertIn("Nothing is saved yet. Give the days as a whole number", page.text)
        typed = form | {"window_days": "9", "summary_to": "ida, al@shop.example"}
        page = self.client.post("/settings/results", data=typed)
        self.assertEqual(page.status_code, 422)
        self.assertIn("is no email address", page.text)
        self.assertIn('value="ida, al@shop.example"', page.text, "what was typed stays")
        page = self.client.post("/settings/results", data=form | {"window_days": "9"})
        self.assertIn("Saved.", page.text)
        self.assertIn("within 9 days of a click", self.client.get("/results?days=year").text)
