"""Stopping and starting beside a mail server that hangs: pages are up, what is under way is written down."""

import os
import signal
import subprocess
import sys
import urllib.request
from datetime import UTC, datetime

from sqlalchemy import select

from loyalbell.channels.loopback import free_port
from loyalbell.services.delivery.senders import point_at
from loyalbell.storage.schema import Delivery, LeaderLease
from tests.channels.networks import MailServer
from tests.services.campaigns.test_plans import CampaignPlanCase
from tests.support import wait_for

GUARD_SECONDS = 30
"""Hangs are seen by it; the program itself promises ten seconds (``STOP_SECONDS`` and ``GRACE_SECONDS``)."""


class StopAndStartTest(CampaignPlanCase):
    def setUp(self) -> None:
        """The program itself goes by the time of day."""
        super().setUp()
        self.clock.instant = datetime.now(UTC)

    def serve(self) -> subprocess.Popen[bytes]:
        self.port = free_port()
        program = [sys.executable, "-m", "loyalbell", "serve", "--data", str(self.folder)]
        running = subprocess.Popen([*program, "--port", str(self.port)], stdout=subprocess.DEVNULL)
        self.addCleanup(running.kill)
        return running

    def page(self) -> int:
        with urllib.request.urlopen(f"http://127.0.0.1:{self.port}/sign-in", timeout=5) as answer:
            return int(answer.status)

    def states(self) -> list[tuple[str, bool]]:
        with self.application.database.reading() as session:
            rows = session.scalars(select(Delivery))
            return sorted((str(row.state), row.handed_at is not None) for row in rows)

    def test_told_to_stop_it_gives_back_what_it_has_not_handed_over(self) -> None:
        """Seen: 50 messages in doubt at every restart."""
        for told in (signal.SIGTERM, signal.SIGINT):
            with self.subTest(signal=told.name):
                server = MailServer(hello="hang")
                self.addCleanup(server.stop)
                point_at(self.application, "127.0.0.1", server.port, "http://127.0.0.1:1")
                self.start(self.draft(engaged_only=False))
                running = self.serve()
                wait_for(lambda: self.page() == 200)
                wait_for(lambda: ("in_flight", True) in self.states())
                running.send_signal(told)
                self.assertEqual(running.wait(timeout=GUARD_SECONDS), 0)
                in_hand = [one for one in self.states() if one == ("in_flight", False)]
                self.assertEqual(in_hand, [], "what was not handed over is planned again")
                self.assertLessEqual(self.states().count(("in_flight", True)), 4)
                with self.application.database.reading() as session:
                    held = session.get_one(LeaderLease, 1)
                self.assertEqual((held.holder, held.pid), ("", 0), "the lease is released")

    def test_the_pages_are_up_while_a_network_hangs(self) -> None:
        """After a crash with messages in hand: the start asks no network before the pages are up."""
        server = MailServer(hello="hang")
        self.addCleanup(server.stop)
        point_at(self.application, "127.0.0.1", server.port, "http://127.0.0.1:1")
        self.start(self.draft(engaged_only=False))
        first = self.serve()
        wait_for(lambda: ("in_flight", True) in self.states())
        os.kill(first.pid, signal.SIGKILL)
        first.wait(timeout=GUARD_SECONDS)
        self.serve()
        wait_for(lambda: self.page() == 200)
