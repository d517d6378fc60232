"""Whatever a customer, a file or another program writes into a field is shown as text: in a real browser, on
every page, with the page's own policy switched off, so that escaping alone must hold.
"""

import shutil
import unittest
from typing import Any, ClassVar

from selenium import webdriver
from selenium.webdriver.common.by import By
from sqlalchemy import inspect, text

from tests.browser.driver import ServedApplication, open_browser, scratch_folder, sign_in
from tests.support import demo_book, wait_for

PAYLOAD = (
    '"\'><img src=x onerror="window.top.pwned=1"><script>window.top.pwned=1</script>'
    '<svg onload="window.top.pwned=1"></svg>{{7*191}}'
)
SEVEN_TIMES = "1337"
"""What the last part of it would become if anything filled it in."""
FILLED = {
    "person": "first_name last_name name street city postal_code region chat_handle",
    "companion": "name kind",
    "note": "text by",
    "tag": "name",
    "event": "kind",
    "reply": "text subject address",
    "answer": "question text",
    "item": "name category external_id",
    "department": "name",
    "location": "name",
    "staff": "name",
    "custom_field": "name",
    "yearly_date": "name",
    "membership": "plan term",
    "appointment": "companion",
    "consent_entry": "source wording by",
    "suppression": "by",
    "external_id": "value source",
    "import_run": "filename by problem",
    "segment": "name",
    "message": "name",
    "campaign": "name held_because",
    "sequence": "name",
    "offer": "name",
    "letterhead": "name header footer",
    "saved_view": "name search",
    "staff_note": "words",
    "person_change": "what before after by",
    "handed_off": "list",
    "webhook": "by",
    "api_token": "name",
    "canned_answer": "name text",
    "delivery": "detail cause",
    "gallery_picture": "name alt",
}
PAGES = (
    "/ /customers /customers?columns=band,tags,birthday,city,joined /customers/1 /customers/3 /customers/5"
    " /customers?q=img /search?q=img /segments /segments/1 /segments/1/people /segments/1/why/3"
    " /segments/compare?segment=1&segment=2 /segments/new /messages /messages/1 /messages/3"
    " /messages/1/versions"
    " /gallery /letterheads /offers /offers/1 /till /replies /replies/1 /replies/answers /campaigns"
    " /campaigns/new /campaigns/1 /results /results/1 /results/1?figure=opened /results/tests"
    " /results/domains"
    " /imports /imports/1 /settings /settings/channels /settings/care /settings/results /settings/openings"
    " /log /duplicates /duplicates/1/2 /rhythm /rhythm/value /fields /asking /catalogue /catalogue/1 /people"
    " /own /other-programs /sequences /sequences/1 /sequences/1/publish /sequences/2/live /sequences/2/people"
    " /sequences/2/rehearsal /held /hand-off /skipped /calendar /guide /post-room /sign-up"
).split()


class ScriptPayloads(unittest.TestCase):
    browser: ClassVar[webdriver.Chrome]

    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = scratch_folder()
        application = demo_book(cls.folder, people=200)
        with application.database.transaction() as session:
            known = {
                table: {one["name"]: one for one in inspect(session.connection()).get_columns(table)}
                for table in inspect(session.connection()).get_table_names()
            }
            cls.filled = 0
            for table, columns in FILLED.items():
                for column in columns.split():
                    if column in known.get(table, {}):
                        sql = f'UPDATE "{table}" SET "{column}" = coalesce("{column}", \'\') || :payload'
                        result: Any = session.execute(text(sql), {"payload": PAYLOAD})
                        cls.filled += result.rowcount
            session.execute(text("UPDATE shop SET name = name || :payload"), {"payload": PAYLOAD})
        application.close()
        cls.served = ServedApplication(cls.folder, ("ida@otterby.example", "otter-bell"))
        cls.address = cls.served.start()
        cls.browser = open_browser()

    @classmethod
    def tearDownClass(cls) -> None:
        cls.browser.quit()
        cls.served.stop()
        shutil.rmtree(cls.folder, ignore_errors=True)

    def test_it_does_run_where_nothing_escapes_it(self) -> None:
        """The payload works: what follows would see it."""
        self.browser.get("about:blank")
        self.browser.execute_script("document.body.innerHTML = arguments[0]", PAYLOAD)
        wait_for(lambda: self.browser.execute_script("return window.pwned"), 5)

    def test_no_page_runs_what_stands_in_any_field(self) -> None:
        self.assertGreater(self.filled, 1_000)
        self.browser.execute_cdp_cmd("Page.enable", {})
        self.browser.execute_cdp_cmd("Page.setBypassCSP", {"enabled": True})
        sign_in(self.browser, self.address)
        shown = 0
        for path in PAGES:
            with self.subTest(path):
                self.browser.get(self.address + path)
                wait_for(lambda: not self.browser.find_elements(By.CSS_SELECTOR, ".htmx-request"), 10)
                self.assertIsNone(self.browser.execute_script("return window.pwned"))
                marks = "[onerror], [onload]:not(body), script:not([src]), img[src='x']"
                self.assertEqual(self.browser.find_elements(By.CSS_SELECTOR, marks), [])
                source = self.browser.page_source
                self.assertNotIn(SEVEN_TIMES, source)
                shown += "onerror=" in source
        self.assertGreater(shown, 30)


if __name__ == "__main__":
    unittest.main()
