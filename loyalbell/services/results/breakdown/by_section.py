"""What came of messages by the sections of them that their people were shown."""

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.history.columns import Ints
from loyalbell.core.history.snapshot import Deliveries
from loyalbell.core.messages.sections import SHOWN
from loyalbell.services.delivery.composing.writings import Writings
from loyalbell.services.results.breakdown.part import Part
from loyalbell.storage.schema import Delivery, Shop

AT_ONCE = 5_000


def by_section(session: Session, shop: Shop, sent: Deliveries, pressed: Ints, orders: Ints) -> list[Part]:
    """Of each section that some were shown and others not, both groups, as the sections stand in the message.

    ``sent`` in the order of its keys; ``pressed`` and ``orders`` by its rows. Sections of the same words in
    several versions or languages' writings are taken together.
    """
    writings, groups = Writings(shop), dict[str, dict[bool, list[int]]]()
    rows = {key: row for row, key in enumerate(sent.key.tolist())}
    for start in range(0, len(rows), AT_ONCE):
        keys = sent.key[start : start + AT_ONCE].tolist()
        query = select(Delivery).where(Delivery.id.in_(keys), Delivery.shown != "").order_by(Delivery.id)
        for delivery in session.scalars(query):
            made = writings.of(session, delivery, delivery.language)
            for section, mark in zip(made[1].sections if made else (), delivery.shown, strict=False):
                group = groups.setdefault(section.name, {True: [], False: []})
                group[mark == SHOWN].append(rows[delivery.id])
    return [
        _part(f"{name}: {'shown' if is_shown else 'not shown'}", np.array(group[is_shown]), pressed, orders)
        for name, group in groups.items()
        if group[True] and group[False]
        for is_shown in (True, False)
    ]


def _part(name: str, rows: Ints, pressed: Ints, orders: Ints) -> Part:
    return Part(name, len(rows), int(pressed[rows].sum()), int(orders[rows].sum()))
