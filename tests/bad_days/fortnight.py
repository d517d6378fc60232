"""A fortnight on the demo whose mail server refuses us, hangs and limits us in turn.

Afterwards nobody is suppressed whom the post room did not really refuse, nobody has got anything twice, and
Today has said on each bad day that email is not accepted, and no longer after it.
"""

import time
from collections import Counter
from datetime import timedelta
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

from sqlalchemy import select

from loyalbell.channels.loopback import free_port
from loyalbell.channels.smtp import SmtpSender
from loyalbell.demo.build import build_demo
from loyalbell.demo.server import DemoServer
from loyalbell.post_room.server import NO_SUCH_BOX
from loyalbell.post_room.store import PostRoomStore
from loyalbell.services.delivery.senders import ShopSender
from loyalbell.services.today import queries as today_queries
from loyalbell.storage.schema import Delivery, DeliveryEvent, Shop, Suppression
from tests.channels.networks import MailServer

DAYS, PEOPLE, SHORT_SECONDS = 14, 1_500, 1.0
MOODS = ("well", "refuses us", "well", "hangs", "well", "limits us", "says all are gone")


class Relay(MailServer):
    """Takes a few mails, hands them on to the post room, and then asks to slow down."""

    def __init__(self, store: PostRoomStore, now: object) -> None:
        self.store, self.now, self.count = store, now, 0
        super().__init__()

    def keep(self, sender: str, recipient: str, content: bytes) -> None:
        self.store.keep(sender, recipient, content, self.now())  # type: ignore[operator]
        self.count += 1
        if self.count % 6 == 0:
            self.answers = {"mail": "421 4.7.28 too many messages, slow down"}
        else:
            self.answers = {}

    def _say(self, connection, part, usual):  # type: ignore[no-untyped-def]
        said = super()._say(connection, part, usual)
        if part == "mail" and self.answers:
            self.count, self.answers = self.count + 1, {}
        return said


def server_in(mood: str, demo: DemoServer) -> MailServer | None:
    if mood == "refuses us":
        return MailServer(mail="550 5.7.1 relaying denied")
    if mood == "hangs":
        return MailServer(hello="hang")
    if mood == "limits us":
        return Relay(demo.store, demo.application.clock.now)
    return MailServer(rcpt="550 5.1.1 unknown user") if mood == "says all are gone" else None


def walk_a_day(demo: DemoServer) -> None:
    demo.driver.move_on(timedelta(days=1))
    while demo.driver.share < 1:
        time.sleep(0.2)
    time.sleep(0.5)


def titles(demo: DemoServer) -> list[str]:
    return [need.title for need in today_queries.today(demo.application).needs]


def live(demo: DemoServer, days: int) -> list[str]:
    """Walks through the days. Returns what Today failed to say."""
    wrong, real = list[str](), demo.application.the_shop().smtp_port
    for day in range(days):
        mood = MOODS[day % len(MOODS)]
        server = server_in(mood, demo)
        with demo.application.database.transaction() as session:
            session.get_one(Shop, 1).smtp_port = server.port if server is not None else real
        walk_a_day(demo)
        said = [title for title in titles(demo) if title.startswith("Email has not been accepted")]
        print(
            f"{demo.application.clock.now():%a %d %b}  {mood:<18} {'; '.join(titles(demo)[:3])}", flush=True
        )
        if mood in ("refuses us", "hangs") and not said:
            wrong.append(f"day {day}: the mail server {mood}, and Today does not say so")
        if mood == "well" and said:
            wrong.append(f"day {day}: all is well, and Today says {said[0]}")
        if server is not None:
            server.stop()
    return wrong


def marked(demo: DemoServer) -> set[str]:
    """The addresses that are taken to be gone."""
    query = select(Suppression.address).where(
        Suppression.reason == "hard bounce", Suppression.channel == "email", Suppression.lifted_at.is_(None)
    )
    with demo.application.database.reading() as session:
        return set(session.scalars(query))


OURS = ("relaying", "unknown user")
"""What the servers of the bad days say; a made-up mailbox that is gone says it in a report of its own."""


def reported(demo: DemoServer) -> set[str]:
    """Addresses of which a report came back, after their mail had been taken, that they are gone."""
    query = (
        select(Delivery.address, DeliveryEvent.detail)
        .join(DeliveryEvent, DeliveryEvent.delivery_id == Delivery.id)
        .where(DeliveryEvent.kind == "hard bounce", Delivery.sent_at.is_not(None))
    )
    with demo.application.database.reading() as session:
        rows = session.execute(query).all()
    return {address or "" for address, detail in rows if not any(words in (detail or "") for words in OURS)}


def judge(demo: DemoServer, before: set[str]) -> list[str]:
    new = sorted(marked(demo) - before - reported(demo))
    wrong = [f"suppressed wrongly: {one}" for one in new if not one.startswith(NO_SUCH_BOX)]
    with demo.application.database.reading() as session:
        for event in session.scalars(select(DeliveryEvent).where(DeliveryEvent.kind == "hard bounce")):
            if any(words in (event.detail or "") for words in OURS):
                wrong.append(f"counted against a customer: {event.detail}")
        states = Counter(str(state) for state in session.scalars(select(Delivery.state)))
    got = Counter(row[0] for row in demo.store._query("SELECT message_id FROM mail WHERE message_id != ''"))
    wrong += [f"twice: {message}" for message, count in got.items() if count > 1]
    print(f"mails {sum(got.values()):,}, states {dict(states)}")
    return wrong


def fortnight(days: int) -> list[str]:
    """What went wrong; empty where all is well."""
    with TemporaryDirectory(prefix="loyalbell-bad-days-") as folder:
        build_demo(Path(folder), PEOPLE).close()
        demo = DemoServer(Path(folder), free_port())
        demo.heartbeat.sender = ShopSender(
            demo.application, partial(SmtpSender, timeout=SHORT_SECONDS), demo.store.has
        )
        demo.start()
        try:
            before = marked(demo)
            return live(demo, days) + judge(demo, before)
        finally:
            demo.stop()
