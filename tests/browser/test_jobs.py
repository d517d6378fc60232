"""A small part of `make jobs`: everyday jobs by the keyboard alone and by the mouse, in a real browser."""

from tests.browser.test_walking_path import BrowserCase
from tests.jobs.hands import Keyboard, Mouse
from tests.jobs.jobs import JOBS

EVERY_DAY = ("Find a customer and write a note", "Cut a segment from a ready-made one", "Undo in a letter")


class BothHands(BrowserCase):
    def test_by_keys_alone_and_by_the_mouse(self) -> None:
        for hand in (Keyboard(self.browser, self.address), Mouse(self.browser, self.address)):
            for words in EVERY_DAY:
                with self.subTest(words, hand=hand.name):
                    JOBS[words](hand)
        self.quiet()

    def test_a_point_leads_to_the_column_beside_and_back(self) -> None:
        hand = Keyboard(self.browser, self.address)
        hand.begin("/segments/1")
        hand.key(".")
        inside = "return document.activeElement.matches(arguments[0])"
        self.assertTrue(self.browser.execute_script(inside, ".rail"))
        hand.key(".")
        self.assertTrue(self.browser.execute_script(inside, "main"))
