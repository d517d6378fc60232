"""A tick with 100,000 people due, writes included, and a year rehearsed for 50,000 customers through six steps."""

import shutil
import tempfile
import time
from pathlib import Path

import numpy as np
from sqlalchemy import insert

from bench.measure import Line, once
from loyalbell.core.ledger import Consents, Ledger, Orders, People
from loyalbell.core.messages import content as c
from loyalbell.core.sequences.facts import House, Known
from loyalbell.core.sequences.plan import read_plan
from loyalbell.core.sequences.rehearsal import Played
from loyalbell.core.sequences.rehearse import rehearse
from loyalbell.core.sequences.tree import tree_of
from loyalbell.core.windows import Quiet
from loyalbell.demo.shop import NOW, ZONE
from loyalbell.desk import messages
from loyalbell.desk.channel_settings import CareSettings
from loyalbell.desk.desk import Desk
from loyalbell.desk.sequences import publishing
from loyalbell.desk.sequences.editing import keep
from loyalbell.desk.sequences.ringing import Ringing
from loyalbell.desk.setting_up import ShopForm, open_shop
from loyalbell.store.journal import mark_whole
from loyalbell.store.tables import ConsentEntry, Enrolment, Person

DUE, REHEARSED = 100_000, 50_000
A_SECOND, MOST_SECONDS = 10_000, 10.0
DAY = 86_400
SHOP = ShopForm("Bench", ZONE, "USD", "US", "1 Bench Row", "http://127.0.0.1:1", "Ida", "ida@bench.example", "127.0.0.1", 1)  # fmt: skip


class Still:
    def now(self):  # type: ignore[no-untyped-def]
        return NOW


def book_with_people_due(folder: Path) -> Desk:
    desk = Desk(folder, Still())
    open_shop(desk, SHOP, "Ida", "ida@bench.example", "a long password")
    letterhead = messages.letterheads(desk)[0].id
    letter = messages.keep(desk, None, "Hello", c.EmailContent(subject="Hello", preview="p", letterhead=letterhead, blocks=[c.Text(text="Hello")]), "Ida")  # fmt: skip
    plan = {"start": {"on": "hand"}, "stops": [{"what": "order"}], "steps": [{"do": "message", "id": "a", "message": letter}, {"do": "wait", "id": "w"}, {"do": "message", "id": "b", "message": letter}]}  # fmt: skip
    made = keep(desk, None, "Bench", read_plan(plan), "Ida")
    publishing.must_fix = lambda found: False
    publishing.publish(desk, made, publishing.Choices(), "Ida", normal=10.0 * DUE)
    with desk.book.writing() as session:
        CareSettings(limits=[], guard_floor=1_000_000, newcomer_percent=100).save(session)
        session.execute(insert(Person), [{"id": at, "email": f"p{at}@bench.example", "joined_at": NOW} for at in range(1, DUE + 1)])  # fmt: skip
        session.execute(insert(ConsentEntry), [{"person_id": at, "channel": "email", "state": "agreed", "at": NOW, "source": "bench"} for at in range(1, DUE + 1)])  # fmt: skip
        way = {"sequence_id": made, "version_id": 1, "key": "bench", "anchor_at": NOW, "entered_at": NOW, "state": "under way", "step": "a", "due_at": NOW, "settled": False, "sent": "", "trail": []}  # fmt: skip
        session.execute(insert(Enrolment), [way | {"person_id": at} for at in range(1, DUE + 1)])
        mark_whole(session, "people", "consents")
    return desk


def tick_line() -> Line:
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        desk = book_with_people_due(folder)
        desk.ledger()
        ringing = Ringing(desk)
        begin = time.perf_counter()
        moved = ringing.tick()
        seconds = time.perf_counter() - begin
        assert moved == DUE, moved
        desk.close()
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return Line("engine tick, writes included", f"{DUE:,} people due", moved / seconds, A_SECOND, "the bound", "1 or more", moved / seconds >= A_SECOND, "a second")  # fmt: skip


def rehearsal_line() -> Line:
    rng = np.random.default_rng(1)
    now = int(NOW.timestamp())
    count, start = 6 * REHEARSED, now - 365 * DAY
    orders = Orders.of(key=np.arange(count), person=rng.integers(0, REHEARSED, count), at=rng.integers(now - 730 * DAY, now, count), money=np.full(count, 1_000))  # fmt: skip
    everyone = np.arange(REHEARSED)
    consents = Consents.of(person=np.tile(everyone, 2), at=np.full(2 * REHEARSED, now - 900 * DAY), channel=np.repeat([0, 1], REHEARSED), state=np.where(rng.random(2 * REHEARSED) < 0.7, 1, 0))  # fmt: skip
    ledger = Ledger(ZONE, "USD", People.of(everyone + 1, np.full(REHEARSED, now - 900 * DAY)), orders=orders, consents=consents)  # fmt: skip
    window = {"kind": "window", "weekdays": [1, 2, 3], "begins": "10:00", "ends": "12:00"}
    steps = [
        {"do": "wait", "id": "w1", "span": {"amount": 60, "unit": "days"}}, {"do": "message", "id": "m1", "message": 1, "channels": ["text", "email"], "release": window},
        {"do": "wait", "id": "w2"}, {"do": "message", "id": "m2", "message": 1}, {"do": "wait", "id": "w3", "span": {"amount": 5, "unit": "days"}}, {"do": "message", "id": "m3", "message": 1},
    ]  # fmt: skip
    tree = tree_of(read_plan({"start": {"on": "event"}, "again": {"kind": "each"}, "stops": [{"what": "order"}], "steps": steps}))  # fmt: skip
    seconds = once(lambda: rehearse([Played("bench", tree)], Known(ledger, House(quiet=Quiet("21:00", "08:00"))), start, now))  # fmt: skip
    return Line("a year rehearsed, six steps", f"{REHEARSED:,} people, {count:,} orders in two years", seconds, MOST_SECONDS, "the bound", "below 1", seconds < MOST_SECONDS)  # fmt: skip


def lines() -> list[Line]:
    return [tick_line(), rehearsal_line()]
