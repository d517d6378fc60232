"""A small part of ``make fuzz``."""

import unittest

from tests.fuzz.files import run
from tests.fuzz.requests import Odd, odd_requests
from tests.support import ApplicationCase
from tests.web.test_pages import PagesCase


class DamagedFiles(ApplicationCase):
    def test_whatever_is_chosen_is_read_or_refused_in_words(self) -> None:
        wrong = [damage for damage in run(self.application, 20261129, 40) if damage is not None]
        self.assertEqual([(one.name, one.kind, one.what) for one in wrong], [])


class OddRequests(PagesCase):
    """Seen: ids beyond 2^63, ``²`` for a digit, a plan that is none: errors of the program."""

    def asked(self, odd: Odd, csrf: str = "") -> int:
        if odd.method == "GET":
            return self.client.get(odd.path, follow_redirects=False).status_code
        form = dict(odd.form) | {"_csrf": csrf}
        return self.client.request(odd.method, odd.path, data=form, follow_redirects=False).status_code

    def test_none_is_an_error_of_the_program(self) -> None:
        csrf = self.sign_in()
        for odd in odd_requests(self.app, 300, 20261129):
            self.assertLess(self.asked(odd, csrf), 500, odd)

    def test_none_that_was_seen_is(self) -> None:
        csrf = self.sign_in()
        for odd in (
            Odd("GET", f"/customers/{2**63}"),
            Odd("GET", "/customers/²"),
            Odd("GET", "/sender/²"),
            Odd("POST", "/settings/care", [("silent_departments", "x")]),
            Odd("GET", "/imports?status=99"),
            Odd("POST", "/sequences/draw"),
            Odd("POST", "/sequences/rail"),
            Odd("POST", "/sequences/2/archive"),  # people are under way in it
            Odd("POST", "/messages/proof", [("language", "²"), ("channel", "email")]),
            Odd("POST", "/customers/many", [("act", "bring"), ("person", "²"), ("count", "²")]),
        ):
            self.assertIn(self.asked(odd, csrf), (200, 303, 404, 422), odd)

    def test_signed_out_nothing_is_an_error_either(self) -> None:
        for odd in odd_requests(self.app, 150, 7):
            self.assertLess(self.asked(odd), 500, odd)


if __name__ == "__main__":
    unittest.main()
