"""What the DNS must hold, by the grammar of the RFCs, and whether a sender's parts fit together."""

import re
import unittest

from loyalbell.core.messages.sender_records import (
    DnsRecord,
    Sender,
    aligned,
    alignment,
    in_strings,
    records_for,
)

KEY = "MIIB" + "A" * 388


def sender(**facts: str) -> Sender:
    plain = {"address": "ida@shop.example", "mail_host": "mail.shop.example"}
    return Sender(**(plain | facts))


class Records(unittest.TestCase):
    def of(self, one: Sender) -> dict[str, DnsRecord]:
        return {record.what: record for record in records_for(one)}

    def test_without_a_sender_there_is_nothing_to_publish(self) -> None:
        self.assertEqual(records_for(sender(address="")), [])

    def test_spf_names_the_server_by_name_or_number(self) -> None:
        """RFC 7208, sections 5.3 and 5.6: ``a:`` takes a domain, ``ip4:`` and ``ip6:`` an address."""
        self.assertEqual(self.of(sender())["SPF"].value, "v=spf1 a:mail.shop.example ~all")
        self.assertEqual(self.of(sender(mail_host="192.0.2.7"))["SPF"].value, "v=spf1 ip4:192.0.2.7 ~all")
        self.assertEqual(self.of(sender(mail_host="2001:db8::7"))["SPF"].value, "v=spf1 ip6:2001:db8::7 ~all")

    def test_spf_stands_at_the_domain_that_takes_bounces(self) -> None:
        """RFC 7208, section 2.4: it is asked of the domain in MAIL FROM."""
        self.assertEqual(self.of(sender())["SPF"].name, "shop.example")
        self.assertEqual(
            self.of(sender(return_domain="replies.shop.example"))["SPF"].name, "replies.shop.example"
        )

    def test_dkim_only_with_a_key_at_the_name_of_its_selector(self) -> None:
        """RFC 6376, sections 3.6.1 and 3.6.2.1."""
        self.assertNotIn("DKIM", self.of(sender(dkim_domain="shop.example", dkim_selector="bell")))
        found = self.of(sender(dkim_domain="shop.example", dkim_selector="bell", public_key=KEY))["DKIM"]
        self.assertEqual(found.name, "bell._domainkey.shop.example")
        self.assertEqual("".join(re.findall(r'"([^"]*)"', found.value)), f"v=DKIM1; k=rsa; p={KEY}")

    def test_strings_of_a_record_have_at_most_255_characters(self) -> None:
        """RFC 1035, section 3.3: a character-string has one length byte."""
        self.assertEqual(in_strings("x" * 255), "x" * 255)
        parts = re.findall(r'"([^"]*)"', in_strings("x" * 600))
        self.assertEqual([len(part) for part in parts], [255, 255, 90])

    def test_dmarc_only_reports_to_begin_with(self) -> None:
        """RFC 7489, section 6.3; a first policy of none is common practice, no source."""
        found = self.of(sender())["DMARC"]
        self.assertEqual(found.name, "_dmarc.shop.example")
        self.assertEqual(found.value, "v=DMARC1; p=none; rua=mailto:ida@shop.example")


class Alignment(unittest.TestCase):
    def test_one_domain_or_one_below_the_other(self) -> None:
        """RFC 7489, section 3.1: relaxed alignment, on the safe side without the public suffix list."""
        self.assertTrue(aligned("shop.example", "Shop.Example"))
        self.assertTrue(aligned("replies.shop.example", "shop.example"))
        self.assertFalse(aligned("notshop.example", "shop.example"))
        self.assertFalse(aligned("", "shop.example"))
        self.assertFalse(aligned("a.example", "b.example"))

    def test_each_part_that_does_not_belong_to_the_sender_is_said(self) -> None:
        signed = {"dkim_domain": "shop.example", "dkim_selector": "bell", "public_key": KEY}
        elsewhere = {"return_domain": "bounces.other.example"}
        for facts, wrong in (
            ({}, ["not signed"]),
            (signed, []),
            (elsewhere, ["SPF will not count", "not signed"]),
            (signed | elsewhere, ["SPF will not count"]),
            (signed | {"dkim_domain": "other.example"}, ["signature will not count"]),
            ({"address": ""}, ["no sender’s address"]),
        ):
            with self.subTest(facts=facts):
                is_complete, said = alignment(sender(**facts))
                self.assertEqual(is_complete, not wrong)
                for words, sentence in zip(wrong, said, strict=False):
                    self.assertIn(words, sentence)
                self.assertEqual(len(said), max(len(wrong), 1))
