"""``loyalbell account``: for who is locked out."""

from unittest import mock

from typer.testing import CliRunner

from loyalbell.cli import app
from loyalbell.services.accounts import second_factor, sessions
from loyalbell.services.accounts.sessions import check_password
from loyalbell.storage.schema import LogEntry, User
from tests.support import ApplicationCase

IDA, NEW = "ida@shop.example", "seven copper lanterns"


class AccountTest(ApplicationCase):
    def run_it(self, *words: str, password: str = NEW) -> tuple[int, str]:
        with mock.patch.dict("os.environ", {"LOYALBELL_PASSWORD": password}):
            result = CliRunner().invoke(app, ["account", *words, "--data", str(self.folder)])
        return result.exit_code, result.output.replace("\n", " ")

    def user(self) -> User:
        user = self.application.find(User, 1)
        assert user
        return user

    def test_everybody_is_listed(self) -> None:
        code, said = self.run_it("list")
        self.assertEqual((code, said.strip()), (0, f"{IDA}: Ida, owner, can sign in"))

    def test_a_new_password_lets_in_and_signs_out_elsewhere(self) -> None:
        token, _ = sessions.new_session(self.application, 1)
        with self.application.database.transaction() as session:
            session.get_one(User, 1).ended_at = self.clock.now()
        code, said = self.run_it("password", "IDA@shop.example")
        self.assertEqual(code, 0, said)
        self.assertEqual(check_password(self.application, IDA, NEW), 1)
        self.assertIsNone(sessions.find_session(self.application, token))
        entry = self.application.find(LogEntry, 2)
        self.assertEqual((entry.by, entry.act), ("the command line", "gave a person a new password"))

    def test_what_is_wrong_is_said_and_nothing_changes(self) -> None:
        before = self.user().password_hash
        for words, said in (
            (("password", "nobody@shop.example"), "Nobody signs in as"),
            (("owner", "nobody@shop.example"), "account list"),
        ):
            self.assertIn(said, self.run_it(*words)[1])
        code, said = self.run_it("password", IDA, password="password")
        self.assertEqual(code, 1)
        self.assertIn("guessed first", said)
        self.assertEqual(self.user().password_hash, before)
        result = CliRunner().invoke(app, ["account", "list", "--data", str(self.folder / "nothing")])
        self.assertIn("There is no book", result.output)

    def test_the_second_factor_is_lifted_and_somebody_made_an_owner(self) -> None:
        secret = second_factor.new_secret()
        with self.application.database.transaction() as session:
            session.get_one(User, 1).second_factor = self.application.secrets.seal(secret)
            session.get_one(User, 1).role = "viewer"
        self.assertEqual(self.run_it("second-factor", IDA)[0], 0)
        self.assertEqual(self.run_it("owner", IDA)[0], 0)
        self.assertEqual((self.user().second_factor, self.user().role), ("", "owner"))
