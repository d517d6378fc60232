"""The files that go with one person's mail: those of the message, a receipt of the order, care sheets."""

from datetime import datetime
from zoneinfo import ZoneInfo

from babel.dates import format_date
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.history.money import locale_of, say_money
from loyalbell.core.messages.content import EmailContent
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.messages.mime import MailFile
from loyalbell.services.delivery.composing.facts_at_hand import lines_of, order_of
from loyalbell.services.delivery.composing.receipt import Receipt, ReceiptLine, receipt_file
from loyalbell.services.translations import language_for
from loyalbell.storage.schema import AttachedFile, Delivery, Item, Order, OrderLine, Person, Shop


def files_of(
    session: Session, writing: EmailContent, delivery: Delivery, person: Person, shop: Shop, now: datetime
) -> list[MailFile]:
    """Raises ``FieldProblem`` where a receipt is to go with it and there is no order."""
    found: list[MailFile] = []
    wanted = list(writing.attachments)
    if writing.receipt or writing.care_sheets:
        order = order_of(session, delivery, now)
        if writing.receipt:
            if order is None:
                raise FieldProblem("There is no order on file to make a receipt of.")
            found.append(receipt_file(_receipt(session, order, person, shop)))
        if writing.care_sheets and order is not None:
            wanted += _care_sheets(session, order)
    rows = {one.id: one for one in session.scalars(select(AttachedFile).where(AttachedFile.id.in_(wanted)))}
    known = (rows[at] for at in dict.fromkeys(wanted) if at in rows)
    return [*found, *(MailFile(one.name, one.kind, one.data) for one in known)]


def _care_sheets(session: Session, order: Order) -> list[int]:
    query = (
        select(Item.care_sheet_id)
        .join(OrderLine, OrderLine.item_id == Item.id)
        .where(OrderLine.order_id == order.id, Item.care_sheet_id.is_not(None))
        .order_by(OrderLine.id)
    )
    return [one for one in session.scalars(query) if one is not None]


def _receipt(session: Session, order: Order, person: Person, shop: Shop) -> Receipt:
    language = person.language or ""

    def money(minor: int) -> str:
        return say_money(minor, order.currency, country=shop.country)

    sums = [("Discount", money(-order.discount_minor))] if order.discount_minor else []
    sums.append(("Total", money(order.total_minor)))
    if order.refunded_minor:
        sums.append(("Refunded", money(-order.refunded_minor)))
    day = order.placed_at.astimezone(ZoneInfo(shop.zone)).date()
    return Receipt(
        shop.name,
        shop.postal_address,
        shop.country,
        order.external_id or str(order.id),
        format_date(day, "long", locale=locale_of(shop.country, language_for(language, ""))),
        person.name,
        [
            ReceiptLine(name, f"{quantity / 1000:g}", money(minor))
            for name, quantity, minor in lines_of(session, [order.id]).get(order.id, ())
        ],
        sums,
        language,
    )
