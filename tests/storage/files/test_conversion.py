"""vCards and calendars as their standards print them, and spreadsheets as people make them."""

import io
import unittest
from datetime import datetime

from openpyxl import Workbook
from sqlalchemy import select

from loyalbell.storage.files.tables.icalendar_files import read_calendar
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.files.tables.vcard_files import Cards
from loyalbell.storage.schema import Appointment, Person, YearlyDate
from tests.storage.files.test_export import bring
from tests.support import ApplicationCase

# The author's own card of RFC 6350, section 8
CARD = """BEGIN:VCARD
VERSION:4.0
FN:Simon Perreault
N:Perreault;Simon;;;ing. jr,M.Sc.
BDAY:--0203
ANNIVERSARY:20090808T1430-0500
GENDER:M
LANG;PREF=1:fr
LANG;PREF=2:en
ORG;TYPE=work:Viagenie
ADR;TYPE=work:;Suite D2-630;2875 Laurier;
 Quebec;QC;G1V 2M2;Canada
TEL;VALUE=uri;TYPE="work,voice";PREF=1:tel:+1-418-656-9254;ext=102
TEL;VALUE=uri;TYPE="work,cell,voice,video,text":tel:+1-418-262-6501
EMAIL;TYPE=work:simon.perreault@viagenie.ca
GEO;TYPE=work:geo:46.772673,-71.282945
KEY;TYPE=work;VALUE=uri:
 http://www.viagenie.ca/simon.perreault/simon.asc
TZ:-0500
URL;TYPE=home:http://nomis80.org
END:VCARD
"""
# RFC 5545, section 4: the first example, and section 3.8.5.3: "Daily for 10 occurrences"
CALENDAR = """BEGIN:VCALENDAR
PRODID:-//xyz Corp//NONSGML PDA Calendar Version 1.0//EN
VERSION:2.0
BEGIN:VEVENT
DTSTAMP:19960704T120000Z
UID:uid1@example.com
ORGANIZER:mailto:jsmith@example.com
DTSTART:19960918T143000Z
DTEND:19960920T220000Z
STATUS:CONFIRMED
CATEGORIES:CONFERENCE
SUMMARY:Networld+Interop Conference
DESCRIPTION:Networld+Interop Conference
  and Exhibit\\nAtlanta World Congress Center\\n
 Atlanta\\, Georgia
END:VEVENT
BEGIN:VEVENT
UID:daily@example.com
DTSTAMP:19970901T130000Z
DTSTART;TZID=America/New_York:19970902T090000
RRULE:FREQ=DAILY;COUNT=10
SUMMARY:Daily
END:VEVENT
END:VCALENDAR
"""


def crlf(text: str) -> str:
    return text.replace("\n", "\r\n")


class AsPrinted(unittest.TestCase):
    def test_the_card_of_rfc_6350(self) -> None:
        headings, row = list(Cards(crlf(CARD)).rows())
        named = dict(zip(headings, row, strict=True))
        self.assertEqual((named["First name"], named["Last name"]), ("Simon", "Perreault"))
        self.assertEqual(named["Mobile phone"], "+1-418-262-6501")  # the one with the type cell
        self.assertEqual((named["Birthday"], named["Anniversary (yearly)"]), ("--02-03", "2009-08-08"))
        self.assertEqual(named["Street"], "2875 Laurier, Suite D2-630")
        self.assertEqual((named["City"], named["Region"], named["Postal code"]), ("Quebec", "QC", "G1V 2M2"))
        self.assertEqual(named["Language"], "fr")  # PREF=1
        self.assertEqual(named["Time zone"], "")  # an offset is not a zone

    def test_the_calendar_of_rfc_5545(self) -> None:
        headings, *rows = list(read_calendar(crlf(CALENDAR), "Europe/London"))
        named = [dict(zip(headings, row, strict=True)) for row in rows]
        self.assertEqual(named[0]["Starts at"], "1996-09-18T14:30:00+00:00")
        self.assertEqual(named[0]["Ends at"], "1996-09-20T22:00:00+00:00")
        days = [one["Starts at"] for one in named[1:]]
        # RFC 5545 prints: (1997 9:00 AM EDT) September 2-11
        self.assertEqual(days, [f"1997-09-{day:02}T09:00:00-04:00" for day in range(2, 12)])
        self.assertEqual(len({one["Appointment ID"] for one in named}), 11)

    def test_what_is_neither(self) -> None:
        for text in ("BEGIN:VCARD\r\nN:a\r\n", "BEGIN:VCALENDAR\r\nBEGIN:VEVENT\r\n"):
            reader = Cards(text).rows() if "VCARD" in text else read_calendar(text, "UTC")
            rows: list[list[str]] | None = None
            try:
                rows = list(reader)
            except FileProblem as problem:
                self.assertIn("cannot be read", str(problem))
            self.assertIn(len(rows or [1]), (1, 2))


class IntoTheBook(ApplicationCase):
    def test_cards_and_a_calendar(self) -> None:
        run = bring(self.application, "customers", crlf(CARD))
        self.assertEqual((run.created, run.refused), (1, 0), run.problems)
        text = crlf(CALENDAR).replace(
            "SUMMARY:Daily", "SUMMARY:Daily\r\nATTENDEE:mailto:simon.perreault@viagenie.ca"
        )
        run = bring(self.application, "appointments", text)
        self.assertEqual((run.created, run.refused), (10, 1), run.problems)
        with self.application.database.reading() as session:
            person = session.scalars(select(Person)).one()
            self.assertEqual(
                (person.phone, person.birthday_year, person.birthday_day), ("+14182626501", None, 3)
            )
            self.assertEqual(session.scalars(select(YearlyDate.name)).all(), [])
            first = session.scalars(select(Appointment).order_by(Appointment.starts_at)).first()
            assert first is not None
            self.assertEqual(first.starts_at.isoformat(), "1997-09-02T13:00:00+00:00")
        again = bring(self.application, "appointments", text)
        self.assertEqual((again.created, again.unchanged), (0, 10))

    def test_a_spreadsheet_with_real_dates_and_numbers(self) -> None:
        book = Workbook()
        sheet = book.active
        assert sheet is not None
        sheet.append([None, None, None])
        sheet.append(["Guest e-mail", "Signed up", "Cell phone no."])
        sheet.append(["ann@example.com", datetime(2025, 3, 9, 14, 30), 2125550123])
        sheet.append(["bo@example.com", datetime(2025, 3, 9), 2125550124.0])
        file = io.BytesIO()
        book.save(file)
        run = bring(self.application, "customers", file.getvalue())
        self.assertEqual((run.created, run.refused), (2, 0), run.problems)
        self.assertEqual(set(run.mapping["columns"]), {"email", "phone", "joined"})
        with self.application.database.reading() as session:
            self.assertEqual(list(session.scalars(select(Person.phone))), ["+12125550123", "+12125550124"])

    def test_files_of_the_wrong_kind(self) -> None:
        for kind, content, words in (
            ("orders", crlf(CARD), "imported as customers"),
            ("customers", crlf(CALENDAR), "imported as appointments"),
            ("customers", b"PK\x03\x04 not a spreadsheet", "cannot be read"),
        ):
            with self.assertRaises(FileProblem) as caught:
                bring(self.application, kind, content)
            self.assertIn(words, str(caught.exception))
        self.assertEqual(list((self.folder / "imports").iterdir()), [])
