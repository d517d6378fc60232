"""A small part of ``make fuzz``."""

import unittest

from tests.fuzz.files import run
from tests.support import ApplicationCase


class DamagedFiles(ApplicationCase):
    def test_whatever_is_chosen_is_read_or_refused_in_words(self) -> None:
        wrong = [damage for damage in run(self.application, 20261129, 40) if damage is not None]
        self.assertEqual([(one.name, one.kind, one.what) for one in wrong], [])


if __name__ == "__main__":
    unittest.main()
