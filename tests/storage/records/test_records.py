"""Records of every kind in from tables: made, mended, refused, remembered, and undone."""

import io
import json
import unittest
from datetime import timedelta

from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import select
from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.core.history.visits import visits
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import exports
from loyalbell.services.imports import mapping as import_mapping
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.records.custom_fields import KINDS, check_value, read_field, say_field
from loyalbell.storage.schema import (
    ConsentEntry,
    CustomField,
    FieldValue,
    Person,
    PersonTag,
    Suppression,
    Tag,
)
from tests.storage.files.test_export import bring, out
from tests.support import NOW, ApplicationCase, said_of_rows

PEOPLE = "Customer ID,Email,Phone\nA,ann@example.com,(212) 555-0123\nB,bo@example.com,\n"


class Records(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        bring(self.application, "customers", PEOPLE)

    def counts(self, kind: str, text: str) -> tuple[int, int, int, int]:
        run = bring(self.application, kind, text)
        self.assertIsNone(run.problem)
        return run.created, run.changed, run.unchanged, run.refused

    def test_appointments_are_made_and_follow_their_state(self) -> None:
        head = "Booking ID,Customer,Date,Status,Service,With\n"
        self.assertEqual(
            self.counts(
                "appointments", head + "1,A,2026-05-20 10:00,booked,Bath,Bea\n2,B,5/1/2026,No-show,Bath,\n"
            ),
            (2, 0, 0, 0),
        )
        self.assertEqual(
            self.counts("appointments", head + "1,A,2026-05-20 11:00,Kept,Bath,Bea\n"), (0, 1, 0, 0)
        )
        self.assertEqual(
            self.counts("appointments", head + "1,A,2026-05-20 11:00,Kept,Bath,Bea\n"), (0, 0, 1, 0)
        )
        refused = (
            head
            + "3,C,2026-05-20,booked,,\n4,A,soon,booked,,\n5,A,2026-05-20,perhaps,,\n"
            + "1,A,2026-05-20,booked,,\n1,B,2026-05-20,booked,,\n"
        )
        run = bring(self.application, "appointments", refused)
        reasons = [text for _, text in sorted(said_of_rows(run).items())]
        self.assertEqual((run.changed, run.refused), (1, 4))
        for words, reason in zip(
            ("no customer with the id “C”", "not a date", "not a known appointment state", "twice"),
            reasons,
            strict=True,
        ):
            self.assertIn(words, reason)

    def test_a_visit_is_one_a_day_and_place(self) -> None:
        text = (
            "Customer,Date,Location\nA,2026-05-01 10:00,Mill\nA,2026-05-01 17:00,Mill\nA,2026-05-01"
            " 18:00,Quay\nA,2026-05-02,Mill\n"
        )
        self.assertEqual(self.counts("visits", text), (4, 0, 0, 0))
        self.assertEqual(self.counts("visits", text), (0, 0, 4, 0))
        self.assertEqual(len(visits(self.application.snapshot(), int(NOW.timestamp()))), 3)
        orders = (
            "Order ID,Customer ID,Date,Location,Total,Shipped at\n1,A,2026-05-01"
            " 12:00,Mill,5.00,\n2,A,2026-05-03 12:00,Mill,5.00,2026-05-04\n3,A,2026-05-04,Mill,5,\n"
        )
        self.assertEqual(self.counts("orders", orders), (3, 0, 0, 0))
        # the first falls on a visit, the second was sent by post, the third is a visit of its own
        self.assertEqual(len(visits(self.application.snapshot(), int(NOW.timestamp()))), 4)
        self.assertEqual(exports.figures(self.application)["visits"], 4)

    def test_order_lines_replace_those_of_their_order(self) -> None:
        self.counts(
            "orders",
            "Order ID,Customer ID,Date,Item,Line total\n1,A,2026-05-01,Tea,5.00\n1,A,2026-05-01,Cake,6\n",
        )
        lines = "Order ID,Item,Quantity,Line total\n1,Tea,2,10.00\n9,Tea,1,1\n"
        self.assertEqual(self.counts("order-lines", lines), (0, 1, 0, 1))
        self.assertEqual(self.counts("order-lines", lines), (0, 0, 1, 1))
        self.assertEqual(int(self.application.snapshot().lines.money.sum()), 1_000)

    def test_consents_and_suppressions(self) -> None:
        head = "Customer,Channel,Answer,Date,Source\n"
        self.assertEqual(
            self.counts("consents", head + "A,Email,yes,2026-01-02,card\nB,SMS,no,2026-01-02,card\n"),
            (2, 0, 0, 0),
        )
        self.assertEqual(self.counts("consents", head + "A,Email,yes,2026-01-02,card\n"), (0, 0, 1, 0))
        run = bring(self.application, "consents", "Customer,Channel,Answer\nB,text,yes\nA,email,no\n")
        self.assertEqual((run.created, run.refused), (1, 1))
        self.assertIn("refused the channel", run.problems[0]["examples"][0][1])
        self.assertEqual(self.counts("consents", head + "B,SMS,yes,2026-03-02,counter\n"), (1, 0, 0, 0))
        self.assertEqual(self.counts("consents", head + "B,SMS,yes,2027-03-02,counter\n"), (0, 0, 0, 1))
        text = "Address,Reason\nANN@Example.com,bounced\n(212) 555-0123,\n"
        self.assertEqual(self.counts("suppressions", text), (2, 0, 0, 0))
        self.assertEqual(self.counts("suppressions", text), (0, 0, 2, 0))
        with self.application.database.reading() as session:
            found = [(one.channel, one.address, one.reason) for one in session.scalars(select(Suppression))]
        self.assertEqual(
            found, [("email", "ANN@example.com", "hard bounce"), ("text", "+12125550123", "by hand")]
        )

    def test_new_fields_tags_and_yearly_dates(self) -> None:
        text = (
            "ID,Labels,Colour,Likes,Wedding,Shoe\nA,vip; walks,Red,x;y,2/29,38.5\nB,walks,blue,y,12 May"
            " 2020,40\n"
        )
        run = import_commands.begin_import(
            self.application, "customers", "f.csv", io.BytesIO(text.encode()), "Ida"
        )
        columns = {
            "id": "ID",
            "tags": "Labels",
            "new:one choice": "Colour",
            "new:several choices": "Likes",
            "new:yearly": "Wedding",
            "new:number": "Shoe",
        }
        self.assertIsNone(
            import_mapping.set_map(
                self.application, run.id, columns, {"day_first": False, "zone": "America/New_York"}
            )
        )
        import_commands.carry_out(self.application, run.id, False, lambda share, words: None)
        with self.application.database.reading() as session:
            self.assertEqual(session.query(CustomField).count(), 0)  # a try-out writes nothing
        import_commands.carry_out(self.application, run.id, True, lambda share, words: None)
        with self.application.database.reading() as session:
            kinds = {
                field.name: (field.kind, field.choices) for field in session.scalars(select(CustomField))
            }
        self.assertEqual(
            kinds,
            {
                "Colour": ("one choice", ["Red", "blue"]),
                "Likes": ("several choices", ["x", "y"]),
                "Shoe": ("number", []),
            },
        )
        again = bring(self.application, "customers", text)
        self.assertEqual((again.unchanged, again.changed, again.refused), (2, 0, 0))
        self.assertEqual(again.mapping["remembered"], "f.csv")
        wrong = bring(self.application, "customers", text.replace("Red", "green").replace("38.5", "big"))
        self.assertEqual((wrong.unchanged, wrong.refused, wrong.left_out), (2, 0, 2))
        snapshot, now = self.application.snapshot(), int(NOW.timestamp())
        tag = next(at for at, name in snapshot.catalogue.tags.items() if name == "walks")
        self.assertEqual(int(snapshot.tagged(tag, now).sum()), 2)
        self.assertEqual(int(snapshot.tagged(tag, now - 1).sum()), 0)  # not known before it was brought in
        shoe = next(at for at, (name, _) in snapshot.catalogue.fields.items() if name == "Shoe")
        self.assertEqual(sorted(snapshot.values_of(shoe, now).number), [38.5, 40.0])

    def test_undoing_puts_everything_back(self) -> None:
        bring(
            self.application, "orders", "Order ID,Customer ID,Date,Item,Line total\n1,A,2026-05-01,Tea,5.00\n"
        )
        before = {kind: out(self.application, kind) for kind in exports.KINDS if kind != "consents"}
        people = bring(
            self.application,
            "customers",
            "Customer ID,Email,First name,Tags,Email"
            " agreed\nA,new@example.com,Ann,vip,no\nC,c@example.com,Cy,vip,yes\n",
        )
        orders = bring(
            self.application,
            "orders",
            "Order ID,Customer ID,Date,Item,Line total\n1,A,2026-05-01,Tea,7.00\n2,B,2026-05-02,Cake,5.00\n",
        )
        import_commands.undo_import(self.application, orders.id, "Ida")
        import_commands.undo_import(self.application, people.id, "Ida")
        self.assertEqual({kind: out(self.application, kind) for kind in before}, before)
        with self.application.database.reading() as session:
            said = [
                (one.person_id, one.state)
                for one in session.scalars(select(ConsentEntry).order_by(ConsentEntry.id))
            ]
        self.assertEqual(said, [(1, "refused"), (1, "never asked")])  # the log is only added to
        with self.assertRaises(import_commands.CannotUndo):
            import_commands.undo_import(self.application, people.id, "Ida")
        again = bring(
            self.application, "orders", "Order ID,Customer ID,Date,Item,Line total\n1,A,2026-05-01,Tea,7.00\n"
        )
        self.assertEqual(again.changed, 1)

    def test_nothing_is_undone_that_something_depends_on(self) -> None:
        first = bring(self.application, "customers", "Customer ID,Email\nC,c@example.com\n")
        bring(self.application, "orders", "Order ID,Customer ID,Date,Total\n1,C,2026-05-01,5\n")
        with self.assertRaises(import_commands.CannotUndo) as caught:
            import_commands.undo_import(self.application, first.id, "Ida")
        self.assertIn("1 orders have come since", str(caught.exception))
        changed = bring(self.application, "customers", "Customer ID,First name\nA,Ann\n")
        bring(self.application, "customers", "Customer ID,First name\nA,Anna\n")
        with self.assertRaises(import_commands.CannotUndo) as caught:
            import_commands.undo_import(self.application, changed.id, "Ida")
        self.assertIn("undo it first", str(caught.exception))

    def test_a_map_from_a_file(self) -> None:
        path, table = self.folder / "map.json", self.folder / "f.csv"
        table.write_text("Wer,Wann\nA,3/4/2026\n")
        path.write_text(json.dumps({"columns": {"id": "Wer", "at": "Wann"}, "day_first": True}))
        self.application.close()
        result = CliRunner().invoke(
            app, ["import", "visits", str(table), "--data", str(self.folder), "--map", str(path), "--json"]
        )
        self.assertEqual(json.loads(result.output)["created"], 1, result.output)
        self.assertIn("2026-04-03T00:00:00-04:00", out(self.application, "visits"))
        path.write_text('{"columns": {"id": "Wo"}}')
        result = CliRunner().invoke(
            app, ["import", "visits", str(table), "--data", str(self.folder), "--map", str(path)]
        )
        self.assertIn("the column “Wo”, which the file does not have", result.output)

    def test_ten_thousand_field_values(self) -> None:
        rows = "\n".join(f"P{n},word {n}" for n in range(10_000))
        run = import_commands.begin_import(
            self.application, "customers", "f.csv", io.BytesIO(f"ID,Word\n{rows}\n".encode()), "Ida"
        )
        import_mapping.set_map(
            self.application, run.id, {"id": "ID", "new:text": "Word"}, {"day_first": False, "zone": "UTC"}
        )
        import_commands.carry_out(self.application, run.id, True, lambda share, words: None)
        self.assertEqual(len(self.application.snapshot().field_values), 10_000)

    def test_kinds_without_their_columns(self) -> None:
        for kind in ("visits", "appointments", "memberships", "events", "answers", "consents", "order-lines"):
            run = bring(self.application, kind, "Customer,Colour\nA,red\n")
            self.assertEqual(run.state, "failed")
            self.assertIn("Say which column", run.problem or "")
        with self.assertRaises(FileProblem):
            bring(self.application, "pets", "a\n1\n")


class Fields(unittest.TestCase):
    @given(st.floats(allow_nan=False, allow_infinity=False, min_value=-1e12, max_value=1e12))
    def test_numbers_come_back(self, number: float) -> None:
        field = CustomField(name="n", kind="number", choices=[])
        said = say_field("number", check_value(field, f"{number:.9f}"))
        self.assertEqual(say_field("number", read_field(field, said)), said)

    def test_what_is_no_value(self) -> None:
        choices = CustomField(name="c", kind="several choices", choices=["a", "b"])
        self.assertEqual(read_field(choices, "B; a"), ["a", "b"])
        for kind, bad in (
            ("number", "many"),
            ("number", "1e5"),
            ("number", "inf"),
            ("yes or no", "perhaps"),
            ("date", "30 Feb 2020"),
            ("one choice", "c"),
        ):
            self.assertIn(kind, KINDS)
            with self.assertRaises(ValueError):
                read_field(CustomField(name="x", kind=kind, choices=["a"]), bad)
        for kind, value in (("number", True), ("yes or no", 1), ("several choices", 3)):
            with self.assertRaises(ValueError):
                check_value(CustomField(name="x", kind=kind, choices=["a"]), value)


class KnownOnThatDay(ApplicationCase):
    def test_a_field_and_a_tag_as_they_were(self) -> None:
        from loyalbell.storage.records.person_facts import PersonFacts

        person = self.add_person()
        with self.application.database.transaction() as session:
            session.add_all(
                [
                    CustomField(id=1, name="Size", kind="number", choices=[], made_at=NOW),
                    Tag(id=1, name="vip"),
                ]
            )
            session.flush()
            for days, size in ((30, 1), (20, 2), (10, None)):
                PersonFacts(session, int((NOW - timedelta(days=days)).timestamp())).set_field(
                    1, {person: size}
                )
            early = PersonFacts(session, int((NOW - timedelta(days=30)).timestamp()))
            self.assertEqual(early.add_tag([person], 1), {person})
            self.assertEqual(early.add_tag([person], 1), set())
            PersonFacts(session, int((NOW - timedelta(days=5)).timestamp())).remove_tag([person], 1)
        snapshot = self.application.snapshot()
        known = {
            days: [
                float(n) for n in snapshot.values_of(1, int((NOW - timedelta(days=days)).timestamp())).number
            ]
            for days in (40, 25, 15, 5)
        }
        self.assertEqual(known, {40: [], 25: [1.0], 15: [2.0], 5: []})
        tagged = [
            bool(snapshot.tagged(1, int((NOW - timedelta(days=d)).timestamp()))[0]) for d in (40, 20, 5, 0)
        ]
        self.assertEqual(tagged, [False, True, False, False])
        with self.application.database.reading() as session:
            self.assertEqual(
                (
                    session.query(FieldValue).count(),
                    session.query(PersonTag).count(),
                    session.query(Person).count(),
                ),
                (2, 1, 1),
            )
