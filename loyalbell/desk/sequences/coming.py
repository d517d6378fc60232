"""What is expected of the coming weeks: all that rings, from where everybody stands today, over expected returns."""

from collections import Counter
from dataclasses import dataclass
from datetime import timedelta
from threading import Lock, Thread

import structlog
from sqlalchemy import select

from loyalbell.core.rhythm.ahead import with_expected_orders
from loyalbell.core.rhythm.repeat import buying_days, gaps, repeat_curve
from loyalbell.core.sequences.facts import Known
from loyalbell.core.sequences.rehearse import Played, rehearse
from loyalbell.core.sequences.step import UNDER_WAY, Position
from loyalbell.core.sequences.tree import tree_of
from loyalbell.core.zones import zone_of
from loyalbell.desk.desk import Desk
from loyalbell.desk.rhythm import shop_gap
from loyalbell.desk.sequences.house import around_of, house_of, live_plans
from loyalbell.desk.sequences.places import COLUMNS, place_of
from loyalbell.desk.sequences.rehearsing import reactions
from loyalbell.store.tables import Enrolment, Shop

log = structlog.get_logger()
WEEKS, SEED = 6, 20


@dataclass(frozen=True)
class Coming:
    """``days``: by local day how many messages of which (sequence, channel) are expected."""

    days: dict[int, Counter[tuple[int, str]]]


_kept: dict[tuple[object, ...], Coming] = {}
_working: dict[tuple[object, ...], Thread] = {}
_turn = Lock()


def coming(desk: Desk, wait: bool = False) -> Coming | None:
    """Worked out once a day in the background; ``None`` while it is."""
    with desk.book.reading() as session:
        live = tuple(one.live_version_id for one, _ in live_plans(session))
    if not live:
        return Coming({})
    mark = (str(desk.book.path), desk.clock.now().date(), live)
    with _turn:
        if mark not in _kept and mark not in _working:
            thread = _working[mark] = Thread(target=_work, args=(desk, mark))
            thread.start()
        working = _working.get(mark)
    if wait and working is not None:
        working.join()
    return _kept.get(mark)


def _work(desk: Desk, mark: tuple[object, ...]) -> None:
    try:
        _kept[mark] = look_ahead(desk)
        while len(_kept) > 4:
            _kept.pop(next(iter(_kept)))
    except Exception:
        log.exception("the coming weeks could not be worked out")
        _kept[mark] = Coming({})
    finally:
        _working.pop(mark, None)


def look_ahead(desk: Desk) -> Coming:
    """Plays all that rings for ``WEEKS`` weeks from now. Raises ``RuleProblem``."""
    today, now = desk.ledger(), desk.clock.now()
    at, end = int(now.timestamp()), int((now + timedelta(weeks=WEEKS)).timestamp())
    zone = zone_of(today.zone)
    curve = repeat_curve(*gaps(buying_days(today, at), zone.day(at)))
    ledger = with_expected_orders(today, at, 7 * WEEKS, shop_gap(desk, today, now), curve, SEED)
    with desk.book.reading() as session:
        house = house_of(session, session.get_one(Shop, 1), now)
        around, rates, live = around_of(session, house), reactions(session, now), live_plans(session)
        known = Known(ledger, house, at - 800 * 86_400, end)
        numbers = {person: number for number, person in enumerate(known.ids)}
        standing: dict[int, list[tuple[int, Position]]] = {}
        for row in session.execute(select(*COLUMNS).where(Enrolment.state == UNDER_WAY)):
            place = place_of(row)
            if place.person in numbers:
                standing.setdefault(place.sequence, []).append((numbers[place.person], place.position))
        before: dict[int, dict[int, list[int]]] = {}
        came = select(Enrolment.sequence_id, Enrolment.person_id, Enrolment.entered_at).where(
            Enrolment.state != "kept out"
        )
        for sequence_id, person, entered in session.execute(came.order_by(Enrolment.entered_at)):
            if person in numbers:
                times = before.setdefault(sequence_id, {}).setdefault(numbers[person], [])
                times.append(int(entered.timestamp()))
    plays = [
        Played(
            one.key,
            tree_of(plan),
            one.rank,
            before=before.get(one.id, {}),
            standing=tuple(standing.get(one.id, ())),
        )
        for one, plan in live
    ]
    found = rehearse(plays, known, at, end, around, rates)
    days: dict[int, Counter[tuple[int, str]]] = {}
    for sent in found.sent:
        days.setdefault(zone.day(sent.at), Counter())[(live[sent.play][0].id, sent.channel)] += 1
    return Coming(days)
