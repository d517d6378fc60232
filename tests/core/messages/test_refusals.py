"""What a refusal says about whom (rules.md section 5; RFC 3463 section 3 and RFC 5248 for the codes)."""

import unittest

from loyalbell.core.messages.refusals import (
    gateway_names_the_number,
    is_for_good,
    names_the_mailbox,
    refused_alike,
)

OF_THE_MAILBOX = (
    (550, "5.1.1 User unknown"),
    (550, "5.1.10 Recipient address has null MX"),
    (551, "5.1.6 User has moved"),
    (501, "5.1.3 Bad recipient address syntax"),
    (552, "5.2.2 Mailbox full"),
    (550, "5.2.1 Mailbox disabled"),
    (550, "No such user here"),
    (553, "mailbox name unknown"),
    (551, "User not local"),
)
OF_US = (
    (550, "relaying denied"),
    (550, "5.7.1 Relaying denied"),
    (550, "5.7.26 Unauthenticated email"),
    (554, "5.7.1 Message rejected as spam"),
    (550, "Blocked by our policy"),
    (550, "5.4.1 No answer from host"),
    (552, "5.3.4 Message too big"),
    (530, "5.7.0 Authentication required"),
    (550, "Your IP address is blacklisted"),
    (554, "Transaction failed"),
    (550, "5.1.8 Bad sender's system address"),
    (451, "4.7.1 Try later"),
    (550, "too many recipients this hour"),
    (553, "sender rate limit exceeded"),
    (550, "5.1.2 No such domain"),
)


class RefusalsTest(unittest.TestCase):
    def test_of_the_mailbox(self) -> None:
        for code, words in OF_THE_MAILBOX:
            with self.subTest(words=words):
                self.assertTrue(names_the_mailbox(code, words))

    def test_of_us_or_of_the_moment(self) -> None:
        for code, words in OF_US:
            with self.subTest(words=words):
                self.assertFalse(names_the_mailbox(code, words))

    def test_a_full_or_disabled_mailbox_may_be_back(self) -> None:
        self.assertFalse(is_for_good("552 5.2.2 Mailbox full"))
        self.assertFalse(is_for_good("550 5.2.1 Mailbox disabled"))
        self.assertTrue(is_for_good("550 5.1.1 User unknown"))
        self.assertTrue(is_for_good("550 No such user"))

    def test_statuses_of_gateways(self) -> None:
        for status in (301, 400, 401, 402, 403, 404, 429, 500, 503):
            self.assertFalse(gateway_names_the_number(status), status)
        self.assertTrue(gateway_names_the_number(410))

    def test_many_alike_are_not_about_single_mailboxes(self) -> None:
        """More than a tenth of a batch of twenty or more refused alike: nobody is marked."""
        words = "550 5.1.1 <p{}@example.com> User unknown"
        three = [(number, words.format(number)) for number in range(3)]
        self.assertEqual(refused_alike(20, three), [0, 1, 2])
        self.assertEqual(refused_alike(20, three[:2]), [])
        self.assertEqual(refused_alike(19, three), [])
        others = [(9, "550 5.1.6 Moved"), *three[:2]]
        self.assertEqual(refused_alike(20, others), [])
