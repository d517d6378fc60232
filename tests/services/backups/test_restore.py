"""A restored book sends nobody a message twice, and asks about what the lost one may have sent."""

import shutil
import tempfile
from collections import Counter
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from loyalbell.channels.sender import Outcome, Outgoing, Sender
from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.services.application import Application
from loyalbell.services.backups import commands
from loyalbell.services.backups.restore import Restored, restore
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery import after_stop
from loyalbell.services.delivery.leader_lease import Lease
from loyalbell.services.delivery.perhaps_gone import RestoredSettings
from loyalbell.services.scheduler import tick
from loyalbell.services.sequences import volume_guard
from loyalbell.services.settings import shop as shop_settings
from loyalbell.services.settings.channels import loaded
from loyalbell.storage import backup_file, schema
from loyalbell.storage.backup_file import BackupProblem
from loyalbell.storage.schema import Campaign
from loyalbell.storage.schema import Session as WebSession
from tests.services.sequences.test_runner import AFTER_AN_ORDER, HOUR, SequenceCase, wait
from tests.support import ApplicationCase

PEOPLE = 6


class Network(Sender):
    """One network for both books; it keeps what it took, and can be asked where it ``answers``."""

    def __init__(self, answers: bool) -> None:
        self.answers, self.took = answers, list[Outgoing]()

    def send(self, batch: Sequence[Outgoing]) -> list[Outcome]:
        self.took += batch
        return [Outcome(message.delivery_id, "accepted", "250 OK") for message in batch]

    def knows(self, message_id: str, channel: str = "email") -> bool | None:
        return any(message.message_id == message_id for message in self.took) if self.answers else None

    def counts(self) -> Counter[tuple[str, bytes]]:
        """How often each person got each letter, by its words."""
        return Counter(
            (one.recipient, said)
            for one in self.took
            for said in (b"Letter 1 of two", b"Letter 2 of two")
            if said in one.content
        )


class RestoreTest(SequenceCase):
    """Everybody gets two letters, an hour and 49 hours after an order. The backup is made after some have got
    the first; the book is lost a day later.
    """

    def begin(self, answers: bool) -> Network:
        self.sender = network = Network(answers)
        plan = {
            "start": AFTER_AN_ORDER,
            "steps": [wait("w", 1, "hours"), self.step("m", 1), wait("v", 2), self.step("n", 2)],
        }
        self.ring(plan)
        self.clock.move_on(timedelta(minutes=1))
        for number in range(PEOPLE):
            self.add_order(self.add_person(f"p{number}@example.com"), 0)
            self.walk(timedelta(minutes=15), timedelta(minutes=5))
        self.assertIn(len(network.took), range(1, PEOPLE), "some have got the first letter, others not")
        self.backup = commands.make(self.application, by="Ida").path
        self.walk(timedelta(hours=3))
        self.assertEqual(len(network.took), PEOPLE)
        return network

    def step(self, name: str, number: int) -> dict[str, Any]:
        message = self.letter(f"Letter {number}", f"Letter {number} of two")
        return {"do": "message", "id": name, "message": message}

    def restored(self) -> tuple[Application, Restored]:
        folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        self.addCleanup(shutil.rmtree, folder, ignore_errors=True)
        done = restore(self.backup, folder, clock=self.clock)
        # somebody looks, brings in what there is, and switches it on an hour later
        self.clock.move_on(HOUR)
        application = Application(folder, self.clock)
        self.addCleanup(application.close)
        return application, done

    def go_on(self, application: Application, network: Network, hours: int = 72) -> None:
        for _ in range(hours):
            tick(application, network)
            after_stop.ask_again(application, network)
            self.clock.move_on(HOUR)

    def test_it_begins_silent_and_signs_everybody_out(self) -> None:
        network = self.begin(answers=False)
        with self.application.database.transaction() as session:
            session.add(WebSession(token_hash="x", csrf="y", expires_at=self.clock.now() + HOUR))
        self.backup = commands.make(self.application).path
        application, _ = self.restored()
        self.assertFalse(application.the_shop().ringing)
        self.go_on(application, network)
        self.assertEqual(len(network.took), PEOPLE, "nothing leaves while it is silent")
        self.assertIsNone(application.find(WebSession, 1))
        self.assertEqual(loaded(application, RestoredSettings).until, self.clock.now() - 73 * HOUR)

    def test_a_network_that_can_be_asked_settles_it_and_nobody_gets_anything_twice(self) -> None:
        network = self.begin(answers=True)
        application, _ = self.restored()
        shop_settings.switch(application, True, "Ida")
        self.go_on(application, network)
        self.assertEqual(set(network.counts().values()), {1})
        self.assertEqual(len(network.took), 2 * PEOPLE)

    def test_a_backup_of_before_anything_left_gives_the_same_names(self) -> None:
        """Nothing had been sent yet, so that no message had a name."""
        network = self.sender = Network(True)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.step("m", 1)]})
        self.clock.move_on(timedelta(minutes=1))
        self.add_order(self.add_person(), 0)
        self.backup = commands.make(self.application).path
        self.walk(2 * HOUR)
        application, _ = self.restored()
        shop_settings.switch(application, True, "Ida")
        self.go_on(application, network, 5)
        self.assertEqual(list(network.counts().values()), [1])
        left = after_stop.decide_unsure(application, 1, False, "Ida", "sequence")
        self.assertEqual(left, 0, "the network knew it, so nobody has to be asked")

    def test_where_names_cannot_be_the_same_a_person_is_asked(self) -> None:
        """As in a backup that an earlier program made."""
        network = self.sender = Network(True)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.step("m", 1)]})
        self.clock.move_on(timedelta(minutes=1))
        self.add_order(self.add_person(), 0)
        self.backup = backup_file.write(self.application.database.path, self.folder / "b", "by hand")
        self.walk(2 * HOUR)
        application, _ = self.restored()
        shop_settings.switch(application, True, "Ida")
        self.go_on(application, network, 5)
        self.assertEqual(list(network.counts().values()), [1])
        self.assertEqual(after_stop.decide_unsure(application, 1, False, "Ida", "sequence"), 1)

    def test_a_held_batch_that_the_lost_book_let_go_is_asked_about(self) -> None:
        """The backup still holds it; released once more, nobody gets it twice."""
        network = self.sender = Network(True)
        self.care(guard_floor=1, guard_factor=1)
        self.ring({"start": AFTER_AN_ORDER, "steps": [self.step("m", 1)]})
        with self.application.database.transaction() as session:
            session.get_one(schema.Sequence, 1).normal = 0
        self.clock.move_on(timedelta(minutes=1))
        for number in range(PEOPLE):
            self.add_order(self.add_person(f"held{number}@example.com"), 0)
        tick(self.application, network)
        held = len(self.deliveries("held"))
        self.assertGreater(held, 1)
        self.backup = commands.make(self.application).path
        volume_guard.decide(self.application, 1, None, "Ida")
        self.walk(HOUR)
        self.assertEqual(set(network.counts().values()), {1})
        application, _ = self.restored()
        shop_settings.switch(application, True, "Ida")
        volume_guard.decide(application, 1, None, "Ida")
        self.go_on(application, network, 3)
        self.assertEqual(set(network.counts().values()), {1})

    def test_otherwise_a_person_is_asked_and_nobody_gets_anything_twice(self) -> None:
        network = self.begin(answers=False)
        application, _ = self.restored()
        shop_settings.switch(application, True, "Ida")
        tick(application, network)
        self.assertEqual(len(network.took), PEOPLE, "what was due before is not simply sent")
        decided = after_stop.decide_unsure(application, 1, again=False, by="Ida", kind="sequence")
        self.assertGreater(decided, 0)
        self.go_on(application, network)
        self.assertEqual(set(network.counts().values()), {1})
        self.assertEqual(len(network.took), 2 * PEOPLE)

    def test_what_was_due_and_had_not_left_is_sent_where_the_network_says_so(self) -> None:
        network = self.begin(answers=True)
        network.took = network.took[:-1]
        application, _ = self.restored()
        shop_settings.switch(application, True, "Ida")
        self.go_on(application, network)
        self.assertEqual(set(network.counts().values()), {1})
        self.assertEqual(len(network.took), 2 * PEOPLE)

    def test_a_campaign_whose_time_came_in_between_is_asked_too(self) -> None:
        network = self.begin(answers=True)
        for number in range(PEOPLE):
            self.add_order(self.add_person(f"lapsed{number}@example.com"), 90)
        campaign = campaign_commands.draft_campaign(
            self.application, "May", self.lapsed_segment(), self.letter("Letter 9", "Letter 9"), "Ida"
        )
        with self.application.database.transaction() as session:
            kept = session.get_one(Campaign, campaign)
            plan = CampaignPlan(engaged_only=False, at=self.clock.now() + HOUR)
            kept.plan = plan.model_dump(mode="json")
        made = self.application.find(Campaign, campaign)
        assert made is not None
        people = len(campaign_commands.audience(self.application, made).reached)
        campaign_commands.start_campaign(self.application, campaign, people, "Ida")
        self.backup = commands.make(self.application).path
        self.walk(2 * HOUR)
        sent = Counter(one.recipient for one in network.took)
        application, _ = self.restored()
        shop_settings.switch(application, True, "Ida")
        self.go_on(application, network, 2)
        self.assertEqual(Counter(one.recipient for one in network.took), sent)


class RestoreRefused(ApplicationCase):
    def test_over_a_book_only_when_asked_and_the_old_one_is_kept(self) -> None:
        self.add_person()
        backup = commands.make(self.application).path
        self.add_person("second@example.com")
        with self.assertRaisesRegex(BackupProblem, "--replace"):
            restore(backup, self.folder)
        self.application.close()
        done = restore(backup, self.folder, replace=True, clock=self.clock)
        assert done.kept_aside is not None
        old, new = Application(done.kept_aside, self.clock), Application(self.folder, self.clock)
        self.addCleanup(old.close)
        self.addCleanup(new.close)
        self.assertEqual(
            [old.snapshot().people.ids.tolist(), new.snapshot().people.ids.tolist()], [[1, 2], [1]]
        )

    def test_right_after_a_crash(self) -> None:
        """The book still says that somebody holds the lease; the system knows that nobody does."""
        backup = commands.make(self.application).path
        with self.application.database.transaction() as session:
            now = datetime.now(UTC)
            session.add(schema.LeaderLease(id=1, holder="crashed", pid=1, seen_at=now, number=1))
        self.application.close()
        restore(backup, self.folder, replace=True, clock=self.clock)

    def test_not_under_a_running_program(self) -> None:
        backup = commands.make(self.application).path
        lease = Lease(self.application)
        lease.take()
        with self.assertRaisesRegex(BackupProblem, "is running"):
            restore(backup, self.folder, replace=True)
        lease.release()

    def test_a_damaged_backup_changes_nothing(self) -> None:
        backup = commands.make(self.application).path
        backup.write_bytes(backup.read_bytes()[:5_000])
        before = sorted(path.name for path in self.folder.iterdir())
        with self.assertRaises(BackupProblem):
            restore(backup, self.folder, replace=True)
        after = sorted(path.name for path in self.folder.iterdir() if path.suffix != ".lock")
        self.assertEqual(after, before)
