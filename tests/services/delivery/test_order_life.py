"""Messages about an order, an appointment, a membership or a visit say those of the very one that they are
about; a receipt is made of it (read back by pypdf, which did not write it).
"""

from datetime import UTC, datetime, timedelta
from email import policy
from email.message import EmailMessage
from email.parser import BytesParser
from io import BytesIO
from typing import Any

from pypdf import PdfReader
from sqlalchemy import update

from loyalbell.core.messages.content import Button, EmailContent, Text
from loyalbell.services.customers.preference_centre import shown_again
from loyalbell.services.delivery.composing.facts_at_hand import Subject, subject_of
from loyalbell.services.delivery.engagement import clicked
from loyalbell.services.delivery.page_tokens import VIEW, page_token
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.sequences import manual_entry
from loyalbell.storage.schema import (
    Appointment,
    AttachedFile,
    Item,
    Location,
    Membership,
    Order,
    OrderLine,
    Person,
    Staff,
    Visit,
)
from tests.services.sequences.test_runner import DAY, HOUR, SequenceCase

WORDS = (
    "{{ order_number }}|{{ order_lines }}|{{ order_item }}|{{ order_total }}|"
    '{{ order_discount | default: "no discount" }}|{{ order_status }}|{{ order_on }}|'
    '{{ order_place | default: "our shop" }}|'
    '{{ order_tracking | default: "none" }}'
)


class OrderCase(SequenceCase):
    """A shop with two items, and Ann."""

    def setUp(self) -> None:
        super().setUp()
        with self.application.database.transaction() as session:
            session.add_all(
                [
                    Item(id=1, name="River tea", external_id="T1"),
                    Item(id=2, name="Honey"),
                    Location(id=1, name="Harbour Street"),
                    Staff(id=1, name="Mo"),
                ]
            )
        self.person = self.add_person(first_name="Ann", last_name="Lee")

    def order(self, number: str, *lines: tuple[int, int, int], **facts: Any) -> int:
        """``lines`` are item, quantity in thousandths, minor units."""
        made = self.add_order(self.person, 0, sum(line[2] for line in lines), external_id=number, **facts)
        with self.application.database.transaction() as session:
            for item, quantity, minor in lines:
                session.add(OrderLine(order_id=made, item_id=item, quantity=quantity, total_minor=minor))
        return made

    def ship(self, order: int) -> None:
        with self.application.database.transaction() as session:
            session.execute(update(Order).where(Order.id == order).values(shipped_at=self.clock.now()))

    def write(self, text: str, **more: Any) -> dict[str, Any]:
        content = EmailContent(
            subject="About it",
            preview="p",
            letterhead=message_queries.letterheads(self.application)[0].id,
            blocks=[Text(text=text), Button(label="Look", url="https://shop.example/")],
            **more,
        )
        made = message_commands.keep(self.application, None, f"Note {text[:20]}", content, "Ida", "service")
        return {"do": "message", "id": "m", "message": made, "release": {"kind": "at once"}}

    def start(self, what: str, text: str, **more: Any) -> None:
        self.ring(
            {
                "start": {"on": "event", "happening": {"what": what}},
                "again": {"kind": "each"},
                "steps": [self.write(text, **more)],
            }
        )

    def mails(self) -> list[EmailMessage]:
        parser = BytesParser(policy=policy.default)
        return [parser.parsebytes(one.content) for one in self.sender.handed]  # type: ignore[misc]

    def said(self) -> list[str]:
        """The first line of each mail below the shop's name."""
        bodies = [mail.get_body(("plain",)) for mail in self.mails()]
        lines = [str(body.get_content()).splitlines() for body in bodies if body is not None]
        return [[line for line in some if line][1] for some in lines]


class OrderLifeTest(OrderCase):
    def test_two_orders_shipped_together_are_each_told_of_their_own(self) -> None:
        self.start("order shipped", WORDS)
        first = self.order("R-1", (1, 2000, 1_840), (2, 1000, 900), tracking_code="AB 12", in_person=False)
        self.clock.move_on(timedelta(minutes=5))
        second = self.order("R-2", (2, 1500, 1_350), discount_minor=150, location_id=1, in_person=False)
        self.ship(first)
        self.ship(second)
        self.walk(HOUR)
        self.assertEqual(
            sorted(self.said()),
            [
                "R-1|2 × River tea, Honey|River tea|$27.40|no discount|shipped|12 May|our shop|AB 12",
                "R-2|1.5 × Honey|Honey|$13.50|$1.50|shipped|12 May|Harbour Street|none",
            ],
        )

    def test_the_link_and_the_browser_page_are_of_that_order_too(self) -> None:
        self.start("order shipped", "{{ order_number }} [Follow it]({{ tracking_url }})")
        for number in ("R-1", "R-2"):
            where = f"https://parcels.example/{number}"
            self.ship(self.order(number, (1, 1000, 900), tracking_url=where, in_person=False))
        self.walk(HOUR)
        for one in self.deliveries("sent"):
            with self.application.database.reading() as session:
                token = page_token(session, VIEW, one.token)
            page = shown_again(self.application, token) or ""
            number = "R-1" if "R-1" in page else "R-2"
            self.assertTrue(f"R-{3 - int(number[-1])}" not in page)
            followed = {clicked(self.application, one.token, str(at)) for at in range(3)}
            self.assertTrue(f"https://parcels.example/{number}" in followed)

    def test_without_an_order_the_message_is_withheld_and_says_why(self) -> None:
        self.ring({"start": {"on": "hand"}, "steps": [self.write("Thanks", receipt=True)]})
        self.bring()
        self.assertEqual(
            [(one.state, one.cause, one.detail) for one in self.deliveries()],
            [("withheld", "not filled", "There is no order on file to make a receipt of.")],
        )

    def test_outside_a_sequence_of_orders_it_is_the_newest(self) -> None:
        self.order("R-1", (1, 1000, 900))
        self.clock.move_on(DAY)
        self.order("R-2", (2, 1000, 900))
        self.ring({"start": {"on": "hand"}, "steps": [self.write("{{ order_number }} {{ visit_on }}")]})
        self.bring()
        self.assertEqual(self.said(), ["R-2 13 May"])

    def bring(self) -> None:
        (sequence,) = [at for at, _ in manual_entry.that_ring(self.application)]
        manual_entry.bring_by_hand(self.application, sequence, [self.person], None, "Ida")
        self.walk(HOUR)

    def test_the_appointment_that_was_missed_not_the_next_one(self) -> None:
        self.start(
            "appointment missed",
            "{{ appointment_on }} {{ appointment_at }} {{ appointment_for }} "
            "{{ appointment_place }} {{ appointment_with }} {{ appointment_whom }}",
        )
        now = self.clock.now()
        with self.application.database.transaction() as session:
            place = {"location_id": 1, "staff_id": 1, "item_id": 1, "person_id": self.person}
            ahead = now + timedelta(days=9)
            missed = Appointment(starts_at=now, state="missed", settled_at=now, companion="Rex", **place)
            session.add_all([missed, Appointment(starts_at=ahead, state="booked", **place)])
        self.walk(HOUR)
        self.assertEqual(self.said(), ["Tuesday 12 May 9:40 River tea Harbour Street Mo Rex"])

    def test_the_membership_that_renews(self) -> None:
        self.ring(
            {
                "start": {"on": "date", "which": "renewal", "days": -3, "at": "10:00"},
                "again": {"kind": "each"},
                "steps": [
                    self.write(
                        "{{ membership_plan }} {{ membership_term }} {{ membership_price }} "
                        "{{ membership_since }} {{ renews_on }}"
                    )
                ],
            }
        )
        today = self.clock.now().date()
        with self.application.database.transaction() as session:
            for plan, days in (("Gold", 3), ("Silver", 40)):
                session.add(
                    Membership(
                        person_id=self.person,
                        plan=plan,
                        term="yearly",
                        started_on=today - timedelta(days=300 - days),
                        renews_on=today + timedelta(days=days),
                        price_minor=12_000,
                    )
                )
        self.walk(HOUR)
        # 12 May less 297 days is 19 July of the year before
        self.assertEqual(self.said(), ["Gold yearly $120.00 19 July 15 May"])

    def test_a_visit_says_where_and_with_whom(self) -> None:
        self.start("visit", "{{ visit_on }} {{ visit_place }} {{ visit_with }}")
        with self.application.database.transaction() as session:
            came = {"person_id": self.person, "location_id": 1, "staff_id": 1}
            session.add(Visit(at=self.clock.now(), **came))
        self.walk(HOUR)
        self.assertEqual(self.said(), ["12 May Harbour Street Mo"])

    def test_an_order_that_was_given_to_somebody_else_since_is_not_told_of(self) -> None:
        other = self.add_person("bob@example.com")
        self.ring(
            {
                "start": {"on": "event", "happening": {"what": "order"}},
                "steps": [
                    {"do": "wait", "id": "w", "span": {"amount": 1, "unit": "days"}},
                    self.write('{{ order_number | default: "nothing" }}'),
                ],
            }
        )
        order = self.order("R-1", (1, 1000, 900))
        self.walk(HOUR)
        with self.application.database.transaction() as session:
            session.execute(update(Order).where(Order.id == order).values(person_id=other))
        self.walk(2 * DAY)
        of_ann = [one for one in self.mails() if "ann@" in str(one["To"])]
        self.assertEqual(len(of_ann), 1)
        self.assertTrue("nothing" in str(of_ann[0].get_body(("plain",))))


class ReceiptTest(OrderCase):
    def files(self) -> dict[str, bytes]:
        (mail,) = self.mails()
        return {str(part.get_filename()): part.get_payload(decode=True) for part in mail.iter_attachments()}  # type: ignore[misc]

    def receipt_of(self, number: str, *lines: tuple[int, int, int], **facts: Any) -> str:
        self.start("order", "Thanks", receipt=True)
        self.order(number, *lines, **facts)
        self.walk(HOUR)
        ((name, data),) = self.files().items()
        self.assertEqual(name, f"receipt-{number}.pdf")
        return "\n".join(page.extract_text() for page in PdfReader(BytesIO(data)).pages)

    def test_it_holds_the_shop_the_lines_and_the_sums(self) -> None:
        text = self.receipt_of("R-1", (1, 2000, 1_840), (2, 1500, 1_350), discount_minor=300)
        for words in (
            "Test Shop",
            "1 Test Row",
            "Receipt R-1",
            "May 12, 2026",
            "Ann Lee",
            "River tea",
            "$18.40",
            "1.5",
            "Honey",
            "$13.50",
            "Discount",
            "$3.00",
            "Total",
            "$31.90",
        ):
            self.assertTrue(words in text, words)

    def test_in_the_language_of_the_customer(self) -> None:
        with self.application.database.transaction() as session:
            session.execute(update(Person).values(language="de", last_name="Łukaszewska-Öğretmenoğlu"))
        text = self.receipt_of("R-9", (1, 1000, 900))
        for words in ("Quittung R-9", "12. Mai 2026", "Artikel", "Summe", "Łukaszewska-Öğretmenoğlu"):
            self.assertTrue(words in text, words)

    def test_a_hundred_lines_take_several_pages_and_none_is_lost(self) -> None:
        with self.application.database.transaction() as session:
            session.add_all([Item(id=at, name=f"Thing number {at} " + "long " * 12) for at in range(10, 110)])
        text = self.receipt_of("R-2", *((at, 1000, at) for at in range(10, 110)))
        for at in range(10, 110):
            self.assertTrue(f"Thing number {at} " in text, at)
            self.assertTrue(f"${at / 100:.2f}" in text, at)

    def test_letters_that_the_font_lacks_make_it_a_text_file(self) -> None:
        with self.application.database.transaction() as session:
            session.execute(update(Item).where(Item.id == 1).values(name="煎茶"))
        self.start("order", "Thanks", receipt=True)
        self.order("R-3", (1, 1000, 900))
        self.walk(HOUR)
        ((name, data),) = self.files().items()
        self.assertEqual(name, "receipt-R-3.txt")
        self.assertTrue("1 × 煎茶: $9.00" in data.decode("utf-8-sig"))

    def test_care_sheets_of_the_items_bought_each_once(self) -> None:
        now = datetime(2026, 1, 1, tzinfo=UTC)
        with self.application.database.transaction() as session:
            for at, item in ((1, 1), (2, 2)):
                sheet = AttachedFile(name=f"care {at}.txt", kind="text/plain", data=b"water it", made_at=now)
                session.add(sheet)
                session.flush()
                session.execute(update(Item).where(Item.id == item).values(care_sheet_id=sheet.id))
        self.start("order", "Thanks", care_sheets=True)
        self.order("R-4", (1, 1000, 900), (1, 2000, 900))
        self.walk(HOUR)
        self.assertEqual(list(self.files()), ["care 1.txt"])


class SubjectTest(SequenceCase):
    def test_keys_of_runs(self) -> None:
        self.assertEqual(subject_of("order shipped 12"), Subject("order", 12))
        self.assertEqual(subject_of("order 12"), Subject("order", 12))
        self.assertEqual(subject_of("booking 7"), Subject("appointment", 7))
        self.assertEqual(subject_of("appointment kept 7"), Subject("appointment", 7))
        self.assertEqual(subject_of("renewal 5 2026-06-01"), Subject("membership", 5))
        self.assertEqual(subject_of("visit 38"), Subject("visit", 12))
        self.assertEqual(subject_of("visit 36"), Subject("order", 12))
        self.assertEqual(subject_of("visit 37"), Subject("appointment", 12))
        for key in ("by hand 2026-05-12T09:00:00+00:00", "joins 2026-05-12", "birthday 3 2026", "tag 4", ""):
            self.assertIsNone(subject_of(key))
