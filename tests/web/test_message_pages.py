"""Messages, offers, replies and customers' own pages over HTTP."""

import io
import json
import re
import struct
import time
import zlib
from concurrent.futures import ThreadPoolExecutor
from threading import Event
from unittest import mock

from PIL import Image
from sqlalchemy import func, select

from loyalbell.channels.webhook import signature
from loyalbell.core.messages import content as c
from loyalbell.core.offers.terms import Terms
from loyalbell.services.background_work import BackgroundResults
from loyalbell.services.delivery.composing.rendering import own_links
from loyalbell.services.delivery.page_tokens import SignedLinks, page_token
from loyalbell.services.messages import commands as message_commands
from loyalbell.services.messages import gallery, message_templates, preflight
from loyalbell.services.messages import queries as message_queries
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.offers import queries as offer_queries
from loyalbell.services.scheduler import tick
from loyalbell.services.settings.channels import ChatSettings, TextSettings, loaded
from loyalbell.storage.consent import consent_now
from loyalbell.storage.schema import (
    CustomField,
    Delivery,
    FieldValue,
    GalleryPicture,
    Item,
    Letterhead,
    Message,
    Person,
    Preference,
    Reply,
    Shop,
    SignUp,
)
from tests.support import NOW, FakeSender, wait_for
from tests.web.test_pages import PagesCase


def png(width: int = 1_600, height: int = 400, kind: str = "PNG") -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (width, height), "#2f7f75").save(out, kind)
    return out.getvalue()


class SignedInPages(PagesCase):
    def setUp(self) -> None:
        super().setUp()
        with self.application.database.transaction() as session:
            for group in (TextSettings, ChatSettings):
                settings = group.load(session)
                settings.url = "http://127.0.0.1:1"
                settings.save(session)
        self.csrf = self.sign_in()

    def post(self, path: str, **form: str):
        return self.client.post(path, data={"_csrf": self.csrf, **form})


class MessagePages(SignedInPages):
    def whole(self, content: c.MessageContent) -> str:
        return content.model_dump_json()

    def test_every_occasion_opens_as_a_message_that_reads_well(self) -> None:
        """Nothing but what the shop has to choose itself is left to fix."""
        allowed = ("offer is not chosen",)
        for one in message_templates.OCCASIONS:
            self.assertEqual(self.client.get(f"/messages/new?start={one.key}").status_code, 200, one.key)
            content = message_templates.with_letterhead(one.content, 1)
            for finding in preflight.findings_of_all(self.application, content):
                if finding.level == "must fix" and one.key != "blank":
                    self.assertTrue(
                        any(words in finding.words for words in allowed), (one.key, finding.words)
                    )
        self.assertEqual(self.client.get("/messages/new?start=nothing").status_code, 404)

    def test_turning_to_another_channel_and_language_keeps_what_is_written(self) -> None:
        content = message_queries.content_of(self.application, 3)
        page = self.post("/messages/sheet", whole=self.whole(content), channel="email", language="es").text
        self.assertIn("se acerca un cumpleaños", page)
        page = self.post("/messages/sheet", whole=self.whole(content), channel="chat", language="fr").text
        self.assertIn('data-language="fr"', page)
        page = self.post(
            "/messages/sheet",
            whole=self.whole(c.as_message(c.TextContent(texts=[c.ShownText(text="It’s – time")]))),
            channel="text",
            twins="1",
        ).text
        self.assertIn("It&#39;s - time", page)
        self.assertIn("cannot be read", self.post("/messages/sheet", whole="{").text)
        self.assertIn(
            "twice",
            self.post(
                "/messages/read", whole=json.dumps({"version": 2, "writings": [{"channel": "text"}] * 2})
            ).text,
        )

    def test_what_is_missing_is_counted_for_a_segment(self) -> None:
        content = c.as_message(
            c.EmailContent(subject="Hi {{ birthday }}", preview="p", letterhead=1, blocks=[c.Text(text="x")])
        )
        everyone = self.post("/messages/read", whole=self.whole(content), channel="email").text
        some = self.post("/messages/read", whole=self.whole(content), channel="email", audience="1").text
        found = [re.search(r"(\d+) of ([\d,]+) have no birthday", page) for page in (everyone, some)]
        assert found[0] and found[1]
        self.assertLess(int(found[1][2].replace(",", "")), int(found[0][2].replace(",", "")))

    def test_codes_that_are_not_in_the_catalogue_are_reported_with_what_is_shown_instead(self) -> None:
        with self.application.database.transaction() as session:
            field = CustomField(name="Wanted", kind="text", made_at=NOW)
            session.add(field)
            session.flush()
            number = field.id
            for person, value in ((1, "OT-001;OT-002"), (2, "OT-001;OT-999"), (3, "nothing of ours")):
                session.add(FieldValue(person_id=person, field_id=number, value=value, at=NOW))
            session.get_one(Item, 1).external_id = "OT-001"
            session.get_one(Item, 2).external_id = "OT-002"
        letter = c.EmailContent(
            subject="Hi", preview="p", letterhead=1, blocks=[c.Items(list="field", field=number)]
        )
        page = self.post("/messages/read", whole=self.whole(c.as_message(letter)), channel="email").text
        said = " ".join(page.split())
        self.assertTrue("2 of 3 people have something in this field that is not in the catalogue" in said)
        self.assertTrue("OT-999" in said and "they get best sellers" in said)

    def test_what_is_no_block_or_nested_too_deep_is_refused_in_words(self) -> None:
        """Seen by random requests: a block that is a number was a 500."""
        deep = "[" * 100_000
        for block in ("-1", "[]", "null", deep, '{"a":'):
            self.assertEqual(self.post("/messages/keep-block", name="x", block=block).status_code, 422)
        for path, name in (("/messages/sheet", "whole"), ("/sequences/draw", "plan")):
            self.assertLess(self.post(path, **{name: deep}).status_code, 500, path)
        self.assertEqual(self.client.get(f"/segments/new?rule={deep[:9_000]}").status_code, 422)

    def test_a_language_that_nobody_speaks_is_shown_as_it_is_written(self) -> None:
        """Seen by random requests: the language “NaN” was a 500."""
        for odd in ("NaN", "xx", "x" * 50, "_", "é"):
            page = self.post("/messages/sheet", language=odd, whole=self.whole(c.MessageContent()))
            self.assertLess(page.status_code, 500, odd)

    def test_a_letterhead_with_a_character_that_no_page_may_hold_is_shown_without_it(self) -> None:
        """Seen by random requests: a NUL in the footer was a 500, and would have failed every email in it."""
        for odd in ("%00", "%0C", "%EF%BF%BF"):
            page = self.client.get(f"/letterheads/preview?footer=12{odd}Mill")
            self.assertEqual(page.status_code, 200, odd)
            self.assertIn("12Mill", page.text)

    def test_a_letterhead_is_previewed_as_it_is_changed_and_kept_with_its_link_colour(self) -> None:
        asked = "header=Hello&accent=%23112233&ink=%23000000&own_link=1&link=%23aa0000&width=500"
        page = self.client.get(f"/letterheads/preview?{asked}")
        self.assertEqual(page.status_code, 200)
        self.assertTrue("#aa0000" in page.text and "#112233" in page.text)
        odd = self.client.get("/letterheads/preview?ink=red&width=9999999&font=x&logo=%C2%B2&link=%3Czz")
        self.assertEqual(odd.status_code, 200)
        self.assertFalse("zz" in odd.text)
        form = {"id": "1", "name": "Green", "header": "H", "footer": "1 Row", "width": "600"}
        colours = {"ink": "#000000", "accent": "#112233", "paper": "#ffffff", "card": "#ffffff"}
        self.post("/letterheads", **form, **colours, own_link="1", link="#aa0000")
        with self.application.database.reading() as session:
            self.assertEqual(session.get_one(Letterhead, 1).link, "#aa0000")
        self.post("/letterheads", **form, **colours, link="#aa0000")
        with self.application.database.reading() as session:
            self.assertEqual(session.get_one(Letterhead, 1).link, "")

    def test_versions_are_named_compared_and_restored(self) -> None:
        content = message_queries.content_of(self.application, 1)
        first = content.find("email")
        assert isinstance(first, c.EmailContent)
        changed = content.with_writing(first.model_copy(update={"subject": "Another subject"}))
        message_commands.keep(self.application, 1, "We kept your spot", changed, "Ida")
        page = self.client.get("/messages/1/versions").text
        self.assertRegex(re.sub(r"<[^>]+>", "", page), r"- the subject:.*we kept your spot")
        self.assertIn("+ the subject: Another subject", re.sub(r"<[^>]+>", "", page))
        self.post("/messages/1/versions", number="1", name="as in May")
        self.post("/messages/1/versions", number="1", act="restore")
        self.assertEqual(message_queries.content_of(self.application, 1), content)
        self.assertEqual(
            [one.name for one in message_queries.versions(self.application, 1)], [None, None, "as in May"]
        )
        self.assertEqual(self.post("/messages/1/versions", number="9", act="restore").status_code, 404)

    def test_out_to_files_and_in_again(self) -> None:
        before, count = message_queries.content_of(self.application, 3), self.shown()
        data = self.client.get("/messages/3/export?as=json").content
        self.assertEqual(c.read_content(json.loads(data)), before)
        mail = self.client.get("/messages/3/export?as=eml").content
        page = self.client.post(
            "/messages/import", data={"_csrf": self.csrf}, files={"file": ("old.eml", mail)}
        ).text
        self.assertIn("own HTML", page)
        self.assertIn("a birthday is near", page)
        for name, content, words in (
            ("x.json", b"{", "This is not JSON"),
            ("x.json", b'{"version": 9}', "newer Loyal Bell"),
            ("x.pdf", b"%PDF", "from a mail (.eml)"),
        ):
            answer = self.client.post(
                "/messages/import", data={"_csrf": self.csrf}, files={"file": (name, content)}
            )
            self.assertEqual((answer.status_code, words in answer.text), (422, True), name)
        self.assertEqual(self.shown(), count, "nothing of these is kept")

    def shown(self) -> int:
        with self.application.database.reading() as session:
            return session.scalar(select(func.count()).select_from(Message).where(~Message.hidden)) or 0

    def test_a_proof_goes_out_and_is_no_message_of_the_library(self) -> None:
        said = self.post(
            "/messages/proof",
            whole=self.whole(message_queries.content_of(self.application, 1)),
            channel="email",
            reader="1",
        ).text
        self.assertIn("A proof is on its way to ida@otterby.example", said)
        sender = FakeSender()
        tick(self.application, sender)
        self.assertEqual([one.recipient for one in sender.handed], ["ida@otterby.example"])
        self.assertNotIn("(proof)", self.client.get("/messages").text)

    def test_pictures_are_checked_made_small_and_kept_while_used(self) -> None:
        def upload(data: bytes, name: str = "a.png"):
            return self.client.post(
                "/gallery/upload", data={"_csrf": self.csrf}, files={"file": (name, data)}
            )

        made = upload(png()).json()
        with self.application.database.reading() as session:
            kept = session.get_one(GalleryPicture, made["id"])
        self.assertEqual((kept.width, kept.height), (1_200, 300))
        self.assertEqual(self.client.get(f"/picture/{kept.token}").headers["content-type"], "image/png")
        for wrong in (b"not a picture", b"<svg></svg>", png(kind="BMP"), b""):
            self.assertEqual(upload(wrong).status_code, 422)
        self.post(f"/gallery/{made['id']}", alt="A green field")
        self.assertIn("A green field", self.client.get("/gallery").text)
        self.assertIn("is in use", self.post("/gallery/1", act="delete").text)
        self.post(f"/gallery/{made['id']}", act="delete")
        self.assertEqual(self.client.get(f"/picture/{kept.token}").status_code, 404)

    def test_a_part_of_a_picture_is_cut_out_and_the_whole_stays(self) -> None:
        """Pixels held against Pillow’s own crop of the same box."""
        whole = Image.new("RGB", (300, 200), "#ffffff")
        whole.paste("#2f7f75", (100, 50, 200, 150))
        out = io.BytesIO()
        whole.save(out, "PNG")
        made = self.client.post(
            "/gallery/upload",
            data={"_csrf": self.csrf, "alt": "A field"},
            files={"file": ("field.png", out.getvalue())},
        ).json()

        def cut(*box: int):
            sides = dict(zip(("left", "top", "width", "height"), map(str, box), strict=True))
            return self.post(f"/gallery/{made['id']}/cut", **sides)

        part = self.application.find(GalleryPicture, cut(90, 40, 120, 60).json()["id"])
        self.assertEqual(
            (part.name, part.alt, part.width, part.height), ("field, cut.png", "A field", 120, 60)
        )
        with Image.open(io.BytesIO(part.data)) as found:
            self.assertEqual(found.convert("RGB").tobytes(), whole.crop((90, 40, 210, 100)).tobytes())
        beyond = self.application.find(GalleryPicture, cut(250, -20, 500, 500).json()["id"])
        self.assertEqual((beyond.width, beyond.height), (50, 200))
        self.assertEqual(cut(0, 0, 15, 60).json()["problem"], "Leave at least 16 by 16 pixels.")
        self.assertEqual(self.post("/gallery/999999/cut").status_code, 422)
        self.assertEqual(self.application.find(GalleryPicture, made["id"]).width, 300)

    def test_files_blocks_letterheads_and_opening_messages(self) -> None:
        answer = self.client.post(
            "/messages/attach", data={"_csrf": self.csrf}, files={"file": ("care.pdf", b"%PDF-1.4")}
        )
        self.assertEqual(answer.json()["name"], "care.pdf")
        for name, data in (("x.exe", b"MZ"), ("empty.pdf", b"")):
            self.assertEqual(
                self.client.post(
                    "/messages/attach", data={"_csrf": self.csrf}, files={"file": (name, data)}
                ).status_code,
                422,
            )
        block = json.dumps({"kind": "text", "text": "kept"})
        self.assertEqual(self.post("/messages/keep-block", name="Kept", block=block).status_code, 200)
        self.assertEqual(self.post("/messages/keep-block", name="", block=block).status_code, 422)
        self.assertEqual(self.post("/messages/keep-block", name="x", block='{"kind": "x"}').status_code, 422)
        page = self.post(
            "/letterheads",
            name="Blue",
            header="H",
            footer="F",
            ink="#000000",
            accent="#0000ff",
            paper="#ffffff",
            card="#ffffff",
            width="600",
            font="x",
        ).text
        self.assertIn("Blue", page)
        self.assertIn(
            "no colour",
            self.post(
                "/letterheads",
                name="Bad",
                ink="red",
                accent="#0000ff",
                paper="#ffffff",
                card="#ffffff",
                width="600",
            ).text,
        )
        self.assertIn("is in use", self.post("/letterheads", id="1", act="delete").text)
        self.post("/settings/openings", name="Second", text="Hi")
        self.assertIn("waits for the network", self.client.get("/settings/openings").text)


class Library(SignedInPages):
    def test_the_list_comes_at_once_and_the_checks_when_they_are_ready(self) -> None:
        """Seen: nine seconds for the first look at it with 100,000 customers."""
        go, real = Event(), preflight.findings_of_all

        def slow(*given: object) -> object:
            go.wait(20)
            return real(*given)  # type: ignore[arg-type]

        with (
            mock.patch.object(preflight, "findings_of_all", slow),
            mock.patch.object(preflight, "A_MOMENT", 0.05),
            mock.patch.object(preflight.findings_of_library, "__defaults__", (0.05,)),
        ):
            self.application.background = BackgroundResults()
            first = self.client.get("/messages").text
            self.assertIn("being checked", first)
            self.assertIn('hx-trigger="load delay:1s"', first)
            go.set()
            wait_for(lambda: "being checked" not in self.client.get("/messages").text)
            self.assertNotIn("load delay:1s", self.client.get("/messages").text)
            go.clear()
            with self.application.database.transaction() as session:
                self.application.note(session, "Ida", "saved a message")
            # what was found before stands until the new checks are there
            again = self.client.get("/messages").text
            self.assertNotIn("being checked", again)
            self.assertIn("load delay:1s", again)
            go.set()
            wait_for(lambda: "load delay:1s" not in self.client.get("/messages").text)
            with self.application.database.transaction() as session:
                self.application.note(session, "Ida", "signed in")
            self.assertNotIn("load delay:1s", self.client.get("/messages").text)


class OfferPages(SignedInPages):
    def code(self, offer: int = 1, person: int = 1) -> str:
        with self.application.database.transaction() as session:
            made = offer_commands.issue(
                session,
                self.application.the_shop(),
                offer,
                offer_commands.Receiver(person),
                self.application.clock.now(),
            )
            assert made is not None
            return made.code

    def test_terms_are_checked_and_stay_once_codes_are_out(self) -> None:
        self.assertIn(
            "saved=yes",
            str(self.post("/offers", name="New", kind="amount", amount="5.00", days="14", uses="1").url),
        )
        for wrong, words in (
            ({"kind": "amount", "amount": ""}, "how much"),
            ({"kind": "item"}, "which item"),
            ({"kind": "amount", "amount": "x"}, "Write amounts"),
        ):
            self.assertIn(words, self.post("/offers", name="Bad", **wrong).text)
        self.code()
        read = self.post("/offers/reading", kind="percent", percent="20", days="3", uses="1").text
        self.assertIn("20 % off", read)
        self.assertIn("until the end of", read)
        self.assertIn("Write amounts like", self.post("/offers/reading", kind="amount", amount="lots").text)
        said = self.post("/offers", offer_id="1", name="Birthday treat", kind="percent", percent="50").text
        self.assertIn("Codes of this offer are out there", said)

    def test_the_till_finds_explains_and_redeems_once(self) -> None:
        code = self.code(offer=2)
        self.assertIn("$10.00 off", self.client.get(f"/till?code={code.lower()}").text)
        self.assertIn("below the smallest", self.post("/till", code=code, purchase="12").text)
        self.assertIn("Take $10.00 off", self.post("/till", code=code, purchase="45.00").text)
        self.assertIn("It has been used", self.post("/till", code=code, purchase="45.00").text)
        self.assertIn("mistyped", self.client.get("/till?code=AAAAA-AAAAA").text)
        self.assertIn(code, self.client.get("/offers/2").text)

    def test_two_tills_at_once_redeem_one_code_once(self) -> None:
        offer = offer_commands.keep(
            self.application, None, "For two tills", Terms(kind="amount", amount=1_000), "Ida"
        )
        code = self.code(offer)

        def use(_: int) -> bool:
            try:
                offer_commands.redeem(self.application, code, 5_000, "till")
            except offer_queries.CannotRedeem:
                return False
            return True

        with ThreadPoolExecutor(8) as pool:
            self.assertEqual(sum(pool.map(use, range(16))), 1)
        with self.application.database.reading() as session:
            figures = offer_queries.figures(
                session, session.get_one(offer_queries.Offer, offer), self.application.clock.now(), 5_000
            )
        self.assertEqual(
            (figures.given_out, figures.redeemed, figures.open_codes, figures.cost), (1, 1, 0, 1_000)
        )

    def test_the_customers_page_of_an_offer(self) -> None:
        code = self.code()
        self.assertIn(code, self.client.get(f"/offer/{code}").text)
        picture = Image.open(io.BytesIO(self.client.get(f"/offer/{code}/qr.png").content))
        self.assertGreater(picture.width, 100)
        self.assertEqual(self.client.get("/offer/AAAAA-AAAAA").status_code, 404)
        self.assertEqual(self.client.get("/offer/AAAAA-AAAAA/qr.png").status_code, 404)


class OwnPages(SignedInPages):
    def link_token(self, purpose: str = "") -> tuple[str, int]:
        with self.application.database.transaction() as session:
            delivery = session.scalars(
                select(Delivery).where(Delivery.state == "sent", Delivery.channel == "email")
            ).first()
            assert delivery is not None
            signed = page_token(session, purpose, delivery.token) if purpose else delivery.token
            return signed, delivery.person_id

    def state(self, person: int, channel: str = "email") -> str | None:
        with self.application.database.reading() as session:
            return consent_now(session, [person], channel).get(person)

    def test_a_token_that_stands_in_links_and_pixels_opens_no_page_of_the_person(self) -> None:
        """Seen: one token for all; whoever saw it reached the preferences page."""
        token, person = self.link_token()
        for path in ("preferences", "keep", "view"):
            self.assertEqual(self.client.get(f"/{path}/{token}").status_code, 404, path)
            self.assertEqual(self.client.get(f"/{path}/{token}.0123456789abcdef").status_code, 404, path)
        before = self.state(person)
        self.client.post(f"/preferences/{token}", data={"often": "monthly"})
        self.client.post(f"/keep/{token}")
        self.assertEqual(self.state(person), before)
        view, _ = self.link_token("view")
        self.assertEqual(self.client.get(f"/preferences/{view}").status_code, 404)
        self.assertEqual(self.client.get(f"/view/{view}").status_code, 200)
        # what left before there were signatures keeps its links
        with self.application.database.transaction() as session:
            SignedLinks(after=10**9).save(session)
        for path in ("preferences", "keep", "view"):
            self.assertEqual(self.client.get(f"/{path}/{token}").status_code, 200, path)
        with self.application.database.transaction() as session:
            SignedLinks().save(session)

    def test_the_links_of_a_mail_are_signed_each_for_its_page(self) -> None:
        token, _ = self.link_token()
        with self.application.database.transaction() as session:
            links = own_links(session, session.get_one(Shop, 1), token)
        for name in ("preferences_url", "keep_url", "browser_url"):
            path = links[name].removeprefix("http://127.0.0.1:8000")
            self.assertEqual(self.client.get(path).status_code, 200, name)
        self.assertEqual(len({link.rpartition(".")[2] for link in links.values()}), 4)

    def test_preferences_are_chosen_without_signing_in(self) -> None:
        token, person = self.link_token("preferences")
        self.client.cookies.clear()
        page = self.client.get(f"/preferences/{token}").text
        self.assertNotIn(f"/customers/{person}", page)
        self.client.post(
            f"/preferences/{token}",
            data={"often": "monthly", "pause": "30", "birthday-month": "2", "birthday-day": "29"},
        )
        self.assertEqual(self.state(person), "refused")
        with self.application.database.reading() as session:
            kept = session.scalars(select(Preference).where(Preference.person_id == person)).one()
            born = session.get_one(Person, person)
        self.assertEqual((kept.often, born.birthday_month, born.birthday_day), ("monthly", 2, 29))
        self.client.post(f"/preferences/{kept.token}", data={"email": "1", "often": "any"})
        self.assertEqual(self.state(person), "agreed")
        page = self.client.post(
            f"/preferences/{token}", data={"email": "1", "birthday-month": "2", "birthday-day": "31"}
        ).text
        self.assertIn("no day of the year", page)
        self.assertEqual(self.client.get("/preferences/unknown").status_code, 404)

    def test_keep_me_on_the_list_takes_a_press(self) -> None:
        token, person = self.link_token("keep")
        self.client.get(f"/keep/{token}")  # looking changes nothing
        self.assertNotIn("Wants to stay", self.client.get(f"/customers/{person}").text)
        self.client.post(f"/keep/{token}")
        self.client.post(f"/keep/{token}")
        self.assertIn("Wants to stay", self.client.get(f"/customers/{person}").text)
        self.assertEqual(self.client.post("/keep/unknown").status_code, 404)

    def test_only_files_that_mail_programs_take_are_attached(self) -> None:
        """Seen: a list of refused kinds let several through. Common practice, no source."""
        for name in (
            "a.exe",
            "a.pif",
            "a.hta",
            "a.docm",
            "a.xlsm",
            "a.iso",
            "a.lnk",
            "a.PDF.exe",
            "a",
            "a.svg",
        ):
            with self.assertRaises(gallery.CannotTake, msg=name):
                gallery.add_file(self.application, name, b"x", "Ida")
        kept = gallery.add_file(self.application, "Menu.PDF", b"%PDF-1.7", "Ida")
        self.assertEqual((kept.name, kept.kind), ("Menu.PDF", "application/pdf"))

    def test_a_picture_that_says_it_is_enormous_is_refused(self) -> None:
        """Seen: one of 400 megapixels was an error of the program. The header is as PNG's specification
        (ISO/IEC 15948) writes it, without the picture.
        """
        head = b"IHDR" + struct.pack(">IIBBBBB", 20_000, 20_000, 8, 2, 0, 0, 0)
        data = b"\x89PNG\r\n\x1a\n" + struct.pack(">I", 13) + head + struct.pack(">I", zlib.crc32(head))
        data += struct.pack(">I", 0) + b"IDAT" + struct.pack(">I", zlib.crc32(b"IDAT"))
        with self.assertRaisesRegex(gallery.CannotTake, "too many pixels"):
            gallery.add_picture(self.application, "big.png", data, "", "Ida")

    def test_an_email_in_the_browser(self) -> None:
        token, _ = self.link_token("view")
        self.assertIn("winter coats come out", self.client.get(f"/view/{token}").text)
        self.assertEqual(self.client.get("/view/unknown").status_code, 404)

    def test_signing_up_is_confirmed_by_mail_and_a_press(self) -> None:
        self.client.cookies.clear()
        self.assertIn("Write it like", self.client.post("/sign-up", data={"email": "nobody"}).text)
        for _ in range(2):  # asked twice within the hour, one mail
            self.assertIn(
                "mailbox",
                self.client.post("/sign-up", data={"email": "New@Example.com", "first_name": "Nia"}).text,
            )
        self.client.post("/sign-up", data={"email": "robot@example.com", "website": "x"})
        sender = FakeSender()
        tick(self.application, sender)
        mails = [one for one in sender.handed if one.channel == "email"]
        self.assertEqual([one.recipient for one in mails], ["new@example.com"])
        with self.application.database.reading() as session:
            row = session.scalars(select(SignUp)).one()
            on_file = select(Person).where(Person.email == "new@example.com")
            self.assertIsNone(session.scalar(on_file))  # nobody is on file before that
        self.assertIn(f"/confirm/{row.token}".encode(), mails[0].content.replace(b"=\r\n", b""))
        self.assertNotIn(b"Nia", mails[0].content)  # anybody may have typed it
        self.client.get(f"/confirm/{row.token}")
        self.assertIn("You are on the list", self.client.post(f"/confirm/{row.token}").text)
        with self.application.database.reading() as session:
            person = session.scalars(on_file).one()
        self.assertEqual((person.first_name, self.state(person.id)), ("Nia", "agreed"))
        self.assertIn("You are on the list", self.client.post(f"/confirm/{row.token}").text)
        self.assertEqual(self.client.post("/confirm/unknown").status_code, 404)

    def test_networks_call_back_with_a_signature(self) -> None:
        with self.application.database.transaction() as session:
            settings = TextSettings.load(session)
            settings.secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
            settings.save(session)
            phone = session.scalars(select(Person.phone).where(Person.phone.is_not(None))).first()
        body = json.dumps({"type": "received", "id": "in-1", "from": phone, "text": "Are you open?"})
        now, secret = int(time.time()), loaded(self.application, TextSettings).secret
        head = {
            "webhook-id": "m",
            "webhook-timestamp": str(now),
            "webhook-signature": signature(secret, "m", now, body),
        }
        for _ in range(2):
            self.assertEqual(self.client.post("/callbacks/text", content=body, headers=head).status_code, 202)
        self.assertEqual(
            self.client.post("/callbacks/text", content=body + " ", headers=head).status_code, 401
        )
        self.assertEqual(self.client.post("/callbacks/pigeon", content=body, headers=head).status_code, 404)
        with self.application.database.reading() as session:
            reply = session.scalars(select(Reply)).one()
        self.assertIn("Are you open?", self.client.get("/replies").text)
        self.assertIn(
            "Your reply is on its way", self.post(f"/replies/{reply.id}/answer", text="Yes, till six").text
        )
        self.assertIn("Nothing waits", self.client.get("/replies").text)
        self.assertIn("Yes, till six", self.client.get(f"/replies/{reply.id}").text)
        self.assertEqual(self.client.get("/replies/999").status_code, 404)
        self.post(f"/replies/{reply.id}/settle", act="open")
        self.post(f"/replies/{reply.id}/settle", act="assign", user="1")
        self.assertIn("Are you open?", self.client.get("/replies?mine=yes").text)

    def test_channel_settings_are_checked(self) -> None:
        page = self.post(
            "/settings/channels/email", tls="none", dkim_key="x", dkim_domain="a.example", dkim_selector="s"
        ).text
        self.assertIn("not a private key as PEM", page)
        self.assertIn("no name and address", self.post("/settings/channels/links", social="nonsense").text)
        self.assertIn(
            "saved=yes", str(self.post("/settings/channels/proofs", readers="Bea, bea@shop.example\n").url)
        )
        self.assertIn("Bea, bea@shop.example", self.client.get("/settings/channels").text)
        self.assertIn("does not answer", self.post("/settings/channels/text/try").text)
