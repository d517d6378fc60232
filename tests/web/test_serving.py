"""How the program is served: settings, a path of its own, proxies, health, figures, and the log."""

import json
import logging
import os
import re
from pathlib import Path
from unittest import TestCase, mock

import structlog
from fastapi.testclient import TestClient
from prometheus_client.parser import text_string_to_metric_families

from loyalbell.services.health import room
from loyalbell.services.scheduler import Heartbeat
from loyalbell.storage.database import BookBusy, BookDamaged, Database, DiskFull
from loyalbell.web import logs
from loyalbell.web.app import create_app
from loyalbell.web.base_path import BasePath
from loyalbell.web.server import PortTaken, Server, check_free
from loyalbell.web.server_settings import ServerSettings, SettingsProblem, read_settings
from loyalbell.web.static_files import FOR_GOOD, VERSION, content_hash
from tests.support import ApplicationCase, FakeSender, scratch_folder

PASSWORD = "a long password"


class SettingsTest(TestCase):
    def test_the_command_line_before_the_environment_before_the_file(self) -> None:
        path = scratch_folder(self) / "bell.toml"
        path.write_text('port = 81\nhost = "10.0.0.1"\nbase_path = "/a"\n')
        environment = {"LOYALBELL_CONFIG": str(path), "LOYALBELL_PORT": "82", "LOYALBELL_HOST": "10.0.0.2"}
        with mock.patch.dict(os.environ, environment):
            found = read_settings(port=83, host=None)
        self.assertEqual((found.port, found.host, found.base_path), (83, "10.0.0.2", "/a"))

    def test_what_cannot_be_used_is_named(self) -> None:
        folder = scratch_folder(self)
        (folder / "wrong.toml").write_text("port = \n")
        (folder / "unknown.toml").write_text("prot = 80\n")
        for environment, words in (
            ({"LOYALBELL_PORT": "eighty"}, "LOYALBELL_PORT"),
            ({"LOYALBELL_BASE_PATH": "bell"}, "write it as /bell"),
            ({"LOYALBELL_CONFIG": str(folder / "none.toml")}, "there is no such file"),
            ({"LOYALBELL_CONFIG": str(folder / "wrong.toml")}, "cannot be read as TOML"),
            ({"LOYALBELL_CONFIG": str(folder / "unknown.toml")}, "no setting prot"),
        ):
            with self.subTest(words), mock.patch.dict(os.environ, environment):
                self.assertRaisesRegex(SettingsProblem, re.escape(words), read_settings)

    def test_an_address_that_is_not_ours(self) -> None:
        """192.0.2.0/24 is kept for documentation (RFC 5737): no machine has an address of it."""
        self.assertRaisesRegex(PortTaken, "no address 192.0.2.1", check_free, "192.0.2.1", 8000)


class ServedCase(ApplicationCase):
    def setUp(self) -> None:
        super().setUp()
        self.app = create_app(self.application)

    def client(self, base: str = "", **more: object) -> TestClient:
        app = BasePath(self.app, base) if base else self.app
        return TestClient(app, raise_server_exceptions=False, **more)  # type: ignore[arg-type]

    def signed_in(self, client: TestClient, base: str = "") -> TestClient:
        page = client.get(base + "/sign-in").text
        token = re.findall(r'name="_csrf" value="([^"]+)"', page)[0]
        form = {"_csrf": token, "email": "ida@shop.example", "password": PASSWORD, "next": "/segments"}
        answer = client.post(base + "/sign-in", data=form, follow_redirects=False)
        self.assertEqual(answer.headers["Location"], base + "/segments")
        return client


class BasePathTest(ServedCase):
    def test_every_address_of_a_page_stays_under_it(self) -> None:
        client = self.signed_in(self.client("/bell"), "/bell")
        self.assertIn("Path=/bell", str(client.get("/bell/sign-in").headers.get("set-cookie", "Path=/bell")))
        for path in ("/", "/segments", "/customers", "/settings", "/messages", "/sequences", "/results"):
            page = client.get("/bell" + path)
            self.assertEqual(page.status_code, 200, path)
            outside = re.findall(r'\s(?:href|src|action|hx-\w+)="(/(?!bell/|/)[^"]*)"', page.text)
            self.assertEqual(outside, [], path)
            self.assertIn('<html data-base="/bell" ', page.text)

    def test_also_where_the_proxy_takes_the_path_off(self) -> None:
        client = self.client("/bell")
        self.assertEqual(client.get("/sign-in").status_code, 200)
        self.assertEqual(client.get("/bellwether", follow_redirects=False).status_code, 404)

    def test_whoever_is_signed_out_comes_back_to_where_they_were(self) -> None:
        client = self.client("/bell")
        answer = client.get("/bell/segments?x=1", follow_redirects=False)
        self.assertEqual(answer.headers["Location"], "/bell/sign-in?next=/segments%3Fx%3D1")
        headers = {"HX-Request": "true", "HX-Current-URL": "https://shop.example/bell/rhythm"}
        answer = client.get("/bell/segments", headers=headers)
        self.assertEqual(answer.headers["HX-Redirect"], "/bell/sign-in?next=/rhythm")

    def test_files_pass_as_they_are(self) -> None:
        client = self.client("/bell")
        with_path, without = client.get("/bell/static/bell.svg"), self.client().get("/static/bell.svg")
        self.assertEqual(with_path.content, without.content)


class CachingTest(ServedCase):
    def test_styles_and_scripts_are_kept_for_good_under_a_name_of_their_content(self) -> None:
        page = self.client().get("/sign-in").text
        addresses = re.findall(r'(?:href|src)="(/static/[^"]+)"', page)
        self.assertTrue(addresses)
        for address in addresses:
            self.assertTrue(address.startswith(f"/static/{VERSION}/"), address)
            answer = self.client().get(address)
            self.assertEqual((answer.status_code, answer.headers["Cache-Control"]), (200, FOR_GOOD), address)
        bare = self.client().get("/static/loyalbell.css")
        self.assertEqual((bare.status_code, bare.headers["Cache-Control"]), (200, "no-cache"))

    def test_the_name_changes_with_the_content(self) -> None:
        folder = scratch_folder(self)
        (folder / "a.css").write_text("a {}")
        before = content_hash(folder)
        (folder / "a.css").write_text("b {}")
        self.assertNotEqual(content_hash(folder), before)

    def test_pages_are_compressed(self) -> None:
        server = Server(self.folder, 8_000)
        self.addCleanup(server.close)
        with TestClient(server.served) as client:
            answer = client.get("/sign-in", headers={"Accept-Encoding": "gzip"})
        self.assertEqual(answer.headers["Content-Encoding"], "gzip")
        self.assertIn("Sign in", answer.text)


class HttpsTest(ServedCase):
    def test_cookies_are_kept_to_https_there(self) -> None:
        for base_url, is_secure in (("https://shop.example", True), ("http://shop.example", False)):
            with self.subTest(base_url):
                answer = self.client(base_url=base_url).get("/sign-in")
                self.assertEqual("Secure" in answer.headers["set-cookie"], is_secure)
                self.assertEqual("Strict-Transport-Security" in answer.headers, is_secure)


class WatchingTest(ServedCase):
    def test_it_is_well(self) -> None:
        answer = self.client().get("/health")
        self.assertEqual((answer.status_code, answer.json()["ready"]), (200, True))
        self.assertEqual(self.client().get("/health/live").text, "alive\n")

    def test_a_thread_that_has_ended_is_told(self) -> None:
        heartbeat = Heartbeat(self.application, FakeSender())
        self.app.state.heartbeat = heartbeat
        heartbeat.start()
        self.assertEqual(self.client().get("/health").status_code, 200)
        heartbeat.stop()
        answer = self.client().get("/health")
        self.assertEqual(answer.status_code, 503)
        self.assertIn("has ended", " ".join(answer.json()["why"]))

    def test_figures_are_in_prometheus_own_format(self) -> None:
        """Read back by Prometheus' own library."""
        self.application.outcomes["email", "accepted"] = 7
        client = self.client(client=("127.0.0.1", 1))
        found = {one.name: one for one in text_string_to_metric_families(client.get("/metrics").text)}
        self.assertEqual(found["loyalbell_messages"].samples[0].value, 7)
        self.assertEqual(
            {one.labels["channel"] for one in found["loyalbell_queue_messages"].samples},
            {"email", "text", "chat"},
        )
        self.assertGreater(found["loyalbell_book_bytes"].samples[0].value, 0)

    def test_figures_are_for_this_machine_or_for_who_brings_the_token(self) -> None:
        away, here = self.client(client=("203.0.113.9", 1)), self.client(client=("127.0.0.1", 1))
        self.assertEqual(away.get("/metrics").status_code, 404)
        self.assertEqual(here.get("/metrics").status_code, 200)
        proxied = here.get("/metrics", headers={"X-Forwarded-For": "203.0.113.9"})
        self.assertEqual(proxied.status_code, 404, "a proxy on this machine speaks for somebody elsewhere")
        self.app.state.metrics_token = "open sesame"
        self.assertEqual(here.get("/metrics").status_code, 404)
        told = away.get("/metrics", headers={"Authorization": "Bearer open sesame"})
        self.assertEqual(told.status_code, 200)


class TroubleTest(ServedCase):
    def test_what_the_book_cannot_do_is_said(self) -> None:
        client = self.signed_in(self.client())
        for problem, status, words in (
            (BookBusy("x"), 503, "try again in a few seconds"),
            (DiskFull("x"), 507, "The disk with your data is full"),
            (BookDamaged("x"), 500, "restore the newest backup"),
        ):
            with self.subTest(status), mock.patch.object(Database, "transaction", side_effect=problem):
                token = re.findall(r'name="csrf-token" content="([^"]+)"', client.get("/settings").text)[0]
                answer = client.post("/switch", data={"_csrf": token, "ringing": "0"})
                self.assertEqual(answer.status_code, status)
                self.assertIn(words, answer.text)
                self.assertEqual(answer.headers.get("Retry-After"), "5" if status == 503 else None)

    def test_without_room_nothing_leaves(self) -> None:
        usage = mock.Mock(free=1_000_000)
        with mock.patch.object(room.shutil, "disk_usage", return_value=usage):
            self.assertFalse(room.is_room(self.application))
            answer = self.client().get("/health")
            self.assertEqual(answer.status_code, 503)
            self.assertIn("Nothing is sent until", answer.json()["why"][0])
            page = self.signed_in(self.client()).get("/").text
            self.assertIn("There is no room on the disk", page)
        self.assertTrue(room.is_room(self.application))
        self.assertEqual(self.client().get("/health").status_code, 200)


class LogTest(TestCase):
    def setUp(self) -> None:
        before = structlog.get_config()
        self.addCleanup(structlog.configure, **before)
        root = logging.getLogger()
        self.addCleanup(setattr, root, "handlers", root.handlers)

    def written(self, **settings: object) -> tuple[str, Path]:
        path = scratch_folder(self) / "logs" / "bell.log"
        logs.set_up(ServerSettings(log_file=path, **settings))  # type: ignore[arg-type]
        log = structlog.stdlib.get_logger("loyalbell.test")
        log.info("sent", to="ann.archer@example.com", number="+1 (202) 555-0143", delivery=12345678)
        log.debug("not this")
        try:
            raise ValueError("cannot write to ann.archer@example.com")
        except ValueError:
            log.exception("failed")
        return path.read_text(), path

    def test_no_customer_stands_in_it(self) -> None:
        said, path = self.written()
        self.assertNotIn("ann.archer", said)
        self.assertNotIn("555-0143", said, "the clock may say 555 too, but never the number")
        self.assertIn("12345678", said, "numbers of rows stay")
        self.assertIn("[somebody]@example.com", said)
        self.assertNotIn("not this", said)
        self.assertEqual(path.stat().st_mode & 0o777, 0o600)
        self.assertEqual(logs.recent_errors[-1].event, "failed")
        self.assertEqual(logs.recent_errors[-1].kind, "ValueError")

    def test_as_json_for_other_programs(self) -> None:
        lines = [json.loads(line) for line in self.written(log_form="json")[0].splitlines()]
        self.assertEqual([line["level"] for line in lines], ["info", "error"])
        self.assertIn("Traceback", lines[1]["exception"])
        self.assertNotIn("ann.archer", lines[1]["exception"])

    def test_what_is_written_to_the_book_never_stands_in_an_error(self) -> None:
        database = Database(scratch_folder(self))
        self.addCleanup(database.close)
        try:
            with database.reading() as session:
                session.connection().exec_driver_sql("SELECT nothing, ?", ("ann.archer@example.com",))
        except Exception as error:
            self.assertNotIn("ann.archer", str(error))
        else:
            self.fail("it should not work")
