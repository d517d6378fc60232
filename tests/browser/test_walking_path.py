"""The whole path in a real browser: files in, a segment, a letter, a campaign, the post room, the results."""

import shutil
import unittest
from pathlib import Path
from typing import Any

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.remote.webelement import WebElement

from loyalbell.demo.build import OWNER
from loyalbell.services.settings.channels import CareSettings
from tests.browser.driver import ServedApplication, open_browser, scratch_folder, sign_in
from tests.support import demo_book, wait_for

EXAMPLES = Path(__file__).resolve().parents[2] / "loyalbell/demo/files"


def without_superseded(said: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Without requests that a newer one of the same form took the place of, as it is meant to: of each, two
    lines are written, first that it is over and then that it was taken back.
    """
    taken_back = {at for at, entry in enumerate(said) if "htmx:sendAbort" in entry["message"]}
    over = {at - 1 for at in taken_back if at and "htmx:afterRequest" in said[at - 1]["message"]}
    return [entry for at, entry in enumerate(said) if at not in taken_back | over]


class WithoutSuperseded(unittest.TestCase):
    def test_only_what_was_taken_back_is_left_out(self) -> None:
        over, back, lost, broken = (
            {"message": f"htmx.min.js 0:1 {words}"}
            for words in ("htmx:afterRequest", "htmx:sendAbort", "htmx:sendError", "TypeError")
        )
        self.assertEqual(without_superseded([over, back]), [])
        self.assertEqual(without_superseded([over, lost, over, back, broken]), [over, lost, broken])
        self.assertEqual(without_superseded([back, broken, over]), [broken, over])


class BrowserCase(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = scratch_folder()
        application = demo_book(cls.folder, people=250)
        with application.database.transaction() as session:  # some live where it is still night
            CareSettings(limits=[], quiet_begins="", quiet_ends="").save(session)
        application.close()
        cls.application = ServedApplication(cls.folder, OWNER[1:])
        cls.address = cls.application.start()
        cls.browser = open_browser()
        sign_in(cls.browser, cls.address)

    @classmethod
    def tearDownClass(cls) -> None:
        cls.browser.quit()
        cls.application.stop()
        shutil.rmtree(cls.folder, ignore_errors=True)

    def go(self, path: str) -> None:
        self.browser.get(self.address + path)

    def find(self, css: str) -> WebElement:
        return wait_for(
            lambda: next(
                (e for e in self.browser.find_elements(By.CSS_SELECTOR, css) if e.is_displayed()), None
            )
        )

    def press(self, css: str, words: str) -> None:
        """Presses the one that holds the words.

        Again where the page put a fresh one in its place meanwhile.
        """

        def pressed() -> bool:
            next(e for e in self.browser.find_elements(By.CSS_SELECTOR, css) if words in e.text).click()
            return True

        wait_for(pressed)

    def text_in_frame(self, css: str) -> str:
        self.browser.switch_to.default_content()
        self.browser.switch_to.frame(self.browser.find_element(By.CSS_SELECTOR, css))
        try:
            return self.browser.find_element(By.TAG_NAME, "body").text
        finally:
            self.browser.switch_to.default_content()

    def text(self, css: str) -> str:
        return self.find(css).text

    def quiet(self) -> None:
        """The browser had nothing to complain of: no script error, no broken policy."""
        bad = [entry for entry in self.browser.get_log("browser") if entry["level"] == "SEVERE"]
        self.assertEqual(without_superseded(bad), [])


class WalkingPath(BrowserCase):
    def bring_in(self, kind: str) -> None:
        self.go("/imports")
        self.find("#file").send_keys(str(EXAMPLES / f"new-{kind}.csv"))
        self.find(".btn-act").click()
        if kind == "customers":
            self.find(".rail .question .btn-act").click()
        self.find(".rail form[action$=bring-in] .btn-act").click()
        self.find(".rail .note-good")

    def test_from_two_files_to_an_order_that_came_of_it(self) -> None:
        self.bring_in("customers")
        self.assertIn("9", self.text(".rail dd"))
        self.bring_in("orders")
        segment, people = self.cut_a_segment()
        message = self.write_a_letter()
        results = self.send_it(segment, message, people)
        self.be_the_customer(results)
        self.go("/")
        self.assertIn("May path", self.text("main"))
        self.quiet()

    def cut_a_segment(self) -> tuple[str, int]:
        self.go("/segments/new")
        self.find(".title-input").send_keys("Away 50 days")
        before = int(self.text("#count-2").replace(",", ""))
        self.find("#words-1-period").click()
        days = self.find('[name="1.period.days"]')
        days.send_keys(Keys.BACKSPACE * 3, "50")
        wait_for(lambda: self.text("#words-1-period") == "in the last 50 days")
        self.assertGreaterEqual(int(self.text("#count-2").replace(",", "")), before)
        days.send_keys(Keys.ENTER)
        add = self.find(".add-line")
        add.send_keys("reached email", Keys.ENTER)
        wait_for(lambda: self.browser.find_elements(By.ID, "count-3"))
        people = int(self.text("#count-3").replace(",", ""))
        self.find(".title-row .btn-act").click()
        wait_for(lambda: "saved=yes" in self.browser.current_url)
        segment = self.browser.current_url.split("/")[-1].split("?")[0]
        return segment, people

    def write_a_letter(self) -> str:
        self.go("/messages/new")
        self.press(".tile", "An empty letter")
        self.find(".title-input").send_keys("Come by")
        self.find('[data-name="subject"]').send_keys("We miss you")
        self.find(".block[data-kind=text] .written").send_keys("It has been a while, ")
        self.find(".block[data-kind=text] .insert").click()
        self.press("[data-pick-field]", "first name")
        self.find("#put-in").click()
        plus = self.browser.find_elements(By.CSS_SELECTOR, "#blocks .plus > button")[-1]
        plus.click()
        self.find(".plus [data-add=button]").click()
        self.find(".button-label").send_keys("See us")
        self.find("input.url").send_keys("https://otterby.example/see")
        wait_for(lambda: "We miss you" in self.text("#rail"))
        wait_for(lambda: "Fine:" in self.text("#rail") or "preview line" in self.text("#rail"))
        self.press("[data-reader]", "no name on file")
        wait_for(lambda: "no name on file" in self.text(".reader-step"))
        wait_for(lambda: "It has been a while, there" in self.text_in_frame(".phone iframe"))
        self.find(".title-row .btn-act").click()
        wait_for(lambda: "saved=yes" in self.browser.current_url)
        message = self.browser.current_url.split("/")[-1].split("?")[0]
        return message

    def send_it(self, segment: str, message: str, people: int) -> str:
        self.go(f"/campaigns/new?segment={segment}&message={message}")
        self.find("#name").send_keys("May path")
        self.find(".btn-act").click()
        self.assertEqual(f"Send to {people:,} now", self.text("#send-act .btn-act"))
        self.find("#send-act .btn-act").click()
        wait_for(lambda: self.browser.current_url.endswith("/sure"))
        self.assertIn(f"goes to {people:,} people now", self.text("main"))
        self.find(".btn-act").click()
        wait_for(lambda: "· sent" in self.text(".title-row"), 60)
        self.assertEqual(len(set(self.application.running.store.recipients())), people)
        self.assertEqual(len(self.application.running.store.recipients()), people)
        results = self.browser.current_url
        return results

    def be_the_customer(self, results: str) -> None:
        self.go("/post-room")
        self.find("tbody a").click()
        self.browser.switch_to.frame(self.find(".mail-frame"))
        links = {a.text: a.get_attribute("href") for a in self.browser.find_elements(By.TAG_NAME, "a")}
        self.browser.switch_to.default_content()
        mail = self.browser.current_url
        self.find(".rail .btn-act").click()
        self.find(".note-good")
        self.assertEqual(self.figure(results, "Opened"), 1)
        self.assertEqual(self.figure(results, "Ordered"), 0)
        self.browser.get(links["See us"])
        self.assertIn("https://otterby.example/see", self.text("main"))
        self.browser.get(mail)
        self.find(".rail .btn-act").click()
        self.find(".note-good")
        self.browser.get(links["Unsubscribe"])
        self.find(".btn-act").click()
        self.assertIn("You are unsubscribed", self.text("main"))
        for figure in ("Clicked", "Ordered", "Unsubscribed"):
            self.assertEqual(self.figure(results, figure), 1, figure)

    def figure(self, page: str, name: str) -> int:
        self.browser.get(page)
        tiles = self.browser.find_elements(By.CSS_SELECTOR, "a.tile")
        tile = next(tile for tile in tiles if tile.text.startswith(name))
        return int(tile.find_element(By.CSS_SELECTOR, ".figure").text.replace(",", ""))

    def test_the_clock_moves_only_when_moved(self) -> None:
        self.go("/")
        self.assertIn("Tue 12 May, 9:40", self.text(".bar"))
        self.find(".bar .right .dropdown > button").click()
        self.find('[name=step][value="day"]').click()
        wait_for(lambda: "Wed 13 May, 9:40" in self.text(".bar"), 90)

    def test_a_save_that_fails_keeps_what_was_typed(self) -> None:
        self.go("/segments/new")
        self.find("#words-1-period").click()
        days = self.find('[name="1.period.days"]')
        days.send_keys(Keys.BACKSPACE * 3, "many")
        self.find(".title-input").send_keys("Half done")
        self.find(".title-row .btn-act").click()
        wait_for(lambda: "Line 2: give a whole number" in self.text("#problem"))
        self.assertEqual(self.find(".title-input").get_attribute("value"), "Half done")
        stated = self.browser.find_element(By.NAME, "1.period.days").get_attribute("value")
        self.assertEqual(stated, "many")

    def test_a_line_is_changed_by_the_keyboard_alone(self) -> None:
        self.go("/segments/1")
        pick = self.find("#words-1-department")
        pick.send_keys(Keys.ENTER)
        select = self.find('[name="1.department"]')
        select.send_keys(Keys.ARROW_DOWN)
        wait_for(lambda: self.text("#words-1-department") == "in Café")
        select.send_keys(Keys.ESCAPE)
        wait_for(lambda: not select.is_displayed())
        self.assertEqual(self.browser.switch_to.active_element.get_attribute("id"), "words-1-department")

    def test_keys(self) -> None:
        self.go("/")
        body = self.browser.find_element(By.TAG_NAME, "body")
        body.send_keys("g", "s")
        wait_for(lambda: self.browser.current_url.endswith("/segments"))
        self.browser.find_element(By.TAG_NAME, "body").send_keys("?")
        self.assertIn("Keys", self.text("#keys"))
