"""The sequence editor in a real browser: from an occasion to ringing, by mouse and by keyboard."""

import json

from selenium.webdriver import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from tests.browser.test_walking_path import BrowserCase
from tests.support import wait_for


class SequenceEditor(BrowserCase):
    def plan(self) -> dict:
        return json.loads(self.browser.execute_script("return document.querySelector('[name=plan]').value"))

    def open(self, key: str) -> None:
        self.go("/sequences/new")
        self.find(f"button[value='{key}']").click()
        wait_for(lambda: self.plan())

    def span(self, at: int) -> int:
        return self.plan()["steps"][at]["span"]["amount"]

    def test_notes_move_by_keyboard_and_by_dragging_and_the_words_follow(self) -> None:
        self.open("second")
        self.open("tiers")
        note = self.plan()["steps"][1]["id"]
        css = f'.note[data-step="{note}"]'
        self.find(css).send_keys(Keys.ARROW_RIGHT)
        wait_for(lambda: self.plan()["steps"][0]["span"] == {"amount": 15, "unit": "days"})
        wait_for(lambda: self.browser.switch_to.active_element.get_attribute("data-step") == note)
        self.browser.switch_to.active_element.send_keys(Keys.ARROW_LEFT)
        wait_for(lambda: self.span(0) == 14)
        self.assertIn("Wait 14 days", self.find(".steps").text)
        ActionChains(self.browser).click_and_hold(self.find(f"{css} .mark")).move_by_offset(
            60, 0
        ).release().perform()
        wait_for(lambda: self.span(0) > 14)

    def test_from_an_empty_plan_to_a_rail_that_names_the_mistake(self) -> None:
        self.open("blank")
        self.press(".add-step > button", "add a step")
        self.press(".dropdown-menu.show .dropdown-item", "a message")
        wait_for(lambda: len(self.plan()["steps"]) == 1)
        step = self.plan()["steps"][0]["id"]
        wait_for(lambda: "No message is chosen" in self.find(f"#step-{step}").text)
        wait_for(lambda: "No message is chosen" in self.find("#rail").text)
        self.press(f"#step-{step} .pick", "choose a message")
        Select(self.find(f'[name="{step}.message"]')).select_by_visible_text("Spring coats")
        wait_for(lambda: self.plan()["steps"][0]["message"])
        wait_for(lambda: "Spring coats" in self.find(".score").text)
        wait_for(lambda: "people a day" in self.find("#rail").text)
        name = self.find("[name=name]")
        name.clear()
        name.send_keys("By hand in the browser")
        self.press(".title-row button", "Publish")
        wait_for(lambda: "/publish" in self.browser.current_url)
        self.find("#publish-form .btn-act").click()
        wait_for(lambda: "/live" in self.browser.current_url)
        self.assertIn("version 1", self.find(".title-row").text)

    def test_a_rule_said_in_a_sentence_narrows_who_comes_in(self) -> None:
        self.open("thanks")
        self.press("#step-start .pick", "everybody")
        self.find('[data-say-rule="only"]').click()
        wait_for(
            lambda: self.browser.find_element(By.CSS_SELECTOR, "#rule-dialog iframe").get_attribute("src")
        )
        self.browser.switch_to.frame(self.browser.find_element(By.CSS_SELECTOR, "#rule-dialog iframe"))
        add = self.find(".add-line")
        add.send_keys("ordered")
        self.find(".starters .dropdown-item").click()
        wait_for(lambda: self.browser.find_elements(By.CSS_SELECTOR, "#lines > li:not(.fixed)"))
        self.find("#use-rule").click()
        self.browser.switch_to.default_content()
        wait_for(lambda: self.plan()["only"])
        self.assertIn("only those who", self.find("#step-start").text)
