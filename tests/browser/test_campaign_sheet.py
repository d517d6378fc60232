"""The sheet of a campaign in a real browser: what is typed wrong is said beside the act, and stays typed."""

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from tests.browser.test_walking_path import BrowserCase
from tests.support import wait_for


class CampaignSheet(BrowserCase):
    def setUp(self) -> None:
        super().setUp()
        self.go("/campaigns/new?segment=1&message=1")
        self.find("#name").send_keys(self._testMethodName)
        self.find(".btn-act").click()
        self.find("#send-act .btn-act")
        self.sheet = self.browser.current_url

    def test_what_is_wrong_stands_beside_the_act_and_stays_typed(self) -> None:
        """Seen: the page came back with the last good value in the place of what was typed."""
        held_back = self.find("[name=held_back]")
        held_back.clear()
        held_back.send_keys("200")
        self.press("#send-act .btn-act", "")
        wait_for(lambda: self.text("#send-problem"))
        self.assertEqual(self.browser.current_url, self.sheet)
        self.assertEqual(self.find("[name=held_back]").get_attribute("value"), "200")
        self.find("[name=held_back]").clear()
        self.find("[name=held_back]").send_keys("20")
        wait_for(lambda: "held back" in self.text("#send-act .btn-act"))
        self.press("#send-act .btn-act", "")
        wait_for(lambda: self.browser.current_url.endswith("/sure"))
        self.assertIn("held back", self.text("main"))
        self.quiet()

    def test_enter_in_a_field_keeps_the_page(self) -> None:
        name = self.browser.find_elements(By.CSS_SELECTOR, "#plan-form [name=held_back]")[0]
        name.clear()
        name.send_keys("30", Keys.ENTER)
        wait_for(lambda: "held back" in self.text("#send-act .btn-act"))
        self.assertEqual(self.browser.current_url, self.sheet)
        self.quiet()
