"""What is large waits for a second person, where the owner wants it."""

import re
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from unittest import mock

from sqlalchemy import func, select

from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.accounts.passwords import hash_password
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.storage.schema import ApprovalRequest, Campaign, Delivery, Sequence, User
from tests.services.sequences.test_runner import AFTER_AN_ORDER
from tests.web.accounts.test_people_pages import NEW, PeopleCase

MARK = re.compile(r'name="mark" value="([^"]*)"')
MARA = "mara@shop.example"


class ApprovalCase(PeopleCase):
    def setUp(self) -> None:
        super().setUp()
        with self.application.database.transaction() as session:
            session.add(User(name="Mara", email=MARA, password_hash=hash_password(NEW), role="marketer"))
        for number in range(3):
            self.add_order(self.add_person(f"p{number}@example.com"), 90)
        self.owner, self.mara = self.browser(), self.browser(MARA, NEW)

    def campaign(self) -> int:
        found = campaign_commands.draft_campaign(
            self.application, "Spring", self.lapsed_segment(), self.letter(), "Mara", ["email"]
        )
        return found

    def send(self, client, campaign: int, people: int = 3) -> str:
        mark = MARK.search(client.get(f"/campaigns/{campaign}/sure").text)
        form = {"people": str(people), "mark": mark[1] if mark else ""}
        return client.post(f"/campaigns/{campaign}/send", data=form).text

    def planned(self) -> int:
        with self.application.database.reading() as session:
            return session.scalar(select(func.count()).select_from(Delivery)) or 0

    def state(self, campaign: int) -> str:
        return self.application.find(Campaign, campaign).state

    def request(self) -> ApprovalRequest:
        with self.application.database.reading() as session:
            return session.scalars(select(ApprovalRequest).order_by(ApprovalRequest.id.desc())).first()

    def only_mail(self) -> EmailMessage:
        self.assertEqual(len(self.sender.handed), 1)
        return message_from_bytes(self.sender.handed[0].content, policy=default)

    def above(self, people: str = "2", **more: str) -> None:
        self.owner.post("/people/approval", data={"above": "yes", "people": people} | more)


class OfCampaigns(ApprovalCase):
    def test_where_nobody_asked_for_it_a_marketer_sends_alone(self) -> None:
        campaign = self.campaign()
        self.send(self.mara, campaign)
        self.assertEqual((self.state(campaign), self.planned()), ("sending", 3))

    def test_a_large_one_waits_for_an_owner_who_sends_it(self) -> None:
        self.above()
        campaign = self.campaign()
        self.assertIn("Ask for approval", self.mara.get(f"/campaigns/{campaign}/sure").text)
        page = self.send(self.mara, campaign)
        self.assertIn("Waits for approval", page)
        self.assertEqual((self.state(campaign), self.planned()), ("draft", 0))
        self.assertIn("Mara asks to send “Spring”", self.owner.get("/").text)
        self.assertIn("Mara asks you to approve this", self.owner.get(f"/campaigns/{campaign}").text)
        self.send(self.owner, campaign)
        self.assertEqual((self.state(campaign), self.planned()), ("sending", 3))
        self.assertEqual((self.request().outcome, self.request().closed_by), ("approved", "Ida"))
        self.assertNotIn("asks to send", self.owner.get("/").text)
        self.assertEqual(self.acts()[-2:], ["started a campaign", "approved a request"])

    def test_who_may_approve_is_told_by_mail_once(self) -> None:
        self.above()
        campaign = self.campaign()
        self.sender.handed.clear()
        for _ in range(3):
            self.send(self.mara, campaign)
        mail = self.only_mail()
        self.assertEqual(self.sender.handed[0].recipient, "ida@shop.example")
        self.assertIn("Mara asks for your approval", mail["Subject"])
        self.assertIn(f"/campaigns/{campaign}/sure", mail.get_content())
        self.assertIn("“Spring” (to 3 people)", mail.get_content())
        self.sender.handed.clear()
        self.owner.post(f"/approvals/{self.request().id}/decline", data={"words": "not yet"})
        self.send(self.mara, campaign)
        self.only_mail()

    def test_a_mail_server_that_fails_holds_nobody_up(self) -> None:
        self.above()
        self.sender.finish = mock.Mock(side_effect=OSError("no such host"))
        self.assertIn("Waits for approval", self.send(self.mara, self.campaign()))
        self.assertIsNone(self.request().closed_at)

    def test_at_the_number_itself_nobody_asks(self) -> None:
        self.above("3")
        campaign = self.campaign()
        self.send(self.mara, campaign)
        self.assertEqual(self.state(campaign), "sending")

    def test_a_number_that_is_made_up_sends_nothing(self) -> None:
        self.above()
        campaign = self.campaign()
        self.assertIn("the number changed", self.send(self.mara, campaign, 1))
        self.assertEqual(self.planned(), 0)

    def test_what_was_held_asks_too(self) -> None:
        self.above()
        campaign = self.campaign()
        with self.application.database.transaction() as session:
            session.get_one(Campaign, campaign).state = "held"
        self.send(self.mara, campaign)
        self.assertEqual((self.state(campaign), self.planned()), ("held", 0))

    def test_it_is_declined_with_words_or_taken_back(self) -> None:
        self.above()
        campaign = self.campaign()
        self.send(self.mara, campaign)
        at = f"/approvals/{self.request().id}/decline"
        self.owner.post(at, data={"words": "Not in May"})
        self.assertIn("Not in May", self.mara.get(f"/campaigns/{campaign}").text)
        self.assertEqual(self.owner.post(at, data={"words": "x"}).status_code, 200)
        self.assertEqual(self.request().words, "Not in May")
        self.send(self.mara, campaign)
        self.mara.post(f"/approvals/{self.request().id}/decline")
        self.assertEqual(self.request().outcome, "taken back")
        self.assertEqual(self.planned(), 0)

    def test_nobody_declines_for_somebody_else(self) -> None:
        self.above()
        self.send(self.mara, self.campaign())
        with self.application.database.transaction() as session:
            session.add(
                User(name="Ned", email="ned@shop.example", password_hash=hash_password(NEW), role="marketer")
            )
        ned = self.browser("ned@shop.example", NEW)
        answer = ned.post(f"/approvals/{self.request().id}/decline", data={"words": "no"})
        self.assertEqual((answer.status_code, self.request().closed_at), (403, None))

    def test_the_number_must_be_one(self) -> None:
        page = self.owner.post("/people/approval", data={"above": "yes", "people": "many"})
        self.assertIn("is not a number of people", page.text)
        page = self.owner.post("/people/approval", data={"above": "yes", "people": ""})
        self.assertIn("above how many people", page.text)
        campaign = self.campaign()
        self.send(self.mara, campaign)
        self.assertEqual(self.state(campaign), "sending")


class OfSequences(ApprovalCase):
    def sequence(self) -> int:
        message = {"do": "message", "id": "m", "message": self.letter(), "channels": ["email"]}
        plan = read_plan({"start": AFTER_AN_ORDER, "steps": [message]})
        return sequence_commands.keep(self.application, None, "Back again", plan, "Mara")

    def test_publishing_waits_and_the_owner_sees_what_was_chosen(self) -> None:
        self.owner.post("/people/approval", data={"publishing": "yes"})
        sequence = self.sequence()
        page = self.mara.post(f"/sequences/{sequence}/publish", data={"backlog": "yes"}).text
        self.assertIn("Waits for approval", page)
        self.assertEqual(self.application.find(Sequence, sequence).state, "draft")
        self.assertIn("Mara asks to publish “Back again”", self.owner.get("/").text)
        self.assertEqual(self.request().detail["form"], {"backlog": "yes"})
        self.assertIn("asks you to approve this", self.owner.get(f"/sequences/{sequence}/publish").text)
        self.owner.post(f"/sequences/{sequence}/publish", data={"backlog": "no"})
        self.assertEqual(self.application.find(Sequence, sequence).state, "live")
        self.assertEqual(self.request().outcome, "approved")
