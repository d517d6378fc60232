"""The customer book in a real browser: find, choose, tag, change in place, merge, undo."""

import time
from dataclasses import replace
from pathlib import Path

from selenium.webdriver.common.action_chains import ActionChains
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.test_walking_path import BrowserCase
from tests.support import wait_for


class CustomerBook(BrowserCase):
    def test_find_choose_tag_and_keep_a_view(self) -> None:
        self.go("/customers")
        self.find("#q").send_keys("wren")
        wait_for(lambda: "q=wren" in self.browser.current_url)
        wait_for(lambda: all("wren" in row.text.lower() for row in self.rows()))
        self.find("select[name=segment]").send_keys("in “Not seen")
        wait_for(lambda: "segment=1" in self.browser.current_url)
        for tick in self.browser.find_elements(By.CSS_SELECTOR, "#many input[name=person]")[:1]:
            tick.click()
        self.assertEqual(self.text(".chosen-count"), "1 chosen")
        self.find(".tag-input").send_keys("to ring")
        self.press("button", "Tag")
        wait_for(lambda: "1 tagged “to ring”" in self.text("main"))
        self.press("button", "Columns")
        self.find("#column-tags").click()
        wait_for(lambda: any("to ring" in row.text for row in self.rows()))
        self.go(self.browser.current_url.removeprefix(self.address))  # the address keeps the columns
        self.press("button", "Views")
        self.find("#view-name").send_keys("Ring these", Keys.ENTER)
        wait_for(lambda: "columns=" in self.browser.current_url)
        self.press("button", "Views")
        self.assertIn("Ring these", self.text(".view-menu"))
        self.quiet()

    def rows(self) -> list:
        return self.browser.find_elements(By.CSS_SELECTOR, ".book-table tbody tr")

    def test_a_rule_shown_in_the_book(self) -> None:
        self.go("/segments/1")
        self.press("button", "See them")
        wait_for(lambda: "Only people who match" in self.text("main"))
        self.assertIn("match", self.text(".chosen-count"))
        self.quiet()

    def test_a_customer_changed_in_place(self) -> None:
        self.go("/customers/7")
        self.find("#part-who .part-head button").click()
        email = self.find("#in-email")
        email.clear()
        email.send_keys("nobody", Keys.ENTER)
        wait_for(lambda: "not an email address" in self.text("#part-who"))
        self.assertEqual(self.find("#in-email").get_attribute("value"), "nobody")
        self.find("#in-email").clear()
        self.find("#in-email").send_keys("new@example.com", Keys.ENTER)
        wait_for(lambda: "new@example.com" in self.text("#part-who p"))
        wait_for(lambda: "Email: new@example.com" in self.text("#diary"))
        self.find("#part-companions .part-head button").click()
        self.find("#part-companions input[placeholder='another name']").send_keys("Sock", Keys.ENTER)
        wait_for(lambda: "Sock" in self.text("#part-companions .plain-list"))
        self.find("#part-reach .part-head button").click()
        self.find("#in-source").send_keys("at the counter")
        self.find("#part-reach select[name=state]").send_keys("refused")
        self.find("#part-reach select[name=channel]").send_keys("chat")
        self.press("#part-reach button", "Keep")
        wait_for(lambda: "Refused chat" in self.text("#diary"))
        self.find(".add-tag").send_keys("shy", Keys.ENTER)
        wait_for(lambda: "shy" in self.text("#part-tags"))
        self.find(".note-form input").send_keys("Likes the window seat", Keys.ENTER)
        wait_for(lambda: "Likes the window seat" in self.text("#diary"))
        self.press(".kind span", "notes")
        wait_for(
            lambda: all(
                "noted by" in li.text for li in self.browser.find_elements(By.CSS_SELECTOR, ".diary li")
            )
        )
        self.quiet()

    def test_two_records_made_one_and_parted(self) -> None:
        self.go("/duplicates")
        self.press(".btn", "Side by side")
        self.press("button", "They are one")
        wait_for(lambda: "The two records are one now" in self.text("main"))
        self.press("button", "Part them again")
        wait_for(lambda: self.browser.switch_to.alert).accept()
        wait_for(lambda: "Parted again" in self.text("main"))
        self.quiet()

    def test_a_file_with_a_new_field_and_undone(self) -> None:
        path = Path(self.folder) / "guests.csv"
        path.write_text("Guest e-mail,Shoe size\nzed1@example.com,38\nzed2@example.com,40.5\n")
        self.go("/imports")
        self.find("#file").send_keys(str(path))
        self.press(".btn-act", "Try it out")
        wait_for(lambda: "What this would do" in self.text(".rail"))
        self.find("#column-1").send_keys("a new field: number")
        self.press(".btn", "Try it out again")
        wait_for(lambda: "Import 2 customers" in self.text(".rail"))
        self.find(".rail .btn-act").click()
        wait_for(lambda: "Imported" in self.text(".rail"))
        self.go("/fields")
        self.assertIn("Shoe size", self.text("main"))
        self.browser.back()
        self.press(".rail button", "Undo this import")
        wait_for(lambda: self.browser.switch_to.alert).accept()
        wait_for(lambda: "Undone" in self.text(".rail"))
        self.go("/customers?q=zed1")
        self.assertIn("Nobody", self.text("main"))
        self.quiet()

    def test_a_token_shown_once(self) -> None:
        self.go("/other-programs")
        self.find("#name").send_keys("the till", Keys.ENTER)
        token = wait_for(lambda: self.text("#token"))
        self.assertTrue(str(token).startswith("lb_"))
        self.go("/other-programs")
        self.assertNotIn(str(token), self.browser.page_source)
        self.quiet()

    def test_a_moving_clock_never_reloads_under_a_hand(self) -> None:
        state = self.application.running.web.state
        usual, state.demo = state.demo, replace(state.demo, clock_share=lambda: 0.5)
        self.addCleanup(setattr, state, "demo", usual)
        self.go("/results")
        self.browser.execute_script("window.stays = true")
        hand = ActionChains(self.browser)
        for at in range(4):
            hand.move_to_element_with_offset(self.find("main h1"), at, 0).perform()
            time.sleep(1)
            self.assertTrue(self.browser.execute_script("return window.stays"))
        # the hand rests: the page comes again with the new day
        wait_for(lambda: not self.browser.execute_script("return window.stays"))
