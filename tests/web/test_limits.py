"""What anybody can do who has not signed in, and how much of it."""

import asyncio
import re
import unittest
from collections.abc import Awaitable, Callable, Iterator

from sqlalchemy import func, select

from loyalbell.services.accounts.failed_sign_ins import OF_SOURCE, TOGETHER, FailedSignIns
from loyalbell.storage.schema import LogEntry, Session, SignUp
from loyalbell.web.app import SIGN_UPS_AN_HOUR, create_app
from loyalbell.web.body_limits import LIMITS, MEGABYTE, OTHERWISE, BodyLimit, TooLarge, limit_of
from tests.support import ApplicationCase
from tests.web.client import PageClient

IDA, RIGHT = "ida@shop.example", "a long password"


class WaitsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.now = 0.0
        self.failures = FailedSignIns(lambda: self.now)

    def fail(self, times: int, email: str = IDA, source: str = "192.0.2.1") -> None:
        for _ in range(times):
            self.failures.failed(email, source)

    def wait(self, email: str = IDA, source: str = "192.0.2.1") -> float:
        return self.failures.wait(email, source)

    def test_a_few_are_free_then_the_wait_doubles_up_to_a_quarter_of_an_hour(self) -> None:
        self.fail(4)
        self.assertEqual(self.wait(), 0)
        found = []
        for _ in range(12):
            self.fail(1)
            found.append(self.wait())
        self.assertEqual(found[:4], [2, 4, 8, 16])
        self.assertEqual(found[-1], TOGETHER.longest)
        self.now += TOGETHER.longest
        self.assertEqual(self.wait(), 0)

    def test_capitals_and_spaces_are_no_other_account(self) -> None:
        self.fail(5, " IDA@shop.example ")
        self.assertEqual(self.wait(), 2)

    def test_the_owner_elsewhere_is_not_locked_out_by_who_guesses(self) -> None:
        self.fail(60)
        self.assertEqual(self.wait(source="192.0.2.9"), 30)
        self.now += 30
        self.assertEqual(self.wait(source="192.0.2.9"), 0)

    def test_one_place_that_tries_many_accounts_waits_for_each(self) -> None:
        for at in range(OF_SOURCE.free + 3):
            self.fail(1, f"user{at}@shop.example")
        self.assertEqual(self.wait("another@shop.example"), 16)
        self.assertEqual(self.wait("another@shop.example", "192.0.2.9"), 0)

    def test_who_knows_the_password_begins_anew_and_an_hour_is_forgotten(self) -> None:
        self.fail(7)
        self.failures.succeeded(IDA, "192.0.2.1")
        self.assertEqual(self.wait(), 0)
        self.fail(9)
        self.now += 3_600
        self.fail(1)
        self.assertEqual(self.wait(), 0)


class BodyLimitTest(unittest.TestCase):
    def test_no_more_is_read_than_the_address_takes(self) -> None:
        asked = 0

        async def receive() -> dict[str, object]:
            nonlocal asked
            asked += 1
            return {"type": "http.request", "body": b"a" * 40_000, "more_body": True}

        async def reads_all(scope: object, receive: Callable[[], Awaitable[object]], send: object) -> None:
            while True:
                await receive()

        scope = {"type": "http", "path": "/shop/callbacks/text", "root_path": "/shop"}
        with self.assertRaises(TooLarge):
            asyncio.run(BodyLimit(reads_all)(scope, receive, None))
        self.assertEqual(asked, 3)


class SignedOut(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.app = create_app(self.application)
        self.client = PageClient(self.app)
        self.addCleanup(self.client.close)

    def sign_in(self, password: str, email: str = IDA):
        token = re.search(r'name="_csrf" value="([^"]+)"', self.client.get("/sign-in").text)
        assert token
        form = {"_csrf": token[1], "email": email, "password": password, "next": "/"}
        return self.client.post("/sign-in", data=form)

    def rows(self, table: type) -> int:
        with self.application.database.reading() as session:
            return session.scalar(select(func.count()).select_from(table)) or 0

    def test_guessing_waits_is_written_down_and_stands_on_today(self) -> None:
        """Seen: 60 wrong passwords without delay, lock or trace."""
        now = [0.0]
        self.app.state.failed_sign_ins = FailedSignIns(lambda: now[0])
        statuses = [self.sign_in("wrong").status_code for _ in range(7)]
        self.assertEqual(statuses, [422] * 5 + [429] * 2)
        answer = self.sign_in(RIGHT)
        self.assertIn("Wait 2 seconds", answer.text)
        self.assertEqual(answer.headers["Retry-After"], "2")
        for _ in range(6):
            now[0] += 900
            self.sign_in("wrong")
        with self.application.database.reading() as session:
            tried = session.scalars(select(LogEntry).where(LogEntry.act == "failed to sign in")).all()
        self.assertEqual({(one.by, one.source) for one in tried}, {(IDA, "testclient")})
        now[0] += 900
        self.assertIn(f"{len(tried)} wrong passwords for {IDA}", self.sign_in(RIGHT).text)

    def test_who_signs_in_begins_anew(self) -> None:
        for _ in range(2):
            self.assertEqual([self.sign_in("wrong").status_code for _ in range(4)], [422] * 4)
            self.assertEqual(self.sign_in(RIGHT).url.path, "/")

    def test_one_place_cannot_sign_up_the_whole_town(self) -> None:
        """Seen: 60 sign-ups in a row from one place were 60 mails."""
        for at in range(SIGN_UPS_AN_HOUR + 5):
            self.client.post("/sign-up", data={"email": f"somebody{at}@example.org"})
        self.assertEqual(self.rows(SignUp), SIGN_UPS_AN_HOUR)
        german = {"Accept-Language": "de"}
        answer = self.client.post("/sign-up", data={"email": "one.more@example.org"}, headers=german)
        self.assertIn("zu viele angemeldet", answer.text)

    def test_looking_at_the_sign_in_page_writes_nothing(self) -> None:
        """Seen: 100 visits, 100 sessions in the book."""
        for _ in range(5):
            self.client.cookies.clear()
            self.client.get("/sign-in")
        self.assertEqual(self.rows(Session), 0)
        self.assertEqual(self.sign_in(RIGHT).url.path, "/")
        self.assertEqual(self.rows(Session), 1)

    def test_a_form_without_its_token_or_with_a_strange_one(self) -> None:
        """Seen: signs beyond ASCII in the form's token were an error of the program."""
        for token in ("", "é€", "x" * 500):
            form = {"_csrf": token, "email": IDA, "password": RIGHT}
            self.assertEqual(self.client.post("/sign-in", data=form).status_code, 403)
        self.client.get("/sign-in")
        self.assertEqual(self.client.post("/sign-in", data={"_csrf": "ß"}).status_code, 403)

    def test_a_request_without_end_is_ended_while_it_comes_in(self) -> None:
        """Seen: 300 MB to a callback address took 440 MB of memory before the answer."""

        def endless() -> Iterator[bytes]:
            for _ in range(40):
                yield b"a" * 50_000

        for path in ("/callbacks/text", "/sign-up", "/sign-in"):
            form = {"Content-Type": "application/x-www-form-urlencoded"}
            answer = self.client.post(path, content=endless(), headers=form)
            self.assertEqual(answer.status_code, 413, path)
            self.assertIn("can be sent here at once", answer.text)

    def test_files_are_taken_only_where_a_form_has_them(self) -> None:
        """Seen: 76 MB of files were taken by the sign-up form."""
        answer = self.client.post("/sign-up", files={"a": ("a.txt", b"x" * 1_000)})
        self.assertEqual(answer.status_code, 413)
        self.assertIn("No file can be sent here", answer.text)

    def test_every_form_with_a_file_has_a_limit_of_its_own(self) -> None:
        for path in ("/imports", "/catalogue/7/care-sheet", "/messages/attach", "/sequences/bring-in"):
            self.assertGreater(limit_of(path).files, 0, path)
        self.assertEqual((limit_of("/customers/7").files, limit_of("/customers/7").bytes), (0, 8 * MEGABYTE))
        self.assertTrue(all(limit.files == 0 for limit in (OTHERWISE, *LIMITS[-2:])))


if __name__ == "__main__":
    unittest.main()
