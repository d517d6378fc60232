"""Sequences about an order, and after one."""

from sqlalchemy import select

from loyalbell.services.sequences.ready_made.making import (
    AT_ONCE,
    ORDER,
    TEXT_FIRST,
    Data,
    Making,
    SequenceTemplate,
    on_event,
    rule,
)
from loyalbell.storage.schema import Item


def _order_stage(m: Making, stage: str) -> Data:
    """Tells of each order when it gets there; a cancelled one ends it."""
    return {
        "start": on_event({"what": f"order {stage}"}),
        "again": {"kind": "each"},
        "stops": [{"what": "order cancelled"}],
        "steps": [m.message(f"order-{stage}", release=AT_ONCE)],
    }


def _confirmed(m: Making) -> Data:
    return _order_stage(m, "confirmed")


def _shipped(m: Making) -> Data:
    return _order_stage(m, "shipped")


def _delivered(m: Making) -> Data:
    return _order_stage(m, "delivered")


def _how_was_it(m: Making) -> Data:
    """For what no other sequence names, so that items with a question of their own are left out."""
    return {
        "start": on_event({"what": "order delivered", "others": True}),
        "again": {"kind": "after", "days": 60},
        "stops": [{"what": "answer"}],
        "steps": [m.wait(7), m.message("how-was-it", TEXT_FIRST)],
    }


def _thanks(m: Making) -> Data:
    return {
        "start": on_event(ORDER),
        "again": {"kind": "after", "days": 30},
        "steps": [m.wait(1), m.message("thanks")],
    }


def _review(m: Making) -> Data:
    return {
        "start": on_event({"what": "order", "nth": 1}),
        "stops": [{"what": "answer"}],
        "steps": [m.wait(7), m.message("review")],
    }


def _item_thanks(m: Making) -> Data:
    return {
        "start": on_event({"what": "order", "others": True, "nth": 1}),
        "stops": [{"what": "answer"}],
        "steps": [m.wait(5), m.message("review", TEXT_FIRST)],
    }


def _refill(m: Making) -> Data:
    with m.application.database.reading() as session:
        lasting = session.execute(
            select(Item.id, Item.lasts_days).where(Item.lasts_days > 0).order_by(Item.lasts_days)
        ).all()
    days = (lasting[len(lasting) // 2][1] or 30) if lasting else 30
    items = [at for at, lasts in lasting if lasts == days]
    again = {"what": "order", "items": items}
    return {
        "start": on_event(again),
        "again": {"kind": "each"},
        "stops": [again],
        "steps": [m.wait(max(days - 5, 1)), m.message("refill", TEXT_FIRST)],
    }


def _second(m: Making) -> Data:
    """One order, a month ago; an email where there is an address, else a list to call; a week's wait for a
    purchase, then a little help.
    """
    once = rule({"about": "orders", "comparison": "exactly", "value": 1})
    reached = {
        "rule": rule({"about": "reach", "channel": "email"}),
        "steps": [
            m.message("second"),
            m.wait(7),
            m.message("second-offer", offer=m.offer(10, 15, 14)),
        ],
    }
    steps = [m.step("fork", arms=[reached], otherwise=[m.step("hand off", list="Call or write by hand")])]
    return {
        "start": {"on": "lack", "happening": ORDER, "days": 30, "at": "10:00"},
        "only": once,
        "stops": [ORDER],
        "steps": steps,
    }


ORDERS = (
    SequenceTemplate(
        "order-confirmed", "Order confirmed", "with what was ordered and a receipt, at once", _confirmed
    ),
    SequenceTemplate("order-shipped", "Order on its way", "with the tracking number, at once", _shipped),
    SequenceTemplate(
        "order-delivered", "Order arrived", "with the care sheets of what was bought, at once", _delivered
    ),
    SequenceTemplate(
        "how-was-it",
        "How was it?",
        "a week after delivery, for everything that no other sequence asks about",
        _how_was_it,
    ),
    SequenceTemplate("thanks", "Thanks for an order", "the day after, at most once a month", _thanks),
    SequenceTemplate("review", "Ask for a review", "a week after the first purchase only", _review),
    SequenceTemplate(
        "review-others", "Review of everything else", "for what no other sequence names", _item_thanks
    ),
    SequenceTemplate("refill", "Running out", "before what they bought is used up", _refill),
    SequenceTemplate(
        "second",
        "Second purchase",
        "a month after the only order: an email, and a small offer a week later; a list to call where there"
        " is no address",
        _second,
    ),
)
