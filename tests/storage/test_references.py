"""The table of what uses what is written by itself, and stops what is used from being deleted."""

import unittest

from sqlalchemy import delete, select

from loyalbell.core.references import Kind
from loyalbell.core.segments.model import read_rule
from loyalbell.core.sequences.plan import read_plan
from loyalbell.demo.build import build_demo
from loyalbell.services import references as uses
from loyalbell.services.customers import custom_fields
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.storage import references
from loyalbell.storage.schema import ReferenceRow, Segment, Sequence
from tests.support import NOW, ApplicationCase, scratch_folder


def rows(application: object) -> set[tuple[object, ...]]:
    with application.database.reading() as session:  # type: ignore[attr-defined]
        return {
            (one.user_kind, one.user_id, one.used_kind, one.used_key)
            for one in session.scalars(select(ReferenceRow))
        }


class ReferencesTest(ApplicationCase):
    def keep_sequence(self, plan: dict[str, object], number: int | None = None) -> int:
        return sequence_commands.keep(self.application, number, "Win-back", read_plan(plan), "Ida")

    def test_a_segment_that_a_sequence_uses_stays(self) -> None:
        """Seen before: deleting it stopped every sequence."""
        segment = self.lapsed_segment()
        line = {"about": "segment", "segment": segment}
        made = self.keep_sequence({"only": {"root": {"lines": [line]}}})
        with self.assertRaises(uses.InUse) as refused:
            segment_commands.drop(self.application, segment, "Ida")
        self.assertEqual(refused.exception.uses, [uses.Use("sequence", made, "Win-back")])
        self.assertIn("the sequence “Win-back”", str(refused.exception))
        self.keep_sequence({}, made)
        segment_commands.drop(self.application, segment, "Ida")
        self.assertIsNone(self.application.find(Segment, segment))

    def test_a_message_that_a_sequence_uses_stays(self) -> None:
        message = self.letter()
        made = self.keep_sequence({"steps": [{"id": "a", "do": "message", "message": message}]})
        with self.assertRaises(uses.InUse):
            message_commands.drop(self.application, message, "Ida")
        sequence_commands.archive(self.application, made, "Ida")
        message_commands.drop(self.application, message, "Ida")

    def test_a_segment_within_a_segment_stays(self) -> None:
        inner = self.lapsed_segment()
        rule = read_rule({"version": 1, "root": {"lines": [{"about": "segment", "segment": inner}]}})
        outer = segment_commands.keep(self.application, None, "Outer", rule, "Ida")
        with self.assertRaises(uses.InUse):
            segment_commands.drop(self.application, inner, "Ida")
        segment_commands.drop(self.application, outer, "Ida")
        segment_commands.drop(self.application, inner, "Ida")
        self.assertEqual(rows(self.application), set())

    def test_a_field_in_a_letter_stays_until_the_newest_version_is_without_it(self) -> None:
        field = custom_fields.make_field(self.application, "Shoe size", "number", [], "Ida")
        message = self.letter(text=f"Size {{{{ field_{field} | default: 9 }}}}")
        with self.assertRaises(uses.InUse):
            custom_fields.delete_field(self.application, field, "Ida")
        plain = self.letter("Other", "Hello")
        content = message_commands.content_of(self.application, plain)
        message_commands.keep(self.application, message, "Hello", content, "Ida")
        custom_fields.delete_field(self.application, field, "Ida")

    def test_what_a_sequence_does_as_it_ticks_is_not_read_again(self) -> None:
        made = self.keep_sequence({})
        with self.application.database.transaction() as session:
            session.execute(delete(ReferenceRow))
            session.get_one(Sequence, made).looked_until = self.clock.now()
        self.assertEqual(rows(self.application), set())

    def test_a_plan_that_cannot_be_read_is_left_out_and_the_others_are_not(self) -> None:
        segment = self.lapsed_segment()
        line = {"about": "segment", "segment": segment}
        self.keep_sequence({"only": {"root": {"lines": [line]}}})
        with self.application.database.transaction() as session:
            session.add(
                Sequence(
                    name="Broken",
                    key="k",
                    draft={"steps": "none"},
                    state="draft",
                    rank=9,
                    made_at=NOW,
                    changed_at=NOW,
                    by="Ida",
                )
            )
            session.flush()
            references.rebuild(session)
        self.assertEqual(len(rows(self.application)), 1)


class DemoReferencesTest(unittest.TestCase):
    def test_written_along_the_way_they_are_those_made_anew(self) -> None:
        application = build_demo(scratch_folder(self), people=60)
        self.addCleanup(application.close)
        along_the_way = rows(application)
        self.assertGreater(len(along_the_way), 30)
        with application.database.transaction() as session:
            references.rebuild(session)
        self.assertEqual(along_the_way, rows(application))
        messages = {int(str(key)) for _, _, kind, key in along_the_way if kind == Kind.MESSAGE.value}
        used = uses.used_in(application, Kind.MESSAGE, min(messages))
        self.assertTrue(used and all(use.name for use in used))
