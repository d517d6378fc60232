"""Acts on the customer pages: on many at once, in place, on doubles, fields, tokens and webhooks."""

import csv
import io
import json
import re
from datetime import timedelta
from urllib.parse import quote, urlencode
from zoneinfo import ZoneInfo

import phonenumbers
from sqlalchemy import select

from loyalbell.core.rhythm.bands import BANDS
from loyalbell.demo.messages import lapsed
from loyalbell.services.integrations import webhook_outbox
from loyalbell.services.rhythm import bands as rhythm_bands
from loyalbell.services.rhythm import page_figures
from loyalbell.services.rhythm.page_figures import Names
from loyalbell.services.segments import queries as segment_queries
from loyalbell.storage.records.parsers import Bad, Phone
from loyalbell.storage.schema import (
    ApiToken,
    CustomField,
    Enrolment,
    Event,
    NotTheSame,
    Person,
    SavedView,
    Sequence,
    Suppression,
)
from tests.web.test_pages import PagesCase


class Acts(PagesCase):
    def setUp(self) -> None:
        super().setUp()
        self.csrf = self.sign_in()

    def post(self, path: str, **form: object):
        return self.client.post(path, data={"_csrf": self.csrf} | form)

    def people(self) -> int:
        with self.application.database.reading() as session:
            return session.query(Person).count()

    def test_many_are_tagged_and_untagged(self) -> None:
        page = self.post("/customers/many", act="tag", tag_name="to ring", person=["3", "4", "x", "999999"])
        self.assertIn("2 tagged “to ring”", page.text)
        self.assertIn(
            "1 no longer tagged",
            self.post("/customers/many", act="untag", tag_name="to ring", person="3").text,
        )
        for form, words in (
            ({"act": "tag", "tag_name": "a;b", "person": "3"}, "without commas"),
            ({"act": "untag", "tag_name": "nobody’s", "person": "3"}, "There is no tag"),
            ({"act": "tag", "tag_name": "x"}, "Nobody is chosen"),
        ):
            self.assertIn(words, self.post("/customers/many", **form).text)

    def test_people_come_into_a_sequence_from_a_later_day_a_few_at_a_time(self) -> None:
        with self.application.database.reading() as session:
            sequence = session.scalars(
                select(Sequence.id).where(Sequence.live_version_id.is_not(None))
            ).first()
            known = set(session.scalars(select(Enrolment.id)))
        chosen = {"sequence": sequence, "person": ["3", "4", "5"], "count": 3, "when": "later"}
        for form, words in (
            ({}, "Choose the day on which it should start"),
            ({"day": "2001-01-01"}, "have passed"),
            ({"day": "soon"}, "Write the day as"),
        ):
            self.assertIn(words, self.post("/customers/many/bring", **chosen, **form).text)
        day = (self.application.clock.now() + timedelta(days=9)).date()
        week = [str(weekday) for weekday in range(7)]
        paced = {"how": "paced", "batch": "2", "every": "60", "weekdays": week}
        self.post("/customers/many/bring", **chosen, day=day.isoformat(), clock="10:00", **paced)
        with self.application.database.reading() as session:
            came = session.scalars(
                select(Enrolment).where(Enrolment.id.not_in(known)).order_by(Enrolment.entered_at)
            ).all()
            zone = ZoneInfo(self.application.the_shop().zone)
        said = [one.entered_at.astimezone(zone).strftime("%Y-%m-%d %H:%M") for one in came]
        self.assertEqual(said, [f"{day} 10:00", f"{day} 10:00", f"{day} 11:00"])

    def test_an_event_is_put_down_by_hand(self) -> None:
        self.assertIn("Say what happened", self.post("/customers/3/events", kind="  ").text)
        self.post("/customers/3/events", kind="viewed  a page")
        with self.application.database.reading() as session:
            kept = session.scalars(select(Event.kind).where(Event.person_id == 3)).all()
        self.assertIn("viewed a page", kept)
        self.assertIn("viewed a page", self.client.get("/customers/3").text)

    def test_all_that_match_are_downloaded(self) -> None:
        rule = lapsed(60).model_dump_json()
        found = self.post("/customers/many", act="download-csv", all="1", rule=rule)
        snapshot, met = segment_queries.who(self.application, lapsed(60))
        rows = list(csv.DictReader(io.StringIO(found.text)))
        self.assertEqual(len(rows), int(met.sum()))
        self.assertEqual(
            len(json.loads(self.post("/customers/many", act="download-json", person=["1", "2"]).text)), 2
        )
        self.assertTrue(
            self.post("/customers/many", act="download-vcf", person="1").text.startswith("BEGIN:VCARD")
        )
        self.assertEqual(self.post("/customers/many", act="download-exe", person="1").status_code, 404)
        self.assertLess(len(rows), len(snapshot.people))

    def test_suppressing_and_erasing_are_asked_about(self) -> None:
        asked = self.post("/customers/many", act="suppress", person=["5", "6"])
        self.assertIn("Suppress 2 people", asked.text)
        self.assertIn(
            "at least one channel", self.post("/customers/many/suppress", count="2", person=["5", "6"]).text
        )
        self.assertIn(
            "2 suppressed on email, chat",
            self.post(
                "/customers/many/suppress", count="2", person=["5", "6"], channel=["email", "chat"]
            ).text,
        )
        with self.application.database.reading() as session:
            made = session.scalars(
                select(Suppression).where(Suppression.reason == "by hand", Suppression.person_id.in_((5, 6)))
            )
            self.assertEqual(len(list(made)), 4)
        before = self.people()
        self.assertIn("Type <strong>1</strong>", self.post("/customers/many", act="erase", person="7").text)
        self.assertIn(
            "Nothing was erased", self.post("/customers/many/erase", count="1", person="7", typed="7").text
        )
        self.assertIn(
            "has changed meanwhile", self.post("/customers/many/erase", count="2", person="7", typed="2").text
        )
        self.assertEqual(self.people(), before)
        self.assertIn(
            "1 person erased", self.post("/customers/many/erase", count="1", person="7", typed="1").text
        )
        self.assertEqual((self.people(), self.client.get("/customers/7").status_code), (before - 1, 404))
        self.assertEqual(self.client.get("/customers").status_code, 200)

    def test_views_come_back_as_they_were_kept(self) -> None:
        page = self.post("/customers/views", name="Late ones", q="wren", segment="1", columns="email,band")
        self.assertEqual(page.url.params["segment"], "1")
        self.assertEqual(page.url.params["columns"], "email,band")
        with self.application.database.reading() as session:
            view = session.scalars(select(SavedView)).one()
        self.assertIn("Late ones", self.client.get("/customers").text)
        self.assertIn("name of at most", self.post("/customers/views", name=" ").text)
        self.post(f"/customers/views/{view.id}/forget")
        self.assertEqual(self.client.get(f"/customers/views/{view.id}").status_code, 404)

    def test_an_address_with_nonsense_in_it_shows_everyone(self) -> None:
        for query in (
            "segment=99999",
            "segment=x",
            "tag=0",
            "rule={",
            "rule=[]",
            'rule={"version":9}',
            "after=-5",
            "columns=nope",
            "column=email&column=zzz",
        ):
            page = self.client.get(f"/customers?{quote(query, safe='=&')}")
            self.assertEqual(page.status_code, 200, query)
            self.assertIn("people on file", page.text)

    def test_the_book_and_the_segments_agree_on_who_is_left(self) -> None:
        on_file, gone = re.search(
            r"([\d,]+) people on file, ([\d,]+) of them closed or deceased",
            self.client.get("/customers").text,
        ).groups()
        snapshot = self.application.snapshot()
        left = int(snapshot.on_file(int(self.application.clock.now().timestamp())).sum())
        self.assertEqual(int(on_file.replace(",", "")) - int(gone.replace(",", "")), left)

    def test_a_page_is_changed_in_its_place(self) -> None:
        headers = {"X-CSRF-Token": self.csrf}
        bad = self.client.post("/customers/9/part/who", data={"email": "nowhere"}, headers=headers)
        self.assertIn("is not an email address", bad.text)
        self.assertIn('value="nowhere"', bad.text)
        good = self.client.post("/customers/9/part/who", data={"first_name": "Zoë <b>"}, headers=headers)
        self.assertEqual(good.headers["HX-Trigger"], "customer-changed")
        self.assertIn("Zoë &lt;b&gt;", self.client.get("/customers/9").text)
        for part in ("who", "reach", "marks", "dates", "companions", "fields", "ids", "tags"):
            self.assertEqual(self.client.get(f"/customers/9/part/{part}?edit=1").status_code, 200, part)
        self.assertEqual(self.client.get("/customers/9/part/shoes").status_code, 404)
        self.assertEqual(self.client.post("/customers/9/part/who", data={"first_name": "x"}).status_code, 403)
        only = self.client.get("/customers/9?kind=change", headers={"HX-Target": "diary"}).text
        self.assertIn("First name: Zoë", only)
        self.assertNotIn("Order in", only)

    def test_doubles_are_decided_on(self) -> None:
        page = self.client.get("/duplicates").text
        one, other = map(int, re.search(r'href="/duplicates/(\d+)/(\d+)"', page).groups())  # type: ignore[union-attr]
        self.assertEqual(self.client.get(f"/duplicates/{one}/{one}").status_code, 404)
        self.assertEqual(self.client.get(f"/duplicates/{one}/99999").status_code, 404)
        self.post(f"/duplicates/{one}/{other}", act="two")
        with self.application.database.reading() as session:
            self.assertEqual(session.query(NotTheSame).count(), 1)
        before = self.people()
        merged = self.post(f"/duplicates/{one}/{other}", act="one", kept=str(other), first_name="gone")
        self.assertIn("The two records are one now", merged.text)
        self.assertTrue(str(merged.url.path).endswith(f"/{other}"))
        self.assertEqual(self.people(), before - 1)
        again = self.post(f"/duplicates/{one}/{other}", act="one", kept=str(other))
        self.assertEqual(again.status_code, 404)

    def test_fields_are_made_and_refused(self) -> None:
        self.assertIn(
            "Write the choices", self.post("/fields", name="Colour", kind="one choice", choices="").text
        )
        self.post("/fields", name="Colour", kind="one choice", choices="red\nblue\n")
        self.assertIn("There is a field", self.post("/fields", name="colour", kind="text").text)
        with self.application.database.reading() as session:
            field = session.scalars(select(CustomField).where(CustomField.name == "Colour")).one()
        self.assertEqual(field.choices, ["red", "blue"])
        self.post(f"/fields/{field.id}", name="Coat colour", choices="red\nblue\ngrey")
        self.assertIn("Coat colour", self.client.get("/fields").text)
        self.post(f"/fields/{field.id}", act="delete")
        self.assertNotIn("Coat colour", self.client.get("/fields").text)

    def test_tokens_and_webhooks_are_made_and_stopped(self) -> None:
        page = self.post("/other-programs/tokens", name="the till", scope=["people", "nonsense"])
        token = re.search(r'<code id="token">(lb_[^<]+)</code>', page.text)[1]  # type: ignore[index]
        allowed = {"Authorization": f"Bearer {token}"}
        self.assertEqual(
            self.client.post("/api/v1/people", json={"id": "T1"}, headers=allowed).status_code, 201
        )
        with self.application.database.reading() as session:
            made = session.scalars(select(ApiToken)).one()
        self.post(f"/other-programs/tokens/{made.id}/revoke")
        self.assertEqual(
            self.client.post("/api/v1/people", json={"id": "T2"}, headers=allowed).status_code, 401
        )
        self.assertIn("at least one thing", self.post("/other-programs/tokens", name="x").text)
        self.assertIn(
            "beginning with https",
            self.post("/other-programs/webhooks", url="nowhere", kind="message.sent").text,
        )
        hook = self.post("/other-programs/webhooks", url="https://example.com/in", kind="message.sent")
        self.assertIn("shown only this once", hook.text)
        at = int(re.search(r"/other-programs/webhooks/(\d+)/test", hook.text)[1])
        self.assertIn("shown only this once", self.post(f"/other-programs/webhooks/{at}/secret").text)
        self.assertNotIn("whsec_", self.client.get(f"/other-programs/webhooks/{at}").text)
        self.assertIn("webhook.test", self.post(f"/other-programs/webhooks/{at}/test").text)
        delivery = webhook_outbox.deliveries(self.application, at)[0]
        self.assertEqual(self.post(f"/other-programs/webhooks/{at}/again/{delivery.id}").status_code, 200)
        self.post(f"/other-programs/webhooks/{at}/stop")
        self.assertIn("stopped", self.client.get("/other-programs").text)
        self.assertEqual(self.client.get("/other-programs/webhooks/99").status_code, 404)

    def test_segments_are_pasted_copied_and_frozen(self) -> None:
        rule = self.client.get("/segments/1/rule.json").text
        self.assertIn("have not ordered", self.post("/segments/paste", rule=rule).text)
        for text, words in (
            ("{", "cannot be read"),
            ('{"version": 7}', "newer Loyal Bell"),
            ('{"root": {"lines": [{"about": "x"}]}}', "Line 1"),
        ):
            page = self.post("/segments/paste", rule=text)
            self.assertEqual((page.status_code, words in page.text), (422, True), page.text[-300:])
        self.assertIn("Not seen for 60 days, copy", self.post("/segments/1/copy").text)
        self.assertIn("fixed list", self.post("/segments/1/freeze").text)
        self.assertEqual(self.post("/segments/99/copy").status_code, 404)
        self.assertEqual(self.client.get("/segments/1/why/99999").status_code, 404)
        self.assertEqual(self.client.get("/rhythm?of=department:Moon").status_code, 404)
        self.assertIn("score", self.client.get("/rhythm/cells?cell=5-5&cell=9-9&cell=x").text)

    def test_the_people_behind_every_movement(self) -> None:
        looking = page_figures.looking(self.application, Names())
        latest = page_figures.movement(self.application, Names())[-1]
        for row, then in enumerate(BANDS):
            for column, now in enumerate(BANDS):
                went = rhythm_bands.who_went(looking, latest["month"], then, now)
                self.assertEqual(-1 if went is None else len(went), latest["people"][row][column])
        self.assertIn('hx-get="/rhythm/moves?of="', self.client.get("/rhythm").text)
        table = self.client.get("/rhythm/moves?of=").text
        self.assertEqual(table.count("At the end of each month"), 1)
        self.assertIn("/moved/rhythm?", table)
        page = self.client.get(f"/moved/rhythm?month={latest['month']}&then=in+rhythm&now=late")
        self.assertIn("in rhythm to late", page.text)
        rule = self.client.get("/segments/1/rule.json").text
        asked = urlencode({"rule": rule, "since": "2026-01-15", "way": "came"})
        self.assertIn("Came in since", self.client.get(f"/moved/segments?{asked}").text)
        kept = self.post(f"/moved/segments/keep?{asked}", name="New to it")
        self.assertIn("New to it", kept.text)
        self.assertIn("fixed list", kept.text)
        for wrong in (
            "segments?rule={",
            "segments?rule={}&since=soon",
            "rhythm?month=1999-01&then=late&now=new",
            "rhythm?month=2026-05&then=x&now=y",
            "elsewhere",
        ):
            self.assertEqual(self.client.get(f"/moved/{wrong}").status_code, 404, wrong)


class SampleNumbers(PagesCase):
    def test_every_regions_example_of_the_library_is_read(self) -> None:
        """The sample numbers are those that the package phonenumbers carries for each region."""
        read = 0
        for region in sorted(phonenumbers.SUPPORTED_REGIONS):
            number = phonenumbers.example_number_for_type(region, phonenumbers.PhoneNumberType.MOBILE)
            if number is None:
                continue
            wanted = phonenumbers.format_number(number, phonenumbers.PhoneNumberFormat.E164)
            for form in (
                phonenumbers.PhoneNumberFormat.INTERNATIONAL,
                phonenumbers.PhoneNumberFormat.NATIONAL,
            ):
                written = phonenumbers.format_number(number, form)
                self.assertEqual(Phone(region)[written], wanted, (region, written))
            read += 1
        self.assertGreater(read, 200)
        for nobody in ("+999 123 456", "12", "call me", "+1 212 555 01234567"):
            self.assertIsInstance(Phone("US")[nobody], Bad, nobody)
