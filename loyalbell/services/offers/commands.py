"""Offers: keeping their terms, giving people codes, and redeeming a code once, whoever else is at it."""

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from loyalbell.core.offers.terms import (
    Given,
    Line,
    OfferProblem,
    Terms,
    expires,
    make_code,
)
from loyalbell.services.application import Application
from loyalbell.services.offers.queries import CannotRedeem, find, names, terms_of, why_not, worth
from loyalbell.storage.schema import Offer, OfferCode, Redemption, Shop

Delivered = int | None


def keep(application: Application, offer_id: int | None, name: str, terms: Terms, by: str) -> int:
    """Codes given out before keep the terms of their offer as they are now. Raises ``OfferProblem``."""
    name = " ".join(name.split())[:120]
    if not name:
        raise OfferProblem("Give the offer a name, so that you find it again.")
    with application.database.transaction() as session:
        _check_known(session, terms)
        taken = session.scalar(select(Offer.id).where(func.lower(Offer.name) == name.lower()))
        if taken is not None and taken != offer_id:
            raise OfferProblem(f"There is an offer called “{name}” already. Choose another name.")
        now = application.clock.now()
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
        application.note(session, by, "saved an offer", offer=name)
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


def archive(application: Application, offer_id: int, away: bool, by: str) -> None:
    """Puts an offer away: no new codes are given; those out there hold on."""
    with application.database.transaction() as session:
        offer = session.get_one(Offer, offer_id)
        offer.archived_at = application.clock.now() if away else None
        application.note(
            session, by, "put an offer away" if away else "took an offer out again", offer=offer.name
        )


@dataclass(frozen=True)
class Receiver:
    """Whom a code is for. ``run``: their way through a sequence, in which they get one code of each offer."""

    person_id: int
    run: str = ""


def issue(session: Session, shop: Shop, offer_id: int, to: Receiver, now: datetime) -> OfferCode | None:
    """A code without a message; ``None`` where the offer is gone, away or over."""
    return issue_many(session, shop, offer_id, {None: to}, now).get(None)


def issue_many(
    session: Session, shop: Shop, offer_id: int, receivers: Mapping[Delivered, Receiver], now: datetime
) -> dict[Delivered, OfferCode]:
    """By delivery id (``None``: without a message) the code that came with it or in its run before, or a new
    one. Empty where none can be given any more.
    """
    there = _given_before(session, offer_id, receivers)
    offer, until = _open_offer(session, shop, offer_id, now)
    if offer is None:
        return there
    fresh: dict[Delivered, OfferCode] = {}
    of_runs: dict[tuple[int, str], OfferCode] = {}
    for delivery, to in receivers.items():
        if delivery in there:
            continue
        code = of_runs.get((to.person_id, to.run)) if to.run else None
        fresh[delivery] = code or _new(offer, to, delivery, now, until)
        of_runs[to.person_id, to.run] = fresh[delivery]
    session.add_all(fresh.values())
    session.flush()
    return there | fresh


def _given_before(
    session: Session, offer_id: int, receivers: Mapping[Delivered, Receiver]
) -> dict[Delivered, OfferCode]:
    """Codes that came with the same delivery (an earlier attempt) or in the same run."""
    people = {to.person_id for to in receivers.values()}
    codes = list(
        session.scalars(
            select(OfferCode).where(OfferCode.offer_id == offer_id, OfferCode.person_id.in_(people))
        )
    )
    of_delivery = {code.delivery_id: code for code in codes if code.delivery_id is not None}
    of_run = {(code.person_id, code.run): code for code in codes if code.run}
    found: dict[Delivered, OfferCode] = {}
    for delivery, to in receivers.items():
        code = of_delivery.get(delivery) if delivery is not None else None
        code = code or of_run.get((to.person_id, to.run))
        if code is not None:
            found[delivery] = code
    return found


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
    offer: Offer, to: Receiver, delivery_id: Delivered, now: datetime, until: datetime | None
) -> OfferCode:
    """One in 1.8 million million codes; the table refuses the same one twice."""
    return OfferCode(
        offer_id=offer.id,
        person_id=to.person_id,
        delivery_id=delivery_id,
        code=make_code(secrets.randbelow),
        issued_at=now,
        expires_at=until,
        uses_left=terms_of(offer).uses,
        run=to.run,
    )


def redeem(
    application: Application,
    typed: str,
    purchase: int,
    by: str,
    lines: Sequence[Line] = (),
    order_id: int | None = None,
) -> Given:
    """Uses a code once on a purchase (minor units; ``lines`` where they are known). Raises ``CannotRedeem``.

    The use is taken in the same statement that looks whether there is one left.
    """
    with application.database.transaction() as session:
        now, shop = application.clock.now(), application.the_shop()
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
                code_id=code.id,
                at=now,
                by=by,
                purchase_minor=purchase,
                given_minor=found.benefit,
                cost_minor=found.cost,
                order_id=order_id,
            )
        )
        application.note(session, by, "redeemed a code", offer=offer.name, person=code.person_id)
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
