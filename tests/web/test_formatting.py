"""How figures and findings are said on the pages."""

import unittest
from datetime import date

from loyalbell.services.today.queries import DayLoad
from loyalbell.web.charts import day_bars
from loyalbell.web.formatting import about, settings_link


class WordsTest(unittest.TestCase):
    def test_a_mean_is_said_with_a_place_only_where_it_matters(self) -> None:
        self.assertEqual(
            [about(one) for one in (0, 0.04, 2.46, 9.95, 32.5, 1234.5)],
            ["0", "0.0", "2.5", "9.9", "32", "1,234"],
        )

    def test_settings_lead_to_the_page_that_mends_it_and_nothing_else_is_markup(self) -> None:
        self.assertEqual(
            settings_link("There is no sender address. Set it in Settings."),
            'There is no sender address. Set it in <a href="/settings">Settings</a>.',
        )
        self.assertIn('"/settings/channels"', settings_link("There is no text network. Set it in Settings."))
        self.assertEqual(settings_link("<b>“Hello”</b>"), "&lt;b&gt;“Hello”&lt;/b&gt;")

    def test_a_day_has_one_figure_above_its_bars(self) -> None:
        days = [
            DayLoad(date(2026, 5, day), sent, waiting)
            for day, (sent, waiting) in enumerate(((597, 22), (5, 0), (0, 3), (0, 0)), 1)
        ]
        self.assertEqual([one.said for one in day_bars(days).bars if one.said], ["597 + 22", "5", "3"])


if __name__ == "__main__":
    unittest.main()
