"""Changing customers, one and many, and finding them again."""

from datetime import timedelta

from sqlalchemy import select

from loyalbell.demo.messages import lapsed
from loyalbell.services.customers import bulk, custom_fields, profile, reachability, saved_views
from loyalbell.services.customers import commands as customer_commands
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.customers.custom_fields import CannotKeepField
from loyalbell.services.customers.person_edit import NotKept
from loyalbell.services.customers.queries import Filter
from loyalbell.storage.erased_addresses import erased_among
from loyalbell.storage.schema import ConsentEntry, Person, PersonChange, Suppression
from tests.support import NOW, ApplicationCase


class Editing(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.ann = self.add_person("ann@example.com", first_name="Ann")

    def refuses(self, words: str, act: object, *given: object) -> None:
        with self.assertRaises(NotKept) as caught:
            act(self.application, self.ann, *given, "Ida")  # type: ignore[operator]
        self.assertIn(words, str(caught.exception))

    def changes(self) -> list[tuple[str, str | None, str | None, str]]:
        with self.application.database.reading() as session:
            rows = session.scalars(select(PersonChange).order_by(PersonChange.id))
            return [(one.what, one.before, one.after, one.by) for one in rows]

    def test_who_changed_what(self) -> None:
        customer_commands.change_person(
            self.application,
            self.ann,
            {"first_name": "Anne", "email": " Ann@EXAMPLE.com ", "phone": "(212) 555-0101"},
            "Ida",
        )
        customer_commands.change_person(self.application, self.ann, {"first_name": "Anne", "city": ""}, "Ida")
        customer_commands.change_dates(
            self.application, self.ann, "1990-02-29".replace("1990", "1992"), {"Wedding": "--06-01"}, "Bea"
        )
        customer_commands.change_dates(self.application, self.ann, "", {"Wedding": ""}, "Bea")
        self.assertEqual(
            self.changes(),
            [
                ("First name", "Ann", "Anne", "Ida"),
                ("Email", "ann@example.com", "Ann@example.com", "Ida"),
                ("Mobile phone", None, "+12125550101", "Ida"),
                ("Birthday", None, "1992-02-29", "Bea"),
                ("Wedding", None, "--06-01", "Bea"),
                ("Birthday", "1992-02-29", None, "Bea"),
                ("Wedding", "--06-01", None, "Bea"),
            ],
        )

    def test_what_is_wrong_changes_nothing(self) -> None:
        self.refuses(
            "not an email address", customer_commands.change_person, {"first_name": "X", "email": "no"}
        )
        self.refuses("phone number", customer_commands.change_person, {"phone": "+999 123"})
        self.refuses("not a time zone", customer_commands.change_person, {"zone": "Mars"})
        self.refuses("at least a name", customer_commands.change_person, {"first_name": "", "email": ""})
        self.refuses("lies in the future", customer_commands.change_dates, "2030-01-01", {})
        self.refuses("not a date", customer_commands.change_dates, "30 February 1990", {})
        self.refuses("cannot lie in the future", customer_commands.change_marks, {"closed_at": "2027-01-01"})
        self.refuses("without commas", customer_commands.add_tag, "a, b")
        self.refuses("Write a note", customer_commands.add_note, "  ")
        self.refuses("where or how", reachability.say_consent, "email", "refused", " ", "")
        self.refuses("on file already", reachability.say_consent, "email", "agreed", "counter", "")
        self.assertEqual(self.changes(), [])
        other = self.add_person("bo@example.com")
        customer_commands.change_ids(self.application, other, [("till", "7")], "Ida")
        self.refuses("belongs to another customer", customer_commands.change_ids, [("till", "7")])

    def test_marks_tags_fields_and_companions_hold_at_once(self) -> None:
        field = custom_fields.make_field(self.application, "Likes", "several choices", ["tea", "cake"], "Ida")
        customer_commands.change_fields(self.application, self.ann, {field: "cake; tea"}, "Ida")
        self.refuses("not among the choices", customer_commands.change_fields, {field: "beer"})
        customer_commands.add_tag(self.application, self.ann, " vip  guest ", "Ida")
        customer_commands.change_companions(
            self.application, self.ann, [(None, "Bo", "dog", "2020-05-01")], "Ida"
        )
        customer_commands.change_marks(self.application, self.ann, {"closed_at": "2026-05-01"}, "Ida")
        page = profile.page_of(self.application, self.ann)
        assert page is not None
        self.assertEqual([tag.name for tag in page.tags], ["vip guest"])
        self.assertEqual([one.said for one in page.fields], ["cake; tea"])
        self.assertEqual([one.name for one in page.companions], ["Bo"])
        snapshot = self.application.snapshot()
        self.assertFalse(snapshot.on_file(int(NOW.timestamp())).any())
        self.assertTrue(snapshot.on_file(int((NOW - timedelta(days=30)).timestamp())).all())
        customer_commands.change_marks(self.application, self.ann, {}, "Ida")
        customer_commands.remove_tag(self.application, self.ann, 1, "Ida")
        customer_commands.change_companions(self.application, self.ann, [(1, "", "", "")], "Ida")
        self.assertTrue(self.application.snapshot().on_file(int(NOW.timestamp())).all())
        kinds = {entry.kind for entry in profile.page_of(self.application, self.ann).diary}  # type: ignore[union-attr]
        self.assertEqual(kinds, {"change", "consent"})

    def test_suppressed_by_hand_and_lifted(self) -> None:
        reachability.suppress(self.application, self.ann, "email", "Ida")
        self.assertFalse(self.application.snapshot().reachable(0, int(NOW.timestamp())).any())
        reachability.lift(self.application, self.ann, 1, "Ida")
        self.assertTrue(self.application.snapshot().reachable(0, int(NOW.timestamp())).any())
        with self.application.database.transaction() as session:
            session.add(
                Suppression(
                    person_id=self.ann, channel="email", address="ann@example.com", reason="complaint", at=NOW
                )
            )
        self.refuses("complaint cannot be lifted", reachability.lift, 2)

    def test_the_rhythm_on_the_page(self) -> None:
        for days in (50, 40, 30, 20):
            self.add_order(self.ann, days)
        page = profile.page_of(self.application, self.ann)
        assert page is not None and page.rhythm is not None and page.next_day is not None
        self.assertEqual((page.rhythm.purchases, page.rhythm.own_gap, page.rhythm.since_last), (4, 10.0, 20))
        self.assertEqual(
            (page.rhythm.band, str(page.next_day)), ("late", "2026-05-02")
        )  # 10 days after 22 April

    def test_fields_that_are_used_or_not(self) -> None:
        field = custom_fields.make_field(self.application, "Size", "one choice", ["S", "M"], "Ida")
        customer_commands.change_fields(self.application, self.ann, {field: "s"}, "Ida")
        use = custom_fields.in_use(self.application)[0]
        self.assertEqual((use.known, use.people, use.used_in), (1, 1, []))
        for name, kind, choices in (
            ("Email", "text", []),
            ("size", "text", []),
            ("", "text", []),
            ("X", "one choice", []),
        ):
            with self.assertRaises(CannotKeepField):
                custom_fields.make_field(self.application, name, kind, choices, "Ida")
        with self.assertRaises(CannotKeepField):
            custom_fields.change_field(self.application, field, "Size", ["M"], "Ida")
        custom_fields.change_field(self.application, field, "Shoe size", ["S", "L"], "Ida")
        custom_fields.delete_field(self.application, field, "Ida")
        self.assertEqual(
            (custom_fields.in_use(self.application), len(self.application.snapshot().field_values)), ([], 0)
        )


class Many(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.ids = [
            self.add_person(f"p{n}@example.com", first_name="Ann" if n % 2 else "Bo") for n in range(8)
        ]
        for person in self.ids[:4]:
            self.add_order(person, 100)

    def test_found_by_words_rules_and_tags_together(self) -> None:
        bulk.tag_all(self.application, self.ids[2:6], "vip", "Ida")
        tag = customer_queries.tags_of(self.application)[0].id
        segment = self.lapsed_segment(60)
        for whom, expected in (
            (Filter(), self.ids),
            (Filter("ann"), self.ids[1::2]),
            (Filter("vip"), self.ids[2:6]),
            (Filter(rule=lapsed(60)), self.ids[:4]),
            (Filter("bo", segment_id=segment), [self.ids[0], self.ids[2]]),
            (Filter("ann", segment_id=segment, tag_id=tag), [self.ids[3]]),
            (Filter("nobody", segment_id=segment), []),
        ):
            self.assertEqual(customer_queries.all_ids(self.application, whom), expected, whom)
            pages, after = [], 0
            while page := customer_queries.page_of_ids(self.application, whom, after, 2):
                pages += page
                after = page[-1]
            self.assertEqual(pages, expected)
            if not whom.search:
                self.assertEqual(customer_queries.how_many(self.application, whom), len(expected))
        lines = customer_queries.find(self.application, "", 0, 3, ("band", "tags", "next_appointment"))
        self.assertEqual([list(line.tags) for line in lines], [[], [], ["vip"]])
        self.assertEqual(bulk.untag_all(self.application, self.ids, "vip", "Ida"), 4)
        self.assertEqual(customer_queries.all_ids(self.application, Filter("vip")), [])

    def test_views(self) -> None:
        view = saved_views.keep_view(
            self.application, "Late  ones", Filter("bo", rule=lapsed(30)), ["email", "band"], "Ida"
        )
        self.assertEqual(
            saved_views.keep_view(self.application, "Late ones", Filter("ann"), ["email"], "Ida"), view
        )
        self.assertEqual(
            [(one.name, one.search, one.rule) for one in saved_views.views(self.application)],
            [("Late ones", "ann", None)],
        )
        with self.assertRaises(saved_views.CannotKeepView):
            saved_views.keep_view(self.application, " ", Filter(), [], "Ida")

    def test_suppressed_and_erased_for_good(self) -> None:
        self.assertEqual(bulk.suppress_all(self.application, self.ids[:3], ["email", "text"], "Ida"), 3)
        self.assertEqual(bulk.suppress_all(self.application, self.ids[:4], ["email"], "Ida"), 1)
        self.assertEqual(int(self.application.snapshot().reachable(0, int(NOW.timestamp())).sum()), 4)
        with self.assertRaises(NotKept):
            bulk.erase_all(self.application, self.ids[:2], "1", "Ida")
        self.assertEqual(bulk.erase_all(self.application, self.ids[:2], "2", "Ida"), 2)
        with self.application.database.reading() as session:
            self.assertEqual(session.query(Person).count(), 6)
            self.assertEqual(session.query(ConsentEntry).count(), 6)
            self.assertEqual(
                erased_among(session, "email", [f"p{number}@example.com" for number in range(4)]),
                {"p0@example.com", "p1@example.com"},
            )
        snapshot = self.application.snapshot()
        self.assertEqual((int(snapshot.on_file(int(NOW.timestamp())).sum()), len(snapshot.orders)), (6, 2))
        again = self.add_person("P0@example.com")
        number = int(snapshot.number_of(self.application.snapshot().people.ids[-1:])[0])
        self.assertFalse(self.application.snapshot().reachable(0, int(NOW.timestamp()))[number], again)
