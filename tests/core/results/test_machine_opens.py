"""Machine opens on sample user agents. Samples are made up after the forms of RFC 9110, section 10.1.5
(product/version and a comment); which words mark a program is common practice, no source.
"""

import unittest

from loyalbell.core.results.machine_opens import is_machine

PEOPLE = (
    "Mozilla/5.0 (X11; Linux x86_64) Engine/537.36 Browser/156.0 Safe/537.36",
    "Mozilla/5.0 (Phone; OS 17_0 like other) Engine/605.1.15 Mobile/15E148",
    "Mozilla/5.0 (mail reader)",
    "MailReader/12.3 (desktop)",
)
MACHINES = (
    "",
    "   ",
    "Mozilla/5.0",
    "PictureFetcher/1.0 (prefetch)",
    "Mozilla/5.0 (Windows) Engine/1 (via picture-proxy.example ImageProxy)",
    "ExampleBot/2.1 (+https://bot.example/)",
    "Mozilla/5.0 (compatible; MailScanner/4)",
    "python-requests/2.0",
    "curl/8.1.2",
    "Java/17.0.1",
    "HeadlessBrowser/120",
    "LinkPreview/1.0",
)


class MachineOpensTest(unittest.TestCase):
    def test_people(self) -> None:
        for agent in PEOPLE:
            with self.subTest(agent=agent):
                self.assertFalse(is_machine(agent, 60))

    def test_machines(self) -> None:
        for agent in MACHINES:
            with self.subTest(agent=agent):
                self.assertTrue(is_machine(agent, 60))

    def test_nobody_reads_within_seconds_of_sending(self) -> None:
        self.assertTrue(is_machine(PEOPLE[0], None), "still being handed over")
        self.assertTrue(is_machine(PEOPLE[0], 1.9))
        self.assertFalse(is_machine(PEOPLE[0], 2))

    def test_a_clock_that_stands_says_nothing(self) -> None:
        self.assertFalse(is_machine(PEOPLE[0], 0))
