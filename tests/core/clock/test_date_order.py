"""Which of day and month comes first. Source: the short dates of CLDR (Unicode); Canada's and
Sweden's are ISO 8601, where people write the day first when they shorten (common practice, no source).
"""

import unittest

from loyalbell.core.clock.date_order import writes_day_first


class DateOrder(unittest.TestCase):
    def test_countries(self) -> None:
        for country in ("DE", "FR", "ES", "GB", "AU", "BR", "SE", "CA", "XX", ""):
            self.assertTrue(writes_day_first(country), country)
        for country in ("US", "JP", "CN", "KR", "TW", "HU"):
            self.assertFalse(writes_day_first(country), country)
