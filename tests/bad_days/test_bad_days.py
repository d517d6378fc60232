"""A small part of ``make bad-days``."""

import unittest

from tests.bad_days.__main__ import all_faults, tried


class BadDaysTest(unittest.TestCase):
    def test_nothing_is_lost_and_nothing_comes_twice(self) -> None:
        for fault in all_faults(kills=2, imports=1):
            found = tried(fault)
            with self.subTest(found.fault):
                self.assertEqual((found.lost, found.twice, found.is_well), (0, 0, True), found.happened)
