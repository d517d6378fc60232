"""What is worked out beforehand is what the first look at a page would have to wait for."""

from contextlib import ExitStack
from unittest.mock import patch

from loyalbell.services.rhythm import bands, figures
from loyalbell.services.warm_up import warm_up
from tests.web import test_pages

WORKED_OUT = {
    figures: (
        "repeat",
        "second_purchases",
        "in_common",
        "recency_frequency_money",
        "concentrated",
        "by_cohort",
    ),
    bands: ("bands",),
}


class Rhythm(test_pages.PagesCase):
    def test_nothing_is_left_to_the_first_look(self) -> None:
        self.sign_in()
        warm_up(self.application, lambda: False)
        with ExitStack() as stack:
            for module, names in WORKED_OUT.items():
                for name in names:
                    stack.enter_context(patch.object(module, name, side_effect=AssertionError(name)))
            page = self.client.get("/rhythm")
        self.assertEqual(page.status_code, 200)
        self.assertIn("<h1>Rhythm", page.text)
