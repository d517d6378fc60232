"""Ringing up an order by hand."""

import secrets

from loyalbell.core.history.money import minor_digits, parse_money
from loyalbell.services.application import Application
from loyalbell.storage.schema import Item, Order, OrderLine, Person, Shop


class CannotRingUp(Exception):
    """Why an order cannot be rung up, in words."""


def ring_up(application: Application, person_id: int, item_id: int, amount: str, by: str) -> int:
    """One order of one item, now. An empty amount takes the item's price. Raises ``CannotRingUp``."""
    with application.database.transaction() as session:
        shop = session.get_one(Shop, 1)
        person, item = session.get(Person, person_id), session.get(Item, item_id)
        if person is None or item is None:
            raise CannotRingUp("That customer or item is no longer on file.")
        try:
            money = parse_money(amount, minor_digits(shop.currency)) if amount.strip() else item.price_minor
        except ValueError as error:
            raise CannotRingUp(f"{error}. Write it like 12.50.") from error
        if money is None or money <= 0:
            raise CannotRingUp("Give an amount above zero.")
        order = Order(
            external_id=f"till-{secrets.token_hex(6)}",
            person_id=person.id,
            department_id=item.department_id,
            placed_at=application.clock.now(),
            refunded_minor=0,
            total_minor=money,
            currency=shop.currency,
        )
        session.add(order)
        session.flush()
        session.add(OrderLine(order_id=order.id, item_id=item.id, quantity=1000, total_minor=money))
        application.note(session, by, "rang up an order", person=person.id, money=money)
        return order.id
