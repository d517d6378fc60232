"""A browser in words. The headers are after the forms on MDN’s page on User-Agent (from memory)."""

from unittest import TestCase

from loyalbell.services.accounts.browsers import browser_words

SAID = {
    "Mozilla/5.0 (Windows NT 10.0; Win64; x64; rv:147.0) Gecko/20100101 Firefox/147.0": "Firefox on Windows",
    "Mozilla/5.0 (iPhone; CPU iPhone OS 17_4 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko)"
    " Version/17.4 Mobile/15E148 Safari/604.1": "Mobile Safari on iOS",
    "till-bridge/2.1 (+https://till.example)": "till-bridge",
    "": "",
    "/": "",
}


class BrowserWordsTest(TestCase):
    def test_by_the_shapes_that_browsers_send(self) -> None:
        for agent, words in SAID.items():
            self.assertEqual(browser_words(agent), words, agent)

    def test_what_somebody_made_up_stays_short(self) -> None:
        self.assertLessEqual(len(browser_words("x" * 200)), 40)
