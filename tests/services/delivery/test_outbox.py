"""A delivery goes only the ways that the table of transitions allows, whoever moves it."""

import ast
import unittest
from pathlib import Path

from sqlalchemy.exc import IntegrityError

from loyalbell.core.policy.delivery_state import (
    TRANSITIONS,
    DeliveryState,
    ForbiddenTransition,
    check_transition,
    sources_of,
)
from loyalbell.services.delivery.composing.rendering import newest_version
from loyalbell.services.delivery.outbox import become, become_all
from loyalbell.storage.schema import Delivery
from tests.support import NOW, ApplicationCase

PACKAGE = Path(__file__).resolve().parents[3] / "loyalbell"
STATES = {state.value for state in DeliveryState}


class OutboxTest(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.person, message = self.add_person(), self.letter()
        with self.application.database.reading() as session:
            self.version = newest_version(session, message).id

    def add(self, state: str) -> int:
        with self.application.database.transaction() as session:
            number = session.query(Delivery).count()
            delivery = Delivery(
                origin_kind="campaign",
                origin_id=number + 900,
                person_id=self.person,
                channel="email",
                message_version_id=self.version,
                token=f"t{number}",
                state=DeliveryState(state),
                due_at=NOW,
            )
            session.add(delivery)
            session.flush()
            return delivery.id

    def test_the_database_allows_what_the_table_allows_and_nothing_else(self) -> None:
        """Plain SQL for all 81 pairs, so that no service stands in between."""
        for before in DeliveryState:
            for after in DeliveryState:
                with self.subTest(before=before, after=after):
                    delivery_id, refused = self.add(before), False
                    try:
                        with self.application.database.transaction() as session:
                            session.connection().exec_driver_sql(
                                "UPDATE delivery SET state = ? WHERE id = ?", (after.value, delivery_id)
                            )
                    except IntegrityError:
                        refused = True
                    self.assertEqual(not refused, before is after or after in TRANSITIONS[before])

    def test_an_unknown_state_is_refused(self) -> None:
        delivery_id = self.add("planned")
        for statement in (
            "UPDATE delivery SET state = 'lost' WHERE id = ?",
            (
                "INSERT INTO delivery (origin_kind, origin_id, step, occurrence, person_id,"
                " message_version_id, channel, token, state, due_at, attempts) SELECT origin_kind, 1, step,"
                " occurrence, person_id, message_version_id, channel, 'x', 'lost', due_at, 0 FROM delivery"
                " WHERE id = ?"
            ),
        ):
            with self.assertRaises(IntegrityError), self.application.database.transaction() as session:
                session.connection().exec_driver_sql(statement, (delivery_id,))

    def test_what_is_over_stays_over(self) -> None:
        for state in ("withheld", "bounced"):
            with self.application.database.reading() as session:
                delivery = session.get_one(Delivery, self.add(state))
            for after in DeliveryState:
                if after != state:
                    with self.assertRaises(ForbiddenTransition):
                        become(delivery, after)
            self.assertEqual(delivery.state, state)

    def test_many_move_at_once_and_those_that_may_not_stay(self) -> None:
        ids = {state: self.add(state) for state in DeliveryState}
        with self.application.database.transaction() as session:
            moved = become_all(
                session, Delivery.id.in_(ids.values()), DeliveryState.WITHHELD, cause="stopped"
            )
        self.assertEqual(moved, 4)
        with self.application.database.reading() as session:
            withheld = {
                state for state, at in ids.items() if session.get_one(Delivery, at).cause == "stopped"
            }
        may = {DeliveryState.PLANNED, DeliveryState.HELD, DeliveryState.PAUSED, DeliveryState.FAILED}
        self.assertEqual(withheld, may)


class TableTest(unittest.TestCase):
    def test_the_table_and_its_questions_agree(self) -> None:
        for before in DeliveryState:
            check_transition(before, before)
            for after in TRANSITIONS[before]:
                check_transition(before, after)
                self.assertIn(before, sources_of(after))

    def test_only_what_was_in_flight_or_in_doubt_can_have_been_sent(self) -> None:
        """The promise of the whole: nothing is *sent* that was not written down before it was handed over."""
        self.assertEqual(set(sources_of(DeliveryState.SENT)), {DeliveryState.IN_FLIGHT, DeliveryState.UNSURE})
        self.assertEqual(sources_of(DeliveryState.IN_FLIGHT), [DeliveryState.PLANNED])

    def test_no_state_of_a_delivery_is_written_as_a_string(self) -> None:
        """In Python code ``Delivery.state`` and ``delivery.state`` meet members of the enum only."""
        found = []
        for file in PACKAGE.rglob("*.py"):
            if "migrations" in file.parts:
                continue
            for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
                if isinstance(node, ast.Compare) or (
                    isinstance(node, ast.Call)
                    and isinstance(node.func, ast.Attribute)
                    and node.func.attr == "in_"
                ):
                    about = ast.unparse(node)
                    strings = {one.value for one in ast.walk(node) if isinstance(one, ast.Constant)} & STATES
                    if ("Delivery.state" in about or "delivery.state" in about) and strings:
                        found.append(f"{file.relative_to(PACKAGE)}:{node.lineno} {about[:90]}")
        self.assertEqual([line for line in found if "webhook_outbox" not in line], [])
