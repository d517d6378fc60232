"""Each mutant can be planted: the line it changes is there, once. ``make mutants`` plants them all."""

import unittest
from pathlib import Path

from tests.mutants.mutants import MUTANTS

ROOT = Path(__file__).resolve().parents[2]


class MutantsTest(unittest.TestCase):
    def test_the_line_that_each_changes_stands_once(self) -> None:
        for mutant in MUTANTS:
            with self.subTest(mutant=mutant.name):
                text = (ROOT / mutant.file).read_text(encoding="utf-8")
                self.assertEqual(text.count(mutant.old), 1)
                self.assertNotEqual(mutant.old, mutant.new)
