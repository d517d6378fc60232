"""People, invitations, forgotten passwords, second factors and sessions, through the pages."""

import re

import pyotp
from sqlalchemy import select

from loyalbell.services.accounts import account_links, second_factor
from loyalbell.services.accounts.passwords import WeakPassword, check_strength
from loyalbell.storage.schema import AccountLink, LogEntry, Session, Setting, User
from loyalbell.web import request as web_request
from loyalbell.web.app import create_app
from tests.support import ApplicationCase, FakeSender
from tests.web.client import PageClient

IDA, RIGHT, NEW = "ida@shop.example", "a long password", "seven copper lanterns"
LINK = re.compile(r"/join/([\w-]+)")


class PeopleCase(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.app = create_app(self.application)
        self.sender = FakeSender()
        original = web_request.RequestContext.sender
        web_request.RequestContext.sender = property(lambda _: self.sender)
        self.addCleanup(setattr, web_request.RequestContext, "sender", original)

    def browser(self, email: str = IDA, password: str = RIGHT) -> PageClient:
        client = self.stranger()
        page = self.sign_in(client, email, password)
        found = re.search(r'name="csrf-token" content="([^"]+)"', page.text)
        client.headers["X-CSRF-Token"] = found[1] if found else ""
        return client

    def stranger(self) -> PageClient:
        client = PageClient(self.app, raise_server_exceptions=False)
        self.addCleanup(client.close)
        return client

    def sign_in(self, client: PageClient, email: str = IDA, password: str = RIGHT):
        return client.post(
            "/sign-in", data=self.form(client, "/sign-in") | {"email": email, "password": password}
        )

    def form(self, client: PageClient, at: str) -> dict[str, str]:
        found = re.search(r'name="_csrf" value="([^"]+)"', client.get(at).text)
        return {"_csrf": found[1] if found else ""}

    def user(self, email: str) -> User:
        with self.application.database.reading() as session:
            return session.scalars(select(User).where(User.email == email)).one()

    def acts(self) -> list[str]:
        with self.application.database.reading() as session:
            return list(session.scalars(select(LogEntry.act).order_by(LogEntry.id)))

    def invite(self, owner: PageClient, email: str = "bo@shop.example", role: str = "front desk") -> str:
        """The token that was mailed."""
        page = owner.post("/people", data={"name": "Bo", "email": email, "role": role})
        self.assertEqual(page.status_code, 200)
        mail = self.sender.handed[-1].content.decode().replace("=\r\n", "")
        return LINK.search(mail)[1]

    def choose(self, client: PageClient, token: str, password: str = NEW, again: str = ""):
        form = self.form(client, f"/join/{token}")
        return client.post(f"/join/{token}", data=form | {"password": password, "again": again or password})


class Joining(PeopleCase):
    def test_an_invitation_by_mail_a_password_and_in(self) -> None:
        owner, guest = self.browser(), self.stranger()
        token = self.invite(owner, "Bo@Shop.example")
        self.assertEqual(self.sender.handed[-1].recipient, "bo@shop.example")
        self.assertIn("no password yet", owner.get("/people").text)
        self.assertIn("do not belong together", self.sign_in(guest, "bo@shop.example", "").text)
        self.assertIn("differ", self.choose(guest, token, NEW, "another one").text)
        self.assertIn("guessed first", self.choose(guest, token, "bo@shop.example1").text)
        self.assertIn("guessed first", self.choose(guest, token, "password1234").text)
        self.assertIn("Sign in with it", self.choose(guest, token).text)
        again = self.form(guest, "/sign-in") | {
            "password": "eight copper lanterns",
            "again": "eight copper lanterns",
        }
        self.assertEqual(guest.post(f"/join/{token}", data=again).status_code, 410)
        desk = self.browser("bo@shop.example", NEW)
        self.assertIn("Who is here?", desk.get("/").text)
        self.assertEqual(desk.get("/people").status_code, 403)
        self.assertEqual(
            self.acts()[1:], ["invited a person", "failed to sign in", "chose a password", "signed in"]
        )

    def test_where_no_mail_leaves_the_link_is_handed_over(self) -> None:
        owner = self.browser()
        self.sender.result, self.sender.words = "try later", "no room"
        page = owner.post("/people", data={"name": "Bo", "email": "bo@shop.example", "role": "viewer"}).text
        self.assertIn("no room", page)
        token = LINK.search(page)[1]
        self.assertNotIn(token, owner.get("/people").text)
        self.assertEqual(self.choose(self.stranger(), token).status_code, 200)

    def test_a_newer_link_ends_the_older_and_links_run_out(self) -> None:
        owner = self.browser()
        old = self.invite(owner)
        page = owner.post(f"/people/{self.user('bo@shop.example').id}/link")
        self.assertIn("on its way", page.text)
        self.assertEqual(self.stranger().get(f"/join/{old}").status_code, 410)
        with self.application.database.transaction() as session:
            link = session.scalars(select(AccountLink).order_by(AccountLink.id.desc())).first()
            link.expires_at = link.made_at
        newer = LINK.search(self.sender.handed[-1].content.decode().replace("=\r\n", ""))[1]
        self.assertEqual(self.stranger().get(f"/join/{newer}").status_code, 410)

    def test_what_cannot_be_invited_says_why_and_changes_nothing(self) -> None:
        owner = self.browser()
        for form, words in (
            ({"name": "", "email": "x@shop.example", "role": "viewer"}, "Give a name"),
            ({"name": "B" * 90, "email": "x@shop.example", "role": "viewer"}, "at most 80"),
            ({"name": "Bo", "email": "nonsense", "role": "viewer"}, "not an email address"),
            ({"name": "Bo", "email": "x@shop.example", "role": "king"}, "Choose a role"),
            ({"name": "Bo", "email": "x@shop.example", "role": "viewer", "department": "77"}, "on file"),
            ({"name": "Bo", "email": IDA, "role": "viewer"}, "has access already"),
        ):
            with self.subTest(words):
                page = owner.post("/people", data=form)
                self.assertEqual(page.status_code, 422)
                self.assertIn(words, page.text)
        with self.application.database.reading() as session:
            self.assertEqual(len(session.scalars(select(User)).all()), 1)
        self.assertEqual(self.sender.handed, [])

    def test_somebody_always_stays_the_owner(self) -> None:
        owner, ida = self.browser(), self.user(IDA)
        for act, form in (("role", {"role": "viewer"}), ("end", {})):
            page = owner.post(f"/people/{ida.id}/{act}", data=form)
            self.assertEqual(page.status_code, 422)
            self.assertIn("only owner", page.text)
        self.choose(self.stranger(), self.invite(owner, role="owner"))
        self.assertEqual(owner.post(f"/people/{ida.id}/role", data={"role": "viewer"}).status_code, 403)
        self.assertEqual(self.user(IDA).role, "viewer")

    def test_ended_access_is_over_at_once_and_can_be_given_again(self) -> None:
        owner = self.browser()
        self.choose(self.stranger(), self.invite(owner))
        bo, number = self.browser("bo@shop.example", NEW), self.user("bo@shop.example").id
        self.assertEqual(bo.get("/customers", follow_redirects=False).status_code, 200)
        token = self.invite_again(owner, number)
        self.assertIn("Access ended", owner.post(f"/people/{number}/end").text)
        self.assertEqual(bo.get("/customers", follow_redirects=False).status_code, 303)
        self.assertIn("do not belong", self.sign_in(self.stranger(), "bo@shop.example", NEW).text)
        self.assertEqual(self.stranger().get(f"/join/{token}").status_code, 410)
        self.choose(self.stranger(), self.invite(owner))
        self.assertEqual(self.user("bo@shop.example").id, number)
        self.assertEqual(self.browser("bo@shop.example", NEW).get("/own").status_code, 200)

    def test_a_session_that_was_left_over_lets_nobody_in_after_the_end(self) -> None:
        owner = self.browser()
        with self.application.database.transaction() as session:
            session.get_one(User, self.user(IDA).id).ended_at = self.clock.now()
        self.assertEqual(owner.get("/own", follow_redirects=False).status_code, 303)

    def invite_again(self, owner: PageClient, number: int) -> str:
        owner.post(f"/people/{number}/link")
        return LINK.search(self.sender.handed[-1].content.decode().replace("=\r\n", ""))[1]


class Forgotten(PeopleCase):
    def ask(self, email: str) -> str:
        client = self.stranger()
        return client.post("/forgotten", data=self.form(client, "/forgotten") | {"email": email}).text

    def test_the_answer_is_the_same_and_the_mail_goes_once(self) -> None:
        token = re.compile(r'value="[\w-]{20,}"')
        known, unknown = self.ask(IDA), self.ask("nobody@shop.example")
        self.assertEqual(token.sub("", known), token.sub("", unknown))
        self.ask(IDA.upper())
        self.assertEqual([one.recipient for one in self.sender.handed], [IDA])

    def test_the_link_signs_out_everywhere_and_nobody_else(self) -> None:
        owner = self.browser()
        self.ask(IDA)
        link = LINK.search(self.sender.handed[-1].content.decode().replace("=\r\n", ""))[1]
        self.choose(self.stranger(), link)
        self.assertEqual(owner.get("/people", follow_redirects=False).status_code, 303)
        self.assertIn("do not belong", self.sign_in(self.stranger()).text)
        self.assertEqual(self.browser(password=NEW).get("/people").status_code, 200)

    def test_asked_too_often_from_one_place_it_waits(self) -> None:
        said = [self.ask(f"x{number}@shop.example") for number in range(11)]
        self.assertNotIn("too often", said[9])
        self.assertIn("too often", said[10])


class OwnSignIn(PeopleCase):
    def test_changing_the_password_needs_the_old_one(self) -> None:
        here, there = self.browser(), self.browser()
        change = {"old": "wrong", "new": NEW, "again": NEW}
        self.assertIn("old password is not right", here.post("/own/password", data=change).text)
        change["old"] = RIGHT
        self.assertIn("differ", here.post("/own/password", data=change | {"again": "x"}).text)
        self.assertIn(
            "guessed first",
            here.post("/own/password", data=change | {"new": "12345678", "again": "12345678"}).text,
        )
        self.assertIn("is changed", here.post("/own/password", data=change).text)
        self.assertEqual(here.get("/own", follow_redirects=False).status_code, 200)
        self.assertEqual(there.get("/own", follow_redirects=False).status_code, 303)

    def test_sessions_are_listed_and_ended(self) -> None:
        here, one, two = self.browser(), self.browser(), self.browser()
        page = here.get("/own").text
        self.assertEqual(page.count("sign out there"), 2)
        with self.application.database.reading() as session:
            newest = session.scalars(select(Session).order_by(Session.id.desc())).first()
        self.assertEqual((newest.source, newest.browser), ("testclient", "testclient"))
        here.post("/own/sessions", data={"session": str(newest.id)})
        self.assertEqual(two.get("/own", follow_redirects=False).status_code, 303)
        self.assertEqual(one.get("/own", follow_redirects=False).status_code, 200)
        here.post("/own/sessions")
        self.assertEqual(one.get("/own", follow_redirects=False).status_code, 303)
        self.assertEqual(here.get("/own", follow_redirects=False).status_code, 200)

    def test_nobody_ends_a_session_of_somebody_else(self) -> None:
        owner = self.browser()
        self.choose(self.stranger(), self.invite(owner))
        bo = self.browser("bo@shop.example", NEW)
        with self.application.database.reading() as session:
            first = session.scalars(select(Session).order_by(Session.id)).first()
        bo.post("/own/sessions", data={"session": str(first.id)})
        self.assertEqual(owner.get("/own", follow_redirects=False).status_code, 200)


class SecondFactor(PeopleCase):
    def switch_on(self, client: PageClient) -> tuple[str, list[str]]:
        secret = re.search(r'name="secret" value="(\w+)"', client.post("/own/second-factor").text)[1]
        page = client.post(
            "/own/second-factor/on", data={"secret": secret, "code": pyotp.TOTP(secret).now()}
        ).text
        return secret, re.findall(r"<code>([\w-]{14})</code>", page)

    def test_signing_in_asks_for_a_code_and_takes_none_twice(self) -> None:
        here = self.browser()
        self.assertIn(
            "does not fit", here.post("/own/second-factor/on", data={"secret": "A" * 32, "code": "1"}).text
        )
        self.assertIn(
            "Begin again", here.post("/own/second-factor/on", data={"secret": "<x>", "code": "1"}).text
        )
        secret, codes = self.switch_on(here)
        self.assertEqual(len(set(codes)), 10)
        self.assertNotIn(secret, str(self.user(IDA).second_factor))
        client = self.stranger()
        self.assertIn("six digits", self.sign_in(client).text)
        self.assertEqual(client.get("/own", follow_redirects=False).status_code, 303)
        used = pyotp.TOTP(secret).now()
        self.assertIn("has been used", self.code(client, used).text)
        self.assertIn("does not fit", self.code(client, "٣٤٥٦٧٨").text)
        self.assertEqual(self.code(client, codes[0].upper()).status_code, 200)
        self.assertEqual(client.get("/own", follow_redirects=False).status_code, 200)
        other = self.stranger()
        self.sign_in(other)
        self.assertIn("has been used", self.code(other, codes[0]).text)
        self.assertIn("9 of 10", here.get("/own").text)

    def code(self, client: PageClient, code: str):
        return client.post("/sign-in/code", data=self.form(client, "/sign-in/code") | {"code": code})

    def test_guessing_codes_waits(self) -> None:
        self.switch_on(self.browser())
        client = self.stranger()
        self.sign_in(client)
        said = [self.code(client, f"{number:06}").status_code for number in range(8)]
        self.assertEqual(said[:5], [422] * 5)
        self.assertEqual(said[-1], 429)

    def test_it_is_switched_off_with_the_password_or_by_the_owner(self) -> None:
        here = self.browser()
        self.switch_on(here)
        self.assertIn("not right", here.post("/own/second-factor/off", data={"password": "x"}).text)
        here.post("/own/second-factor/off", data={"password": RIGHT})
        self.assertEqual(self.user(IDA).second_factor, "")
        self.switch_on(here)
        here.post(f"/people/{self.user(IDA).id}/second-factor")
        self.assertEqual(self.browser().get("/own", follow_redirects=False).status_code, 200)

    def test_codes_are_those_of_rfc_6238(self) -> None:
        """RFC 6238, appendix B: the ASCII secret 12345678901234567890 with SHA-1; of its eight digits the
        last six. At 59 s: 94287082, at 1111111109 s: 07081804, at 1234567890 s: 89005924.
        """
        secret, user = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ", self.user(IDA)
        with self.application.database.transaction() as session:
            session.get_one(User, user.id).second_factor = self.application.secrets.seal(secret)
        for at, code in ((59, "287082"), (1_111_111_109, "081804"), (1_234_567_890, "005924")):
            self.assertFalse(second_factor.passes(self.application, user.id, code, lambda at=at: at + 61.0))
            self.assertTrue(second_factor.passes(self.application, user.id, code, lambda at=at: float(at)))
            self.assertFalse(second_factor.passes(self.application, user.id, code, lambda at=at: float(at)))


class Strength(PeopleCase):
    def test_the_commonest_fall_and_three_words_stand(self) -> None:
        """The commonest passwords of published lists; common practice, from memory."""
        for weak in "password 12345678 qwertyuiop iloveyou1 Sunshine1 letmein123 aaaaaaaaaaaa".split():
            with self.subTest(weak), self.assertRaises(WeakPassword):
                check_strength(weak)
        with self.assertRaises(WeakPassword):
            check_strength("short77")
        with self.assertRaises(WeakPassword):
            check_strength("x" * 201)
        with self.assertRaises(WeakPassword):
            check_strength("ida@shop.example", ("Ida", IDA, "Test Shop"))
        for strong in ("plum hammer Oslo", "r7#kQ!v2", RIGHT, "ü" * 3 + "kettle orchard pylon"):
            check_strength(strong, ("Ida", IDA))


class Outcomes(PeopleCase):
    def test_the_mail_is_one_of_ours_and_holds_no_header_of_others(self) -> None:
        owner = self.browser()
        page = owner.post(
            "/people",
            data={"name": "Bo\r\nBcc: all@evil.example", "email": "bo@shop.example", "role": "viewer"},
        )
        self.assertEqual(page.status_code, 200)
        head = self.sender.handed[-1].content.decode().split("\r\n\r\n")[0]
        self.assertNotIn("\nBcc", head)
        self.assertEqual(account_links.STAYS[account_links.RESET].total_seconds(), 3_600)

    def test_no_secret_stands_open_in_the_book(self) -> None:
        owner = self.browser()
        owner.post(
            "/settings/channels/text",
            data={"url": "https://n.example", "key": "open-sesame", "cost_minor": "1"},
        )
        owner.post(
            "/settings/channels/email", data={"user": "u", "password": "hunter-of-mails", "tls": "none"}
        )
        shown = owner.get("/settings/channels").text
        made = owner.post(
            "/settings/channels/text", data={"url": "https://n.example", "new_secret": "1", "cost_minor": "1"}
        ).text
        secret = re.search(r"whsec_[\w+/=]+", made)[0]
        hook = owner.post(
            "/other-programs/webhooks", data={"url": "https://93.184.215.14/in", "kind": "message.sent"}
        ).text
        hooked = re.search(r"whsec_[\w+/=]+", hook)[0]
        owner.post("/own/second-factor")
        self.application.database.engine.dispose()
        book = b"".join(one.read_bytes() for one in self.folder.glob("book.sqlite3*"))
        for word in ("open-sesame", "hunter-of-mails", secret, hooked):
            self.assertNotIn(word.encode(), book)
            self.assertNotIn(word, shown + owner.get("/settings/channels").text + owner.get("/log").text)
        self.assertEqual((self.folder / "secret.key").stat().st_mode & 0o777, 0o600)
        with self.application.database.reading() as session:
            self.assertTrue(session.get_one(Setting, "email").value["password"].startswith("sealed:"))
