"""Text messages counted against 3GPP TS 23.038 and TS 23.040, and the package smsutil."""

import unittest

import smsutil
import smsutil.codecs
from hypothesis import given
from hypothesis import strategies as st

from loyalbell.core.messages.text_parts import (
    ALONE,
    BASIC,
    EXTENSION,
    JOINED,
    parts,
    spread,
    wide_characters,
    with_twins,
)

PLAIN = st.text(st.sampled_from(BASIC + EXTENSION), max_size=700)
ANY = st.text(st.sampled_from(BASIC[:40] + EXTENSION + "жé’😀🐕\u00a0"), max_size=400)


class Parts(unittest.TestCase):
    def test_the_cases_of_the_standard(self) -> None:
        """TS 23.038 section 6.2.1 (tables), TS 23.040 section 9.2.3.24.1 (153 and 67 beside a header of six
        octets).
        """
        for text, expected in (
            ("", ("GSM-7", 1, 0)),
            ("a" * 160, ("GSM-7", 1, 160)),
            ("a" * 161, ("GSM-7", 2, 161)),
            ("a" * 306, ("GSM-7", 2, 306)),
            ("a" * 307, ("GSM-7", 3, 307)),
            ("€" * 80, ("GSM-7", 1, 160)),
            ("€" * 80 + "a", ("GSM-7", 2, 161)),
            (
                "a" * 152 + "€" * 77,
                ("GSM-7", 3, 306),
            ),  # the pair that would straddle 153 moves on, and so a part more
            ("ж" * 70, ("UCS-2", 1, 70)),
            ("ж" * 71, ("UCS-2", 2, 71)),
            ("😀" * 35, ("UCS-2", 1, 70)),
            ("😀" * 36, ("UCS-2", 2, 72)),
            ("ж" * 66 + "😀" * 34, ("UCS-2", 3, 134)),
            ("’", ("UCS-2", 1, 1)),
        ):
            found = parts(text)
            self.assertEqual((found.encoding, found.parts, found.units), expected, text[:20])

    def test_the_alphabet_is_that_of_smsutil(self) -> None:
        self.assertEqual(set(BASIC), set(smsutil.codecs.GSM_BASIC_CHARSET) - {"\x1b"})
        self.assertEqual(set(EXTENSION), set(smsutil.codecs.GSM_EXT_CHARSET))

    @given(st.one_of(PLAIN, ANY).filter(bool))
    def test_parts_are_those_of_smsutil(self, text: str) -> None:
        theirs, ours = smsutil.split(text), parts(text)
        self.assertEqual(ours.encoding == "GSM-7", smsutil.is_valid_gsm(text))
        self.assertEqual(list(ours.texts), [part.content for part in theirs.parts])

    @given(st.one_of(PLAIN, ANY))
    def test_nothing_is_lost_and_no_part_is_too_long(self, text: str) -> None:
        found = parts(text)
        self.assertEqual("".join(found.texts), text)
        bound = ALONE if found.parts == 1 else JOINED
        for part in found.texts:
            self.assertLessEqual(
                parts(part).units, bound[found.encoding] if found.encoding == "GSM-7" else 70
            )
            if found.encoding == "UCS-2":
                self.assertLessEqual(len(part.encode("utf-16-be")) // 2, bound["UCS-2"])

    def test_plain_twins(self) -> None:
        wide = wide_characters("Ida’s “bath” – ç… 🐕 naïve")
        self.assertEqual([one.character for one in wide], list("’“”–ç…🐕ï"))
        self.assertIsNone(next(one for one in wide if one.character == "🐕").twin)
        self.assertEqual(parts(with_twins("Ida’s “bath” – naïve…")).encoding, "GSM-7")

    @given(ANY)
    def test_twins_change_nothing_that_is_plain(self, text: str) -> None:
        plain = "".join(one for one in text if one in BASIC + EXTENSION)
        self.assertEqual(with_twins(plain), plain)
        self.assertTrue(all(one.twin is None for one in wide_characters(with_twins(text))))

    def test_spread_over_an_audience(self) -> None:
        found = spread(["a" * 160, "a" * 161, "’", "a" * 400])
        self.assertEqual((found.fewest, found.most, found.all_parts, found.wide), (1, 3, 7, 1))
