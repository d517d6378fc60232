"""Orders of the demo's made-up people, rung up at the till when one of them decides to buy."""

from random import Random

from sqlalchemy import func, select

from loyalbell.services.application import Application
from loyalbell.services.customers.ordering import CannotRingUp, ring_up
from loyalbell.storage.schema import Item, Order, OrderLine, Person

TILL = "the till"


def buy(application: Application, channel: str, address: str, seed: int) -> None:
    """One order of something the person bought before, or of what sells best."""
    column = {"email": func.lower(Person.email), "text": Person.phone, "chat": Person.chat_handle}[channel]
    rng = Random(f"{address}{seed}")
    with application.database.reading() as session:
        wanted = address.lower() if channel == "email" else address
        person = session.scalars(
            select(Person.id).where(column == wanted).order_by(Person.id).limit(1)
        ).first()
        bought = list(
            session.scalars(
                select(OrderLine.item_id)
                .join(Order, Order.id == OrderLine.order_id)
                .where(Order.person_id == person, OrderLine.item_id.is_not(None))
            )
        )
        items = bought or list(session.scalars(select(Item.id).where(Item.price_minor > 0).order_by(Item.id)))
    if person is None or not items:
        return
    try:
        ring_up(application, person, rng.choice(items) or 0, "", TILL)
    except CannotRingUp:
        return
