import io
import re
import shutil
import tempfile
import unittest
from pathlib import Path

from sqlalchemy import select

from loyalbell.demo import clock_routes
from loyalbell.demo.build import OWNER
from loyalbell.post_room import routes as post_room_routes
from loyalbell.post_room.store import PostRoomStore
from loyalbell.services.application import Application
from loyalbell.storage.schema import ConsentEntry, Delivery
from loyalbell.web.app import create_app
from loyalbell.web.request import DemoParts
from tests.support import demo_book
from tests.web.client import PageClient

PAGES = (
    "/ /customers /customers?q=wren /customers/1 /segments /segments/new /segments/1 /segments/1/people"
    " /segments/1/why/3 /segments/compare?segment=1&segment=2 /segments/1/rule.json /messages /messages/new"
    " /messages/1 /messages/3?channel=chat /messages/3?channel=email&language=es /messages/1/versions"
    " /messages/fields /gallery /letterheads /offers /offers/1 /offers/new /till /replies /replies/answers"
    " /settings/channels /settings/results /settings/openings /post-room?channel=chat /campaigns"
    " /campaigns/new /results /results/tests /results/domains /results/1 /results/1?figure=opened /imports"
    " /post-room /settings /log /search?q=a /duplicates /duplicates/1/2 /rhythm /rhythm?of=department:Shop"
    " /rhythm?of=item:Bath /rhythm/line?day=90"
    " /rhythm/top?percent=10 /rhythm/value /fields /other-programs /customers/201"
    " /customers?segment=1&tag=1&columns=band,tags,birthday,city,joined,field-2"
).split()
OUTSIDE = re.compile(r"""(?:src|href|action)\s*=\s*["'](https?:)?//""")


class PagesCase(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.folder = Path(tempfile.mkdtemp(prefix="loyalbell-test-"))
        cls.application = demo_book(cls.folder, people=200)
        cls.room = PostRoomStore(cls.folder)
        cls.app = create_app(
            cls.application, None, DemoParts(OWNER[1:], (clock_routes.router, post_room_routes.router))
        )
        cls.app.state.post_room = cls.room

    @classmethod
    def tearDownClass(cls) -> None:
        cls.room.close()
        cls.application.close()
        shutil.rmtree(cls.folder, ignore_errors=True)

    def setUp(self) -> None:
        self.client = PageClient(self.app, raise_server_exceptions=False)
        self.addCleanup(self.client.close)

    def token(self, page: str) -> str:
        found = re.search(r'name="_csrf" value="([^"]+)"', page)
        assert found
        return found[1]

    def sign_in(self) -> str:
        form = {
            "_csrf": self.token(self.client.get("/sign-in").text),
            "email": OWNER[1],
            "password": OWNER[2],
            "next": "/",
        }
        page = self.client.post("/sign-in", data=form)
        self.assertEqual(page.status_code, 200)
        return self.token(page.text)


class Pages(PagesCase):
    def test_every_page_shows_under_a_strict_policy_with_nothing_from_outside(self) -> None:
        self.sign_in()
        for path in PAGES:
            with self.subTest(path):
                page = self.client.get(path)
                self.assertEqual(page.status_code, 200)
                policy = page.headers["Content-Security-Policy"]
                self.assertIn("script-src 'self';", policy)
                self.assertNotIn("unsafe", policy)
                self.assertIsNone(OUTSIDE.search(page.text))
                self.assertNotIn(" style=", page.text)
                self.assertLessEqual(page.text.count("btn-act"), 1)

    def test_no_page_leads_to_another_site_whatever_it_is_told(self) -> None:
        token = self.sign_in()
        elsewhere = ("//evil.example", "/\\evil.example", "https://evil.example", "/\t/evil.example", "evil")
        for back in (*elsewhere, "/x\r\nSet-Cookie: a=b"):
            for path, form in (
                ("/switch", {"ringing": "1", "back": back}),
                ("/look", {"look": "light", "back": back}),
                ("/sign-in", {"email": OWNER[1], "password": OWNER[2], "next": back}),
            ):
                with self.subTest(path=path, back=back):
                    answer = self.client.post(path, data={"_csrf": token} | form, follow_redirects=False)
                    self.assertEqual((answer.status_code, answer.headers["location"]), (303, "/"))
                    self.assertNotIn("a=b", str(answer.headers))
                    if path == "/sign-in":
                        token = self.token(self.client.get("/").text)

    def test_the_headers_are_complete_and_pictures_of_mails_can_be_shown_elsewhere(self) -> None:
        """The list of the OWASP Secure Headers Project, from memory."""
        self.sign_in()
        headers = self.client.get("/customers").headers
        for name, value in (
            ("X-Content-Type-Options", "nosniff"),
            ("X-Frame-Options", "DENY"),
            ("Referrer-Policy", "same-origin"),
            ("Cross-Origin-Opener-Policy", "same-origin"),
            ("Cross-Origin-Resource-Policy", "same-origin"),
            ("Cache-Control", "no-store"),
        ):
            self.assertEqual(headers[name], value, name)
        self.assertIn("geolocation=()", headers["Permissions-Policy"])
        self.assertEqual(self.client.get("/o/x.gif").headers["Cross-Origin-Resource-Policy"], "cross-origin")
        self.assertEqual(self.client.get("/messages/1/small").headers["X-Frame-Options"], "SAMEORIGIN")

    def test_a_letterhead_whose_field_cannot_be_filled_is_refused_and_previewed_in_words(self) -> None:
        """Seen: a header with {{7*191}} was kept, every email with it failed, and its preview was a 500."""
        token = self.sign_in()
        form = {"_csrf": token, "name": "Broken", "header": "{{7*191}}", "footer": ""}
        self.assertIn("not closed or not understood", self.client.post("/letterheads", data=form).text)
        preview = self.client.get("/letterheads/preview?header={{7*191}}")
        self.assertEqual(preview.status_code, 200)
        self.assertIn("not understood", preview.text)
        form |= {"accent": "#173b39"}
        page = self.client.post("/settings/letterhead/1", data=form)
        self.assertEqual(page.status_code, 422)
        self.assertIn("not closed or not understood", page.text)

    def test_nobody_sees_anything_before_signing_in(self) -> None:
        for path in PAGES:
            answer = self.client.get(path, follow_redirects=False)
            self.assertEqual(answer.status_code, 303, path)
            self.assertTrue(answer.headers["location"].startswith("/sign-in"))
        self.assertEqual(
            self.client.post("/segments/read", headers={"HX-Request": "true"}).headers["HX-Redirect"],
            "/sign-in?next=/segments/read",
        )

    def test_a_write_needs_the_token(self) -> None:
        token = self.sign_in()
        for data in ({}, {"_csrf": "x" * len(token)}):
            answer = self.client.post("/switch", data=data | {"ringing": "0"})
            self.assertEqual(answer.status_code, 403)
            self.assertIn("out of date", answer.text)
        self.assertTrue(self.application.the_shop().ringing)

    def test_wrong_password_and_other_places_to_go(self) -> None:
        form = {
            "_csrf": self.token(self.client.get("/sign-in").text),
            "email": OWNER[1],
            "password": "wrong",
            "next": "/",
        }
        self.assertEqual(self.client.post("/sign-in", data=form).status_code, 422)
        form |= {"password": OWNER[2], "next": "//evil.example"}
        answer = self.client.post("/sign-in", data=form, follow_redirects=False)
        self.assertEqual(answer.headers["location"], "/")

    def test_what_is_not_here_says_so_in_our_look(self) -> None:
        self.sign_in()
        for path in (
            "/nothing",
            "/customers/999999",
            "/customers/x",
            "/segments/99",
            "/results/99",
            "/post-room/9",
            "/u/none",
            "/l/none/0",
            "/imports/9",
        ):
            with self.subTest(path):
                page = self.client.get(path)
                self.assertEqual(page.status_code, 404)
                self.assertIn("loyalbell.css", page.text)

    def test_a_rule_is_read_as_it_is_typed(self) -> None:
        headers = {"X-CSRF-Token": self.sign_in()}
        form = {
            "match": "all",
            "line": "0",
            "0.about": "orders",
            "0.comparison": "at least",
            "0.value": "1",
            "0.department": "",
            "0.measure": "count",
            "0.period.kind": "last days",
        }
        good = self.client.post("/segments/read", data=form | {"0.period.days": "60"}, headers=headers)
        self.assertIn("in the last 60 days", good.text)
        for days in ("0", "-3", "many", "", "99999999999999999999"):
            bad = self.client.post("/segments/read", data=form | {"0.period.days": days}, headers=headers)
            self.assertIn("Line 1: ", bad.text)

    def test_an_empty_or_broken_file_says_what_to_do(self) -> None:
        token = self.sign_in()
        for content, words in (
            (b"", "empty"),
            (b"PK\x03\x04", "cannot be read"),
            (b",,\n,\n", "no table"),
        ):
            answer = self.client.post(
                "/imports",
                data={"_csrf": token, "kind": "customers"},
                files={"file": ("x.csv", io.BytesIO(content))},
            )
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.text)


class Customers(PagesCase):
    """What customers reach, without a session."""

    def a_token(self) -> tuple[str, int]:
        with self.application.database.reading() as session:
            delivery = session.scalars(
                select(Delivery).where(Delivery.state == "sent").order_by(Delivery.id.desc())
            ).first()
            assert delivery
            return delivery.token, delivery.person_id

    def state(self, person_id: int) -> str:
        with self.application.database.reading() as session:
            query = select(ConsentEntry.state).where(
                ConsentEntry.person_id == person_id, ConsentEntry.channel == "email"
            )
            return session.scalars(query.order_by(ConsentEntry.id.desc())).first() or ""

    def test_looking_refuses_nothing_and_one_press_does(self) -> None:
        """RFC 8058 section 3: a GET must not act.

        A POST of List-Unsubscribe=One-Click must, without a cookie.
        """
        token, person = self.a_token()
        self.assertEqual(self.client.get(f"/u/{token}").status_code, 200)
        self.assertEqual(self.state(person), "agreed")
        self.assertEqual(
            self.client.post(f"/u/{token}", data={"List-Unsubscribe": "One-Click"}).status_code, 200
        )
        self.assertEqual(self.state(person), "refused")
        self.client.post(f"/u/{token}/stay")
        self.assertEqual(self.state(person), "agreed")

    def test_pixel_and_link(self) -> None:
        token, _ = self.a_token()
        pixel = self.client.get(f"/o/{token}.gif")
        self.assertEqual((pixel.status_code, pixel.content[:6]), (200, b"GIF89a"))
        self.assertIn("https://otterby.example/groom", self.client.get(f"/l/{token}/0").text)


LONDON = {"zone": "Europe/London"}


class FirstDay(unittest.TestCase):
    def test_an_empty_folder_asks_for_the_shop_and_every_page_shows_with_nothing_in_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            application = Application(Path(folder))
            with PageClient(create_app(application)) as client:
                page = client.get("/")
                self.assertIn("first day", page.text)
                token = re.search(r'name="_csrf" value="([^"]+)"', page.text)[1]
                form = {
                    "_csrf": token,
                    "name": "Corner",
                    "postal_address": "1 Row",
                    "zone": "Nowhere",
                    "currency": "USD",
                    "country": "US",
                    "owner": "Al",
                    "email": "al@corner.example",
                    "password": "long enough",
                }
                # asked, and never taken from what a request calls us
                self.assertIn('name="public_url"', page.text)
                self.assertIn("The address of this", client.post("/first-day", data=form | LONDON).text)
                form["public_url"] = "https://bell.corner.example"
                self.assertIn("not a time zone", client.post("/first-day", data=form).text)
                started = client.post("/first-day", data=form | LONDON, headers={"Host": "evil.example"}).text
                self.assertIn("Getting started", started)
                self.assertEqual(application.the_shop().public_url, "https://bell.corner.example")
                self.assertIn("Al.", client.get("/").text)
                for path in (
                    "/",
                    "/guide",
                    "/customers",
                    "/segments",
                    "/segments/new",
                    "/messages",
                    "/messages/new",
                    "/campaigns",
                    "/campaigns/new",
                    "/results",
                    "/imports",
                    "/log",
                    "/settings",
                ):
                    self.assertEqual(client.get(path).status_code, 200, path)
                self.assertEqual(client.get("/post-room").status_code, 404)
            application.close()
