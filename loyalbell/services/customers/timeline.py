"""A person's diary: everything that happened, in one dated stream, each entry with the rows behind it."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, time
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import at_local
from loyalbell.core.history.money import say_money
from loyalbell.core.policy.delivery_state import BOUNCED, SENT, UNSURE, WITHHELD
from loyalbell.core.policy.origins import PROOF
from loyalbell.core.policy.send_policy import CAUSE_WORDS
from loyalbell.core.results.machine_opens import MACHINE
from loyalbell.storage.schema import (
    Answer,
    Appointment,
    ConsentEntry,
    Delivery,
    DeliveryEvent,
    Department,
    Event,
    Item,
    Location,
    Membership,
    Message,
    MessageVersion,
    Note,
    Order,
    OrderLine,
    PersonChange,
    Shop,
    Staff,
    Suppression,
    Visit,
)

KINDS = {
    "order": "orders",
    "appointment": "appointments",
    "visit": "visits",
    "message": "messages",
    "consent": "consent",
    "event": "site",
    "answer": "answers",
    "membership": "memberships",
    "note": "notes",
    "change": "changes",
}
RESPONSE_WORDS = {
    "opened": "Opened",
    "clicked": "Clicked in",
    "refused": "Unsubscribed in",
}


@dataclass(frozen=True)
class DiaryEntry:
    """``rows`` are the facts behind the entry, as (what, value)."""

    at: datetime
    kind: str
    title: str
    detail: str = ""
    rows: tuple[tuple[str, str], ...] = ()


def diary(
    session: Session,
    person_id: int,
    kinds: set[str] | None = None,
    put_down_to: Mapping[int, str] | None = None,
) -> list[DiaryEntry]:
    """The newest first; only some kinds where ``kinds`` is given.

    ``put_down_to``: by order the message that it is put down to, and why, in words.
    """
    writing = _Diary(session, person_id, put_down_to or {})
    parts = {
        "order": writing.orders,
        "appointment": writing.appointments,
        "visit": writing.visits,
        "message": writing.deliveries,
        "consent": writing.consents,
        "event": writing.events,
        "answer": writing.answers,
        "membership": writing.memberships,
        "note": writing.notes,
        "change": writing.changes,
    }
    entries = [entry for kind, part in parts.items() if not kinds or kind in kinds for entry in part()]
    return sorted(entries, key=lambda entry: entry.at, reverse=True)


class _Diary:
    def __init__(self, session: Session, person_id: int, put_down_to: Mapping[int, str]) -> None:
        self.session, self.person_id, self.put_down_to = session, person_id, put_down_to
        shop = session.get_one(Shop, 1)
        self.zone, self.currency, self.country = shop.zone, shop.currency, shop.country
        self.names: dict[type, dict[int, str]] = {
            table: dict(session.execute(select(table.id, table.name)).all())
            for table in (Department, Location, Staff, Item)
        }

    def _money(self, minor: int) -> str:
        return say_money(minor, self.currency, country=self.country)

    def _name(self, table: type, row_id: int | None) -> str:
        return self.names[table].get(row_id or 0, "")

    def _place(self, row: Order | Visit | Appointment) -> str:
        where = [self._name(Department, row.department_id), self._name(Location, row.location_id)]
        staff = self._name(Staff, row.staff_id)
        return ", ".join(filter(None, [*where, staff and f"with {staff}"]))

    def orders(self) -> list[DiaryEntry]:
        lines: dict[int, list[tuple[str, str, str]]] = {}
        rows = self.session.execute(
            select(OrderLine, Item.name)
            .join(Order, Order.id == OrderLine.order_id)
            .outerjoin(Item, Item.id == OrderLine.item_id)
            .where(Order.person_id == self.person_id)
        )
        for line, name in rows:
            count = f"{line.quantity / 1000:g} × " if line.quantity != 1000 else ""
            money = self._money(line.total_minor)
            lines.setdefault(line.order_id, []).append((count, name or "something unnamed", money))
        entries = []
        for order in self._all(Order):
            own = lines.get(order.id, [])
            fate = self._fate(order)
            where = self._name(Department, order.department_id)
            title = f"{fate}{' in ' + where if where else ''}, {self._money(order.total_minor)}"
            detail = ", ".join(count + name for count, name, _ in own)
            facts = [(count + name, money) for count, name, money in own]
            entries.append(
                DiaryEntry(order.placed_at, "order", title, detail, (*facts, *self._order_facts(order)))
            )
        return entries

    @staticmethod
    def _fate(order: Order) -> str:
        if order.cancelled_at:
            return "Cancelled order"
        if order.refunded_minor:
            return "Refunded order" if order.refunded_minor >= order.total_minor else "Order, partly refunded"
        return "Order" if order.in_person else "Order by post"

    def _order_facts(self, order: Order) -> list[tuple[str, str]]:
        facts = [("Order id", order.external_id or "–")]
        if order.id in self.put_down_to:
            facts.append(("Followed", self.put_down_to[order.id]))
        if order.discount_minor:
            facts.append(("Discount", self._money(order.discount_minor)))
        if order.refunded_minor:
            facts.append(("Refunded", self._money(order.refunded_minor)))
        for name in ("confirmed", "shipped", "delivered", "cancelled", "refunded"):
            at: datetime | None = getattr(order, f"{name}_at")
            if at is not None:
                facts.append((name.capitalize(), f"{at:%Y-%m-%d %H:%M} UTC"))
        if order.tracking_code:
            facts.append(("Tracking number", order.tracking_code))
        place = self._place(order)
        return [*facts, ("Where", place)] if place else facts

    def appointments(self) -> list[DiaryEntry]:
        entries = []
        for one in self._all(Appointment):
            service = self._name(Item, one.item_id) or "Appointment"
            whom = f" for {one.companion}" if one.companion else ""
            title = f"{service}{whom}: {one.state}"
            facts = [("Appointment id", one.external_id or "–")]
            if one.booked_at:
                facts.append(("Booked", f"{one.booked_at:%Y-%m-%d %H:%M} UTC"))
            entries.append(DiaryEntry(one.starts_at, "appointment", title, self._place(one), tuple(facts)))
        return entries

    def visits(self) -> list[DiaryEntry]:
        return [
            DiaryEntry(one.at, "visit", "Came in", self._place(one), (("Visit id", one.external_id or "–"),))
            for one in self._all(Visit)
        ]

    def memberships(self) -> list[DiaryEntry]:
        entries = []
        for one in self._all(Membership):
            at = at_local(one.started_on, time(), self.zone)
            end = (
                f"ended {one.ended_on}"
                if one.ended_on
                else f"renews {one.renews_on}"
                if one.renews_on
                else ""
            )
            entries.append(DiaryEntry(at, "membership", f"Joined {one.plan}, {one.term}", end))
        return entries

    def events(self) -> list[DiaryEntry]:
        return [
            DiaryEntry(
                one.at,
                "event",
                one.kind.capitalize(),
                ", ".join(f"{name} {value}" for name, value in one.properties.items()),
            )
            for one in self._all(Event)
        ]

    def answers(self) -> list[DiaryEntry]:
        entries = []
        for one in self._all(Answer):
            score = f", {one.score} of {one.best}" if one.score is not None and one.best else ""
            about = self._name(Item, one.item_id)
            title = (
                f"Review{' of ' + about if about else ''}"
                if one.kind == "review"
                else one.question or "Answer"
            ) + score
            entries.append(DiaryEntry(one.at, "answer", title, one.text or ""))
        return entries

    def deliveries(self) -> list[DiaryEntry]:
        entries = []
        rows = self.session.execute(
            select(Delivery, Message.name)
            .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
            .join(Message, Message.id == MessageVersion.message_id)
            .where(Delivery.person_id == self.person_id, Delivery.origin_kind != PROOF)
        ).all()
        names = {delivery.id: name for delivery, name in rows}
        for delivery, name in rows:
            entries.append(_delivery_entry(delivery, name))
        for event in self.session.scalars(select(DeliveryEvent).where(DeliveryEvent.delivery_id.in_(names))):
            entries.append(_response_entry(event, names[event.delivery_id]))
        return entries

    def consents(self) -> list[DiaryEntry]:
        words = {
            "agreed": "Agreed to",
            "refused": "Refused",
            "waiting": "Was asked to confirm",
            "never asked": "No longer any consent on",
        }
        said = [
            DiaryEntry(
                entry.at,
                "consent",
                f"{words.get(entry.state, entry.state)} {entry.channel}",
                entry.source,
                tuple((name, value) for name, value in (("Shown", entry.wording), ("By", entry.by)) if value),
            )
            for entry in self._all(ConsentEntry)
        ]
        for one in self._all(Suppression):
            said.append(
                DiaryEntry(one.at, "consent", f"Suppressed on {one.channel}: {one.reason}", one.address)
            )
            if one.lifted_at:
                said.append(
                    DiaryEntry(one.lifted_at, "consent", f"Suppression on {one.channel} lifted", one.address)
                )
        return said

    def notes(self) -> list[DiaryEntry]:
        return [DiaryEntry(one.at, "note", one.text, f"noted by {one.by}") for one in self._all(Note)]

    def changes(self) -> list[DiaryEntry]:
        return [
            DiaryEntry(
                one.at,
                "change",
                f"{one.what}: {one.after or 'emptied'}",
                f"by {one.by}; before: {one.before or 'nothing'}",
            )
            for one in self._all(PersonChange)
        ]

    def _all(self, table: type[Any]) -> list[Any]:
        return list(self.session.scalars(select(table).where(table.person_id == self.person_id)))


def _response_entry(event: DeliveryEvent, message: str) -> DiaryEntry:
    if event.detail == MACHINE:
        return DiaryEntry(event.at, "message", f"Pictures of “{message}” fetched by a mail program")
    verb = RESPONSE_WORDS.get(event.kind, event.kind.capitalize())
    return DiaryEntry(event.at, "message", f"{verb} “{message}”")


def _delivery_entry(delivery: Delivery, name: str) -> DiaryEntry:
    at = delivery.sent_at or delivery.due_at
    if delivery.state == WITHHELD:
        why = CAUSE_WORDS.get(delivery.cause or "", delivery.cause or "")
        return DiaryEntry(at, "message", f"“{name}” not sent", why)
    state = {SENT: "sent by", BOUNCED: "not accepted by", UNSURE: "perhaps sent by"}.get(
        delivery.state, "planned by"
    )
    return DiaryEntry(at, "message", f"“{name}” {state} {delivery.channel}", delivery.address or "")
