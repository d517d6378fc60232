"""What ready-made sequences are made of: steps, messages and offers, filled from this shop's own figures."""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from sqlalchemy import select

from loyalbell.core.messages import content as c
from loyalbell.core.offers.terms import Terms
from loyalbell.services.application import Application
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import message_templates
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.offers.queries import terms_of
from loyalbell.services.rhythm.queries import shop_gap
from loyalbell.services.settings.channels import CareSettings, TextSettings, loaded
from loyalbell.storage.schema import Message, Offer

Data = dict[str, Any]
DAYTIME = {"kind": "window", "weekdays": [1, 2, 3], "begins": "10:00", "ends": "12:00"}
ANY_DAY = {"kind": "window", "weekdays": [0, 1, 2, 3, 4, 5, 6], "begins": "10:00", "ends": "18:00"}
AT_ONCE = {"kind": "at once"}
TEXT_FIRST = ["text", "email"]
ORDER, VISIT = {"what": "order"}, {"what": "visit"}
CAME = [ORDER, VISIT]
BEST_SHARE = 0.1
"""Best customers are the tenth with the most orders (a decision of ours)."""
YEAR = 365


@dataclass(frozen=True)
class SequenceTemplate:
    """``key`` is its name in addresses; ``why`` says what it does."""

    key: str
    name: str
    why: str
    build: Callable[["Making"], Data]


@dataclass
class Making:
    """One draft in the making: gives steps their identities, and messages from the library or from their
    template.
    """

    application: Application
    by: str
    count: int = 0
    known: dict[str, int] = field(default_factory=dict)

    def _id(self, sign: str) -> str:
        self.count += 1
        return f"{sign}{self.count}"

    def message(
        self,
        key: str,
        channels: list[str] | None = None,
        release: Data | None = None,
        offer: int | None = None,
    ) -> Data:
        """A step that sends the ready-made message with this key, with this offer in it."""
        return {
            "do": "message",
            "id": self._id("m"),
            "message": self.letter(key, offer),
            "channels": channels or ["email"],
            "release": release or ANY_DAY,
        }

    def wait(self, amount: int, unit: str = "days") -> Data:
        return {"do": "wait", "id": self._id("w"), "span": {"amount": amount, "unit": unit}}

    def step(self, do: str, **more: Any) -> Data:
        return {"do": do, "id": self._id("s"), **more}

    def letter(self, key: str, offer: int | None = None) -> int:
        """The message made from the template earlier, or a new one with this offer, else any there is."""
        if key not in self.known:
            template = message_templates.find(key)
            assert template is not None
            with self.application.database.reading() as session:
                there = session.scalar(select(Message.id).where(Message.name == template.name))
                some = session.scalar(select(Offer.id).where(Offer.archived_at.is_(None)).order_by(Offer.id))
            letterhead = message_queries.letterheads(self.application)
            content = message_templates.with_letterhead(
                template.content, letterhead[0].id if letterhead else None
            )
            self.known[key] = there or message_commands.keep(
                self.application,
                None,
                template.name,
                with_offer(content, offer or some),
                self.by,
                template.purpose,
            )
        return self.known[key]

    def offer(self, least: int, most: int, days: int) -> int:
        """An offer of ``least`` to ``most`` per cent off everything, for one use within ``days`` of
        getting it: one that the shop has, or a new one of ``least`` per cent.
        """
        with self.application.database.reading() as session:
            rows = session.scalars(select(Offer).where(Offer.archived_at.is_(None)).order_by(Offer.id))
            for one in rows:
                terms = terms_of(one)
                fits = terms.kind == "percent" and least <= terms.percent <= most and terms.whole
                if fits and terms.days == days and terms.until is None and not terms.least:
                    return one.id
            taken = {name.casefold() for name in session.scalars(select(Offer.name))}
        said = f"{least} % for {days} days"
        names = [said, *(f"{said}, {at}" for at in range(2, 100))]
        name = next(one for one in names if one.casefold() not in taken)
        return offer_commands.keep(self.application, None, name, Terms(percent=least, days=days), self.by)

    def waking(self, clock: str) -> str:
        """The time, or the end of the shop's quiet hours where that comes later in the morning."""
        ends = loaded(self.application, CareSettings).quiet_ends
        return max(clock, ends) if clock < "12:00" else clock

    def can_text(self) -> bool:
        """Whether a text network has been set up."""
        return bool(loaded(self.application, TextSettings).url)

    def gap(self) -> int:
        """The shop's typical days between two purchases."""
        return max(
            round(shop_gap(self.application, self.application.snapshot(), self.application.clock.now())), 1
        )

    def many_orders(self) -> int:
        """The number of orders in a year that only the best tenth of this shop's buyers exceed."""
        snapshot, now = self.application.snapshot(), int(self.application.clock.now().timestamp())
        orders = snapshot.orders
        rows = orders.span(now - YEAR * 86_400, now)
        counts = np.bincount(orders.person[rows][orders.void_at[rows] > now])
        counts = np.sort(counts[counts > 0])
        if not len(counts):
            return 3
        # so many that at most a tenth has more
        return int(counts[max(int(np.ceil(len(counts) * (1 - BEST_SHARE))) - 1, 0)])

    def usual_event(self) -> str:
        """What people do on the site most often, by what other programs say; else that they signed in."""
        snapshot = self.application.snapshot()
        kinds = snapshot.events.kind
        return snapshot.words.said[int(np.bincount(kinds).argmax())] if len(kinds) else "signed in"


def with_offer(content: c.MessageContent, offer: int | None) -> c.MessageContent:
    """Blocks that wait for an offer get this one."""
    data = content.model_dump(mode="json")
    for writing in data["writings"]:
        for block in writing.get("blocks", ()):
            if block["kind"] == "offer" and block.get("offer") is None:
                block["offer"] = offer
    return c.read_content(data)


def rule(*lines: Data) -> Data:
    """A rule that all of these lines must hold for."""
    return {"version": 1, "root": {"match": "all", "lines": list(lines)}}


def on_event(what: Data) -> Data:
    """A start: when this happens."""
    return {"on": "event", "happening": what}


def who_joins(found: Data, at: str = "09:00") -> Data:
    """A start: whoever comes to meet the rule, looked at each day."""
    return {"on": "segment", "way": "joins", "rule": found, "at": at}


def who_is_in(found: Data, at: str = "09:00") -> Data:
    """A start: whoever meets the rule on the day."""
    return {"on": "segment", "way": "is in", "rule": found, "at": at}
