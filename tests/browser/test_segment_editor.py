"""The sentence editor and Rhythm in a real browser: groups, dragging, the past year, from a curve to a
segment.
"""

from selenium.webdriver import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.test_walking_path import BrowserCase
from tests.support import wait_for


class Editor(BrowserCase):
    def add(self, words: str, place: int = -1) -> None:
        field = self.browser.find_elements(By.CSS_SELECTOR, ".add-line")[place]
        field.click()
        field.send_keys(words)
        before = len(self.browser.find_elements(By.NAME, "line"))
        field.send_keys(Keys.ENTER)
        wait_for(lambda: len(self.browser.find_elements(By.NAME, "line")) > before)

    def lines(self) -> list[str]:
        return [
            item.text.replace("\n", " ")
            for item in self.browser.find_elements(By.CSS_SELECTOR, "#lines > li:not(.fixed)")
        ]

    def test_a_group_is_made_filled_and_dragged(self) -> None:
        self.go("/segments/new")
        self.add("nothing booked")
        self.add("group of lines")
        self.add("birthday", 0)
        wait_for(lambda: "birthday" in self.text(".inner-rule"))
        third = self.browser.find_elements(By.CSS_SELECTOR, "#lines > li:not(.fixed)")[2]
        first = self.browser.find_elements(By.CSS_SELECTOR, "#lines > li:not(.fixed)")[0]
        handle, target = (
            third.find_element(By.CSS_SELECTOR, ".joiner"),
            first.find_element(By.CSS_SELECTOR, ".joiner"),
        )
        drag = ActionChains(self.browser).click_and_hold(handle).pause(0.2).move_to_element(target).pause(0.3)
        drag.move_by_offset(0, -12).pause(0.3).release().perform()
        wait_for(lambda: "have nothing booked" in self.lines()[0])
        wait_for(lambda: "nothing booked" in self.text("#rail").split("ordered")[0])
        self.find(".title-input").send_keys("Grouped")
        self.find(".title-row .btn-act").click()
        wait_for(lambda: "saved=yes" in self.browser.current_url)
        self.assertIn("birthday", self.text(".inner-rule"))
        self.quiet()

    def test_the_past_year_and_who_came_and_left(self) -> None:
        self.go("/segments/1")
        wait_for(lambda: "a year ago:" in self.text("#over-time"))
        self.assertRegex(self.text("#over-time"), r"\d+ came in, \d+ left")
        day = self.find("#as-of")
        before = self.text("#over-time .since")
        self.browser.execute_script(
            "arguments[0].value='2026-01-15'; arguments[0].dispatchEvent(new Event('change', {bubbles:"
            " true}))",
            day,
        )
        wait_for(lambda: self.text("#over-time .since") != before)
        self.quiet()

    def test_from_the_curve_to_a_segment(self) -> None:
        self.go("/rhythm")
        wait_for(lambda: "purchases in the next 90 days" in self.text("#value"))
        before = self.text("#line")
        self.find("#day").send_keys(Keys.ARROW_RIGHT * 12)
        wait_for(lambda: self.text("#line") != before)
        people = self.text("#line .figure")
        self.find("#line .btn-act").click()
        wait_for(lambda: "/segments/new" in self.browser.current_url)
        self.assertEqual(self.text("#rail .figure"), people)
        self.quiet()
