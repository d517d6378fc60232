"""Offers: keeping their terms, giving people codes, and redeeming a code once, whoever else is at it."""

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from loyalbell.core.offers import (
    Given,
    Line,
    Names,
    OfferProblem,
    Terms,
    expires,
    given,
    greatest_cost,
    make_code,
    read_terms,
    say_benefit,
    say_terms,
    tidy_code,
)
from loyalbell.core.timing import local_day
from loyalbell.desk.desk import Desk
from loyalbell.desk.facts import say_date
from loyalbell.store.journal import mark_rows
from loyalbell.store.tables import Department, Item, Offer, OfferCode, Order, Person, Redemption, Shop

SAMPLE_CODE = "SAMPL-ECODE"


class CannotRedeem(Exception):
    """Why a code gives nothing, in words for the person at the till."""


@dataclass(frozen=True)
class Figures:
    """Money in minor units. ``open_cost`` is the most that codes still out there may cost."""

    given_out: int
    redeemed: int
    open_codes: int
    benefit: int
    cost: int
    purchases: int
    open_cost: int


def terms_of(offer: Offer) -> Terms:
    return read_terms(offer.terms)


def names(session: Session) -> Names:
    return Names(
        dict(session.execute(select(Item.id, Item.name)).all()),
        dict(session.execute(select(Department.id, Department.name)).all()),
    )


def keep(desk: Desk, offer_id: int | None, name: str, terms: Terms, by: str) -> int:
    """Codes given out before keep the terms of their offer as they are now. Raises ``OfferProblem``."""
    name = " ".join(name.split())[:120]
    if not name:
        raise OfferProblem("Give the offer a name, so that you find it again.")
    with desk.book.writing() as session:
        _check_known(session, terms)
        taken = session.scalar(select(Offer.id).where(func.lower(Offer.name) == name.lower()))
        if taken is not None and taken != offer_id:
            raise OfferProblem(f"There is an offer called “{name}” already. Choose another name.")
        now = desk.clock.now()
        offer = session.get(Offer, offer_id) if offer_id else None
        if offer is None:
            offer = Offer(made_at=now, terms={})
            session.add(offer)
        elif offer.terms != terms.model_dump(mode="json") and _codes_out(session, offer.id):
            raise OfferProblem(
                "Codes of this offer are out there already, and people hold its terms in their hands. "
                "Make a new offer instead."
            )
        offer.name, offer.terms = name, terms.model_dump(mode="json")
        offer.changed_at, offer.by = now, by
        session.flush()
        desk.note(session, by, "saved an offer", offer=name)
        return offer.id


def _codes_out(session: Session, offer_id: int) -> bool:
    return session.scalar(select(OfferCode.id).where(OfferCode.offer_id == offer_id).limit(1)) is not None


def _check_known(session: Session, terms: Terms) -> None:
    known = names(session)
    wanted = [*terms.items, *([terms.item] if terms.item is not None else [])]
    if any(at not in known.items for at in wanted) or any(
        at not in known.departments for at in terms.departments
    ):
        raise OfferProblem("It names an item or a department that is no longer on file. Choose another.")


def archive(desk: Desk, offer_id: int, away: bool, by: str) -> None:
    """Puts an offer away: no new codes are given; those out there hold on."""
    with desk.book.writing() as session:
        offer = session.get_one(Offer, offer_id)
        offer.archived_at = desk.clock.now() if away else None
        desk.note(session, by, "put an offer away" if away else "took an offer out again", offer=offer.name)


def issue(session: Session, shop: Shop, offer_id: int, person_id: int, now: datetime, touch_id: int | None = None) -> OfferCode | None:  # fmt: skip
    """The code that came with a touch, or a new one; ``None`` where the offer is gone, away or over."""
    if touch_id is not None:
        return issue_many(session, shop, offer_id, {touch_id: person_id}, now).get(touch_id)
    offer, until = _open_offer(session, shop, offer_id, now)
    if offer is None:
        return None
    code = _new(offer, person_id, None, now, until)
    session.add(code)
    session.flush()
    mark_rows(session, "codes", [code.id])
    return code


def issue_many(session: Session, shop: Shop, offer_id: int, people: Mapping[int, int], now: datetime) -> dict[int, OfferCode]:  # fmt: skip
    """By touch (id → person id) the code that came with it before, or a new one. Empty where none can be given any more."""
    there = {
        code.touch_id: code
        for code in session.scalars(
            select(OfferCode).where(OfferCode.offer_id == offer_id, OfferCode.touch_id.in_(list(people)))
        )
        if code.touch_id is not None
    }
    offer, until = _open_offer(session, shop, offer_id, now)
    if offer is None:
        return there
    fresh = {
        touch: _new(offer, person, touch, now, until)
        for touch, person in people.items()
        if touch not in there
    }
    session.add_all(fresh.values())
    session.flush()
    mark_rows(session, "codes", [code.id for code in fresh.values()])
    return there | fresh


def _open_offer(
    session: Session, shop: Shop, offer_id: int, now: datetime
) -> tuple[Offer | None, datetime | None]:
    """The offer and until when a code given now holds; ``None`` where none can be given."""
    offer = session.get(Offer, offer_id)
    if offer is None or offer.archived_at is not None:
        return None, None
    until = expires(terms_of(offer), now, shop.zone)
    return (None, None) if until is not None and until <= now else (offer, until)


def _new(
    offer: Offer, person_id: int, touch_id: int | None, now: datetime, until: datetime | None
) -> OfferCode:
    """One in 1.8 million million codes; the table refuses the same one twice."""
    return OfferCode(
        offer_id=offer.id, person_id=person_id, touch_id=touch_id, code=make_code(secrets.randbelow), issued_at=now,
        expires_at=until, uses_left=terms_of(offer).uses,
    )  # fmt: skip


def facts(
    session: Session, shop: Shop, offer: Offer, code: OfferCode | None, now: datetime
) -> dict[str, str]:
    """What a message says of an offer: ``name``, ``code``, ``terms``, ``until``, ``url``, ``qr``; a sample without a code."""
    terms = terms_of(offer)
    until = code.expires_at if code else expires(terms, now, shop.zone)
    last = say_date(local_day(until - timedelta(seconds=1), shop.zone)) if until else ""
    said = code.code if code else SAMPLE_CODE
    page = f"{shop.public_url}/offer/{said}"
    return {
        "name": say_benefit(terms, shop.currency, names(session)),
        "code": said,
        "terms": say_terms(terms, shop.currency, last),
        "until": last,
        "url": page,
        "qr": f"{page}/qr.png",
    }


def find(session: Session, typed: str) -> OfferCode:
    """Raises ``CannotRedeem``."""
    code = tidy_code(typed)
    if code is None:
        raise CannotRedeem("This is not one of our codes; a sign may be mistyped. Look again, sign by sign.")
    found = session.scalar(select(OfferCode).where(OfferCode.code == code))
    if found is None:
        raise CannotRedeem("No such code was given out.")
    return found


def why_not(code: OfferCode, now: datetime, zone: str) -> str:
    """Why a code no longer holds; empty where it does."""
    if code.expires_at is not None and code.expires_at <= now:
        last = local_day(code.expires_at - timedelta(seconds=1), zone)
        return f"It held until {say_date(last)}."
    return "" if code.uses_left > 0 else "It has been used."


def worth(session: Session, offer: Offer, lines: Sequence[Line]) -> Given:
    terms = terms_of(offer)
    item = session.get(Item, terms.item) if terms.item else None
    price = (item.price_minor or 0) if item else 0
    cost = price - item.margin_minor if item and item.margin_minor is not None else None
    return given(terms, lines, price, cost)


def redeem(desk: Desk, typed: str, purchase: int, by: str, lines: Sequence[Line] = (), order_id: int | None = None) -> Given:  # fmt: skip
    """Uses a code once on a purchase (minor units; ``lines`` where they are known). Raises ``CannotRedeem``.

    The use is taken in the same statement that looks whether there is one left.
    """
    with desk.book.writing() as session:
        now, shop = desk.clock.now(), desk.the_shop()
        code = find(session, typed)
        offer = session.get_one(Offer, code.offer_id)
        found = worth(
            session,
            offer,
            lines or [Line(purchase)] if terms_of(offer).whole or lines else _meant(offer, purchase),
        )
        if found.problem:
            raise CannotRedeem(f"It gives nothing here: {found.problem}.")
        taken = session.execute(
            update(OfferCode)
            .where(
                OfferCode.id == code.id,
                OfferCode.uses_left > 0,
                OfferCode.expires_at.is_(None) | (OfferCode.expires_at > now),
            )
            .values(uses_left=OfferCode.uses_left - 1)
        )
        if not taken.rowcount:  # type: ignore[attr-defined]
            session.refresh(code)
            raise CannotRedeem(why_not(code, now, shop.zone) or "It has been used.")
        session.add(
            Redemption(
                code_id=code.id, at=now, by=by, purchase_minor=purchase, given_minor=found.benefit,
                cost_minor=found.cost, order_id=order_id,
            )
        )  # fmt: skip
        mark_rows(session, "codes", [code.id])
        desk.note(session, by, "redeemed a code", offer=offer.name, person=code.person_id)
        return found


def _meant(offer: Offer, purchase: int) -> list[Line]:
    """At the till the amount that was typed is that of what the offer is for."""
    terms = terms_of(offer)
    return [
        Line(
            purchase,
            terms.items[0] if terms.items else None,
            terms.categories[0] if terms.categories else None,
            terms.departments[0] if terms.departments else None,
        )
    ]


def figures(session: Session, offer: Offer, now: datetime) -> Figures:
    codes = select(OfferCode).where(OfferCode.offer_id == offer.id).subquery()
    out, open_codes, open_uses = session.execute(
        select(func.count(), func.count().filter(_still(codes, now)), func.sum(codes.c.uses_left).filter(_still(codes, now)))
        .select_from(codes)
    ).one()  # fmt: skip
    used, benefit, cost, purchases = session.execute(
        select(
            func.count(),
            func.coalesce(func.sum(Redemption.given_minor), 0),
            func.coalesce(func.sum(Redemption.cost_minor), 0),
            func.coalesce(func.sum(Redemption.purchase_minor), 0),
        ).join(codes, codes.c.id == Redemption.code_id)
    ).one()
    terms = terms_of(offer)
    item = session.get(Item, terms.item) if terms.item else None
    price = (item.price_minor or 0) if item else 0
    each = greatest_cost(terms, typical_purchase(session), price - (item.margin_minor or 0) if item else 0)
    return Figures(out, used, open_codes, benefit, cost, purchases, each * int(open_uses or 0))


def _still(codes: Any, now: datetime) -> Any:
    held = codes.c
    return (held.uses_left > 0) & (held.expires_at.is_(None) | (held.expires_at > now))


def typical_purchase(session: Session) -> int:
    """The average of the orders on file that were not cancelled, in minor units."""
    average = session.scalar(select(func.avg(Order.total_minor)).where(Order.cancelled_at.is_(None)))
    return round(average or 0)


def holder(session: Session, code: OfferCode) -> Person:
    return session.get_one(Person, code.person_id)
