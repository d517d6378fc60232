"""Offers: keeping their terms, giving people codes, and redeeming a code once, whoever else is at it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.local_time import local_day
from loyalbell.core.messages.spoken_dates import say_date
from loyalbell.core.offers.terms import (
    Given,
    Line,
    Names,
    Terms,
    expires,
    given,
    greatest_cost,
    read_terms,
    say_benefit,
    say_terms,
    tidy_code,
)
from loyalbell.services.application import Application
from loyalbell.storage.schema import Department, Item, Offer, OfferCode, Order, Person, Redemption, Shop

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


def facts(
    session: Session, shop: Shop, offer: Offer, code: OfferCode | None, now: datetime
) -> dict[str, str]:
    """What a message says of an offer: ``name``, ``code``, ``terms``, ``until``, ``url``, ``qr``.

    A sample without a code.
    """
    terms = terms_of(offer)
    until = code.expires_at if code else expires(terms, now, shop.zone)
    last = say_date(local_day(until - timedelta(seconds=1), shop.zone)) if until else ""
    said = code.code if code else SAMPLE_CODE
    page = f"{shop.public_url}/offer/{said}"
    return {
        "name": say_benefit(terms, shop.currency, names(session), shop.country),
        "code": said,
        "terms": say_terms(terms, shop.currency, last, shop.country),
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


def figures(session: Session, offer: Offer, now: datetime, usual: int) -> Figures:
    """``usual`` is what one purchase usually comes to, in minor units."""
    codes = select(OfferCode).where(OfferCode.offer_id == offer.id).subquery()
    out, open_codes, open_uses = session.execute(
        select(
            func.count(),
            func.count().filter(_still(codes, now)),
            func.sum(codes.c.uses_left).filter(_still(codes, now)),
        ).select_from(codes)
    ).one()
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
    each = greatest_cost(terms, usual, price - (item.margin_minor or 0) if item else 0)
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


def current_names(application: Application) -> list[tuple[int, str]]:
    """(id, name) of the offers that are not put away, by name."""
    query = select(Offer.id, Offer.name).where(Offer.archived_at.is_(None)).order_by(Offer.name)
    with application.database.reading() as session:
        return [(offer_id, name) for offer_id, name in session.execute(query)]


def every_name(application: Application) -> dict[int, str]:
    """What each offer is called, those put away too."""
    with application.database.reading() as session:
        return {offer_id: name for offer_id, name in session.execute(select(Offer.id, Offer.name))}


def names_for_words(application: Application) -> Names:
    """The names by which an offer's terms are said."""
    with application.database.reading() as session:
        return names(session)


def with_figures(application: Application) -> list[tuple[Offer, Figures]]:
    """Every offer with what came of it, those put away last."""
    now = application.clock.now()
    query = select(Offer).order_by(Offer.archived_at.is_not(None), Offer.name)
    usual = usual_purchase(application)
    with application.database.reading() as session:
        return [(offer, figures(session, offer, now, usual)) for offer in session.scalars(query)]


def figures_of(application: Application, offer: Offer) -> Figures:
    usual = usual_purchase(application)
    with application.database.reading() as session:
        return figures(session, offer, application.clock.now(), usual)


def usual_purchase(application: Application) -> int:
    """What one purchase usually comes to, in minor units."""

    def look() -> int:
        with application.database.reading() as session:
            return typical_purchase(session)

    application.snapshot()
    return application.cache.of_version("usual purchase", application.snapshot_version(), "", look)


def newest_codes(
    application: Application, offer_id: int, limit: int
) -> list[tuple[OfferCode, Person, Sequence[Redemption]]]:
    """The newest codes of an offer, each with who holds it and how it was used."""
    query = select(OfferCode).where(OfferCode.offer_id == offer_id).order_by(OfferCode.id.desc()).limit(limit)
    with application.database.reading() as session:
        return [(code, holder(session, code), _redemptions(session, code)) for code in session.scalars(query)]


@dataclass(frozen=True)
class CodeFound:
    """A code typed at the till: its offer, who holds it, why it does not hold ("" where it does), and its
    uses.
    """

    code: OfferCode
    offer: Offer
    person: Person
    why_not: str
    uses: Sequence[Redemption]


def look_up(application: Application, typed: str) -> CodeFound:
    """The code that is meant. Raises ``CannotRedeem``."""
    now, zone = application.clock.now(), application.the_shop().zone
    with application.database.reading() as session:
        code = find(session, typed)
        offer = session.get_one(Offer, code.offer_id)
        uses = _redemptions(session, code)
        return CodeFound(code, offer, holder(session, code), why_not(code, now, zone), uses)


def _redemptions(session: Session, code: OfferCode) -> list[Redemption]:
    query = select(Redemption).where(Redemption.code_id == code.id).order_by(Redemption.at)
    return list(session.scalars(query))


def shown_to_its_holder(application: Application, offer: Offer, code: OfferCode) -> Mapping[str, object]:
    """The facts of a code as its holder's own page shows them."""
    with application.database.reading() as session:
        return facts(session, application.the_shop(), offer, code, application.clock.now())
