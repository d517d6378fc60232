"""The guide inside the application, and the two sentences that each page says of itself."""

import re
from pathlib import Path

from bs4 import BeautifulSoup

from loyalbell.web.handbook.reading import PAGES, names, page_of
from loyalbell.web.page_help import every_help, help_for
from loyalbell.web.request import AREAS
from tests.test_house import ROOT
from tests.web.test_message_pages import SignedInPages

WEEK = ("move-in", "rhythm", "segment", "write", "automate", "rehearse", "watch", "results")
BUSINESSES = ("Shop", "Restaurant", "Salon", "Clinic")


class HandbookPages(SignedInPages):
    def test_every_page_of_the_guide_is_served_and_its_links_and_pictures_lead_somewhere(self) -> None:
        for name in names():
            with self.subTest(name=name):
                page = self.client.get(f"/handbook/{name}")
                self.assertEqual(page.status_code, 200)
                article = BeautifulSoup(page.text, "html.parser").find("article")
                assert article is not None and article.h1 is not None
                self.assertGreater(len(article.text), 300)
                for one in article.find_all("a"):
                    self.assertEqual(self.client.get(str(one["href"])).status_code, 200, one["href"])
                for one in article.find_all("img"):
                    self.assertTrue(one["alt"])
                    answer = self.client.get(str(one["src"]))
                    self.assertEqual(answer.headers["content-type"], "image/png")

    def test_other_names_are_no_pages(self) -> None:
        for name in ("nothing", "..%2fapi", "README.md", "A", "x" * 80):
            self.assertEqual(self.client.get(f"/handbook/{name}").status_code, 404, name)
        self.assertEqual(self.client.get("/handbook/pictures/nothing.png").status_code, 404)
        self.assertEqual(self.client.get("/handbook/pictures/..%2f..%2fapi.md").status_code, 404)
        self.client.cookies.clear()
        self.assertNotIn("The guide", self.client.get("/handbook").text)

    def test_the_week_of_the_job_has_its_pages_in_order_and_speaks_to_four_businesses(self) -> None:
        contents = (PAGES / "README.md").read_text()
        places = [contents.index(f"({name}.md)") for name in WEEK]
        self.assertEqual(places, sorted(places))
        for name in (*WEEK[:-2], "results"):
            text = (PAGES / f"{name}.md").read_text()
            for business in BUSINESSES:
                self.assertIn(f"**{business}**", text, name)

    def test_each_page_says_what_it_is_for_in_two_sentences_and_leads_to_its_guide(self) -> None:
        for found in every_help().values():
            self.assertIsNotNone(page_of(found.guide), found.guide)
            self.assertIn(len(re.findall(r"[.!?](?=\s|$)", found.words)), (1, 2), found.words)
        for _, _, path, _ in AREAS:
            page = BeautifulSoup(self.client.get(path).text, "html.parser")
            dialog = page.find(id="keys")
            assert dialog is not None
            self.assertIn(help_for(path).words, " ".join(dialog.text.split()))
            self.assertTrue(dialog.find("a", href=re.compile("^/handbook")))

    def test_no_page_of_the_menu_is_left_without_help_of_its_own(self) -> None:
        page = BeautifulSoup(self.client.get("/").text, "html.parser")
        for one in page.select(".dropdown-menu a.dropdown-item"):
            path = str(one["href"])
            self.assertIsNot(help_for(path), help_for("/"), path)

    def test_it_ships_with_the_application(self) -> None:
        self.assertTrue((Path(ROOT) / "loyalbell/web/handbook/pages/README.md").is_file())
        self.assertTrue((Path(ROOT) / "loyalbell/web/handbook/pictures/today.png").is_file())
