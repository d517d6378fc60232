"""Doing what the engine says: touches written, codes given, tags set, notes, lists, other sequences, other
programs.
"""

import secrets
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.clock.date_order import writes_day_first
from loyalbell.core.policy.delivery_state import HELD, PLANNED, SENT, WITHHELD
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.plan import read_plan
from loyalbell.core.sequences.plan_tree import Tree, tree_of
from loyalbell.core.sequences.walk import Act
from loyalbell.services.customers.reachability import suppress_in
from loyalbell.services.delivery.composing.rendering import newest_version, run_of
from loyalbell.services.delivery.link_tokens import new_token
from loyalbell.services.delivery.perhaps_gone import until_of
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.sequences.enrolment import bring
from loyalbell.services.sequences.places import Place
from loyalbell.storage import schema
from loyalbell.storage.records.custom_fields import read_field
from loyalbell.storage.records.person_facts import PersonFacts
from loyalbell.storage.schema import (
    CustomField,
    Delivery,
    HandedOff,
    Message,
    Person,
    SequenceVersion,
    Shop,
    StaffNote,
)
from loyalbell.storage.webhook_events import announce

DELIVERY = (
    "INSERT OR IGNORE INTO delivery (origin_kind, origin_id, step, occurrence, person_id, message_version_id,"
    " channel, token, state, cause, due_at, attempts, held_batch_id) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?,"
    " ?, ?)"
)


@dataclass
class ActionWriter:
    """One transaction's worth of acts. Touches are gathered and written together."""

    session: Session
    shop: Shop
    known: SequenceHistory
    now: datetime
    deliveries: list[tuple[Any, ...]] = field(default_factory=list)
    versions: dict[int, int | None] = field(default_factory=dict)

    def version(self, message_id: int | None) -> int | None:
        """The newest version of a message; ``None`` where it is gone."""
        if message_id is None:
            return None
        if message_id not in self.versions:
            there = self.session.get(Message, message_id) is not None
            self.versions[message_id] = newest_version(self.session, message_id).id if there else None
        return self.versions[message_id]

    def __post_init__(self) -> None:
        until = until_of(self.session)
        self.until = int(until.timestamp()) if until is not None else None

    def do(self, tree: Tree, place: Place, act: Act, held: int | None, was_due: int) -> None:
        """``held`` is the batch that keeps its messages back, if one does; ``was_due`` when the place was."""
        step = tree.nodes[act.step].step
        if act.kind == "arm":
            pass
        elif isinstance(step, p.MessageStep):
            self._delivery(step, place, act, held, was_due)
        elif not isinstance(step, p.StopContactStep) or self._was_asked(tree, act.step, place):
            _DO[type(step)](self, step, place)
        place.trail.append(
            [act.step, act.at, f"arm {act.detail}" if act.kind == "arm" else act.detail or act.kind]
        )

    def _delivery(self, step: p.MessageStep, place: Place, act: Act, held: int | None, was_due: int) -> None:
        version = self.version(step.message)
        if version is None:
            return
        sends = act.kind == "send"
        # what was due before a restore keeps that time: it may have left from the book that was lost
        due = min(act.at, was_due) if self.until is not None and was_due <= self.until else act.at
        channel = act.detail if sends else step.channels[0]
        self.deliveries.append(
            (
                SEQUENCE,
                place.sequence,
                step.id,
                place.key,
                place.person,
                version,
                channel,
                new_token(channel if sends else "email"),
                (HELD if held else PLANNED) if sends else WITHHELD,
                None if sends else act.detail,
                due,
                0,
                held if sends else None,
            )
        )

    def write(self) -> None:
        """The unique key of a touch makes sure that nobody gets a step twice."""
        if self.deliveries:
            self.session.connection().exec_driver_sql(DELIVERY, self.deliveries)
            self.deliveries = []

    def offer(self, step: p.OfferStep, place: Place) -> None:
        if step.offer is not None:
            to = offer_commands.Receiver(place.person, run_of(place.sequence, place.key))
            offer_commands.issue(self.session, self.shop, step.offer, to, self.now)

    def set(self, step: p.SetStep, place: Place) -> None:
        facts = PersonFacts(self.session, int(self.now.timestamp()))
        self.session.flush()
        if step.tag is not None:
            (facts.remove_tag if step.off else facts.add_tag)([place.person], step.tag)
        elif step.field is not None:
            kept = self.session.get(CustomField, step.field)
            if kept is not None:
                value = (
                    read_field(kept, step.value, writes_day_first(self.shop.country))
                    if step.value.strip()
                    else None
                )
                facts.set_field(step.field, {place.person: value})

    def tell(self, step: p.NotifyStaffStep, place: Place) -> None:
        self.session.add(
            StaffNote(
                enrolment_id=place.id, person_id=place.person, step=step.id, words=step.words, at=self.now
            )
        )

    def hook(self, step: p.HookStep, place: Place) -> None:
        announce(
            self.session,
            "sequence.step",
            self.now,
            person=place.person,
            sequence=place.sequence,
            step=step.id,
            name=step.name,
        )

    def hand_off(self, step: p.HandOffStep, place: Place) -> None:
        self.session.add(
            HandedOff(
                list=step.list, enrolment_id=place.id, person_id=place.person, step=step.id, at=self.now
            )
        )

    def bring(self, step: p.BringStep, place: Place) -> None:
        """Into another sequence that rings; one that does not lets nobody in."""
        other = self.session.get(schema.Sequence, step.sequence) if step.sequence is not None else None
        if other is None or other.state != "live" or other.live_version_id is None:
            return
        plan = self.session.scalar(
            select(SequenceVersion.plan).where(SequenceVersion.id == other.live_version_id)
        )
        key = f"brought by {place.sequence} {place.key}"
        bring(self.session, other, tree_of(read_plan(plan)), self.known, [place.person], key, self.now)

    def _was_asked(self, tree: Tree, step_id: str, place: Place) -> bool:
        """Whether the message before it was delivered.

        One that was withheld, held, failed or came back was not.
        """
        goodbye = tree.nodes[step_id].last_message
        if goodbye is None:
            return True
        delivered = select(Delivery.id).where(
            Delivery.origin_kind == SEQUENCE,
            Delivery.origin_id == place.sequence,
            Delivery.step == goodbye,
            Delivery.occurrence == place.key,
            Delivery.person_id == place.person,
            Delivery.state == SENT,
        )
        return self.session.scalar(delivered.limit(1)) is not None

    def stop_contact(self, step: p.StopContactStep, place: Place) -> None:
        person = self.session.get_one(Person, place.person)
        for channel in step.channels:
            suppress_in(self.session, person, channel, self.now, "a sequence", "stopped by a sequence")


_DO: dict[type, Callable[[ActionWriter, Any, Place], None]] = {
    p.OfferStep: ActionWriter.offer,
    p.SetStep: ActionWriter.set,
    p.NotifyStaffStep: ActionWriter.tell,
    p.HookStep: ActionWriter.hook,
    p.HandOffStep: ActionWriter.hand_off,
    p.BringStep: ActionWriter.bring,
    p.StopContactStep: ActionWriter.stop_contact,
}


def new_key() -> str:
    """A sequence's own key, by which its arms are drawn."""
    return secrets.token_hex(8)
