"""Campaigns over HTTP: the plan typed in, what is wrong with it, its rounds, and the rehearsal of a
sequence.
"""

import re
from datetime import timedelta
from html import unescape

from sqlalchemy import select

from loyalbell.core.campaigns.plan import CampaignGoal, CampaignPlan
from loyalbell.core.messages.content import MessageContent
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.campaigns.audience import plan_of
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.rehearsal.forecast import rehearse_coming
from loyalbell.services.sequences import sequence_templates
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.storage import schema
from loyalbell.storage.schema import Campaign, Message, Segment
from tests.web.test_message_pages import SignedInPages

USUAL = {
    "often": "once",
    "parted_by": "share",
    "engaged_days": "120",
    "held_back": "0",
    "when": "now",
    "variant": "",
    "share": "50",
    "for_segment": "",
}


def found(page: str, pattern: str) -> str:
    match = re.search(pattern, page)
    assert match is not None, pattern
    return match[1]


class CampaignPages(SignedInPages):
    def setUp(self) -> None:
        super().setUp()
        with self.application.database.reading() as session:
            self.segment = session.scalars(select(Segment.id)).first() or 0
            self.letters = list(session.scalars(select(Message.id).where(~Message.hidden)))
        self.made = campaign_commands.draft_campaign(
            self.application, self.id(), self.segment, self.letters[0], "Ida"
        )

    def plan(self, **fields: str) -> CampaignPlan:
        self.said = self.post(f"/campaigns/{self.made}/plan", **USUAL | fields)
        with self.application.database.reading() as session:
            return plan_of(session.get_one(Campaign, self.made))

    def test_a_repetition_and_another_message_typed_in_stand_on_the_page(self) -> None:
        day = (self.application.clock.now() + timedelta(days=3)).date()
        found = self.plan(
            when="later",
            day=day.isoformat(),
            clock="07:30",
            often="repeat",
            every="2",
            unit="weeks",
            on="1",
            ends="times",
            times="4",
            again="1",
            variant=str(self.letters[1]),
            share="30",
        )
        assert found.repeat is not None
        self.assertEqual(
            (found.repeat.every, found.repeat.weekdays, found.repeat.times, found.again), (2, (1,), 4, True)
        )
        self.assertEqual([(one.message, one.share) for one in found.variants], [(self.letters[1], 30)])
        page = self.said.text
        self.assertIn("Every 2 weeks on Tuesday, 4 times in all", page)
        self.assertIn("one of 2 messages", page)
        self.assertEqual(len(re.findall("<li>", page[page.index('class="rounds"') :])), 4)
        again = self.plan(when="later", day=day.isoformat(), clock="07:30")
        self.assertEqual((again.repeat, again.variants), (None, ()))

    def test_more_dates_and_a_segment_each(self) -> None:
        day = self.application.clock.now().date()
        dates = [(day + timedelta(days=at)).isoformat() for at in (2, 9)]
        found = self.plan(
            when="later",
            day=dates[0],
            clock="10:00",
            often="dates",
            more_day=dates[1],
            more_clock="18:00",
            parted_by="segment",
            variant=str(self.letters[1]),
            share="50",
            for_segment=str(self.segment),
        )
        self.assertEqual((len(found.more), found.variants[0].segment), (1, self.segment))
        self.assertIn("On 2 dates", self.said.text)

    def test_a_goal_stands_on_the_page(self) -> None:
        found = self.plan(has_goal="1", goal_what="ordered", goal_share="12", goal_days="5")
        self.assertEqual(found.goal, CampaignGoal(what="ordered", share=12, days=5))
        page = self.client.get(f"/campaigns/{self.made}").text
        self.assertRegex(page, 'name="goal_share"[^>]*value="12"')
        self.assertIsNone(self.plan(goal_share="12", goal_days="5").goal, "not ticked")

    def test_what_stands_in_the_form_is_what_is_sent(self) -> None:
        """A day and a share held back typed in, then *Send* pressed at once: nothing may leave today."""
        day = (self.application.clock.now() + timedelta(days=3)).date()
        typed = USUAL | {"when": "later", "day": day.isoformat(), "clock": "10:00", "held_back": "20"}
        sheet = self.client.get(f"/campaigns/{self.made}").text
        self.assertIn(f'hx-post="/campaigns/{self.made}/sure"', sheet)
        self.assertNotIn(f'action="/campaigns/{self.made}/send"', sheet.replace("formaction", ""))
        asked = unescape(self.post(f"/campaigns/{self.made}/sure", **typed).text)
        self.assertRegex(asked, rf"goes to [\d,]+ people on \w+ {day.day} \w+, 10:00; \d+ are held back")
        people, mark = (found(asked, rf'name="{name}"\s+value="(\w+)"') for name in ("people", "mark"))
        self.post(f"/campaigns/{self.made}/send", people=people, mark=mark)
        with self.application.database.reading() as session:
            kept = session.get_one(Campaign, self.made)
            sent = session.scalar(
                select(schema.Delivery.id).where(
                    schema.Delivery.origin_kind == "campaign", schema.Delivery.origin_id == self.made
                )
            )
        self.assertEqual((kept.state, plan_of(kept).held_back, sent), ("scheduled", 20, None))
        assert kept.goes_out_at is not None
        self.assertEqual(kept.goes_out_at.date(), day)

    def test_what_was_changed_since_it_was_asked_is_not_sent(self) -> None:
        def meanwhile_plan() -> None:
            self.post(f"/campaigns/{self.made}/plan", **USUAL | {"variant": str(self.letters[1])})

        def meanwhile_message() -> None:
            content = message_queries.content_of(self.application, self.letters[0])
            words = content.model_dump_json().replace("a while", "a year")
            changed = MessageContent.model_validate_json(words)
            self.assertNotEqual(changed, content)
            message_commands.keep(self.application, self.letters[0], "Another", changed, "Ida")

        for meanwhile in (meanwhile_plan, meanwhile_message):
            with self.subTest(meanwhile.__name__):
                asked = self.post(f"/campaigns/{self.made}/sure", **USUAL).text
                people, mark = (
                    found(asked, rf'name="{name}"\s+value="(\w+)"') for name in ("people", "mark")
                )
                meanwhile()
                for sent in (mark, ""):
                    said = self.post(f"/campaigns/{self.made}/send", people=people, mark=sent)
                    self.assertEqual(said.status_code, 422)
                    self.assertIn("changed since you looked", said.text)
                with self.application.database.reading() as session:
                    self.assertEqual(session.get_one(Campaign, self.made).state, "draft")

    def test_all_of_a_draft_can_be_changed(self) -> None:
        settled = {"name": "  May  thanks ", "segment": str(self.segment), "message": str(self.letters[1])}
        self.plan(**settled, channels="text email")
        with self.application.database.reading() as session:
            kept = session.get_one(Campaign, self.made)
        self.assertEqual(
            (kept.name, kept.message_id, kept.channels), ("May thanks", self.letters[1], ["text", "email"])
        )
        self.plan(**settled, channels="chat text")
        self.assertRegex(self.said.text, 'value="chat text"\\s+selected', "an order of its own stays")
        for words, wrong in (
            ("Give the campaign a name", {"name": " "}),
            ("no longer on file", {"message": "999"}),
            ("at least one channel", {"channels": "smoke"}),
        ):
            self.plan(**settled | wrong)
            self.assertIn(words, self.said.text)
        with self.application.database.reading() as session:
            self.assertEqual(session.get_one(Campaign, self.made).name, "May thanks")

    def test_what_does_not_fit_is_said_and_nothing_kept(self) -> None:
        before = self.plan()
        for words, fields in (
            ("is no day and time", {"when": "later", "day": "soon"}),
            ("on which day it should go out", {"when": "later"}),
            ("has passed", {"when": "later", "day": "2020-01-01"}),
            ("first goes out", {"often": "dates", "more_day": "2030-01-01", "more_clock": "10:00"}),
            ("share of at least 1 %", {"variant": str(self.letters[1]), "share": "x"}),
            ("choose the segment", {"variant": str(self.letters[1]), "parted_by": "segment"}),
            ("chosen twice", {"variant": str(self.letters[0]), "share": "10"}),
            ("choose one of those offered", {"often": "repeat", "every": "1", "unit": "years"}),
            ("held back", {"held_back": "80"}),
            ("per cent are held back", {"held_back": "lots"}),
            ("share", {"has_goal": "1", "goal_share": "200", "goal_days": "7"}),
            ("per cent are the goal", {"has_goal": "1", "goal_share": "", "goal_days": "7"}),
            ("within how many days", {"has_goal": "1", "goal_share": "15", "goal_days": "soon"}),
            ("at least one more day", {"often": "dates"}),
            (
                "how many times in all",
                {"often": "repeat", "every": "1", "unit": "weeks", "ends": "times", "times": ""},
            ),
            ("until which day", {"often": "repeat", "every": "1", "unit": "weeks", "ends": "until"}),
            ("every how many", {"often": "repeat", "every": "often", "unit": "weeks"}),
        ):
            with self.subTest(words):
                self.assertEqual(self.plan(**fields), before)
                self.assertEqual(self.said.status_code, 422)
                self.assertIn(words, self.said.text)

    def test_the_rehearsal_shows_days_quarters_and_people(self) -> None:
        made = sequence_templates.make(self.application, "thanks", "Ida")
        page = self.client.get(f"/sequences/{made}/rehearsal").text
        day = re.search(r"day=(\d{4}-\d\d-\d\d)#behind", page)
        assert day is not None and made is not None
        of_day = self.client.get(f"/sequences/{made}/rehearsal?day={day[1]}").text
        quarter = re.search(r"quarter=([\d:%A]+)#behind", of_day)
        assert quarter is not None
        self.assertIn("/customers/", of_day[of_day.index('id="behind"') :])
        self.assertIn(
            "for a quarter of an hour",
            self.client.get(f"/sequences/{made}/rehearsal?day={day[1]}&quarter={quarter[1]}").text,
        )
        self.assertEqual(
            self.client.get(f"/sequences/{made}/rehearsal?day=1900-01-01&page=99").status_code, 200
        )
        for kind, words in (("cause", "would not be sent"), ("out", "qualified but were not enrolled: ")):
            address = re.search(rf'href="(\?[^"]*{kind}=[^"]*)#behind', page)
            assert address is not None, kind
            behind = self.client.get(f"/sequences/{made}/rehearsal{unescape(address[1])}").text
            behind = behind[behind.index('id="behind"') :]
            self.assertIn(words, behind)
            self.assertIn("/customers/", behind)
        with self.application.database.reading() as session:
            plan = draft_of(session.get_one(schema.Sequence, made))
        rehearse_coming(self.application, plan, made, wait=True)
        coming = self.client.get(f"/sequences/{made}/rehearsal?over=coming").text
        self.assertIn("estimated from how often each person comes", coming)
