"""Every page can be read and used: axe-core in light and dark colours, narrow windows, mails in the dark."""

import json
from pathlib import Path

from loyalbell.core.messages import content as c
from loyalbell.services.messages import files as message_files
from tests.browser.test_walking_path import BrowserCase
from tests.support import wait_for

AXE = (Path(__file__).parent / "vendor/axe-core/axe.min.js").read_text()
PAGES = (
    "/people /own /log /log/check /settings/retention"
    " / /customers /customers/1 /customers/251 /customers?segment=1&columns=email,band,tags /duplicates"
    " /duplicates/1/2 /fields /asking /catalogue /catalogue/1 /imports /guide /rhythm /segments /segments/1"
    " /segments/1/people /segments/1/why/1 /segments/compare?segment=1&segment=2 /segments/list /messages"
    " /messages/1 /messages/new /gallery /letterheads /offers /offers/1 /till /campaigns /campaigns/new"
    " /calendar /sequences /sequences/new /sequences/5 /sequences/5/live /sequences/5/rehearsal /hand-off"
    " /held /skipped /replies /replies/answers /results /results/1 /results/tests /results/domains"
    " /settings /settings/results /settings/channels /settings/care /settings/backups /settings/health"
    " /settings/openings /other-programs /log /search?q=spring /handbook /handbook/write /post-room"
).split()
NARROW = (
    "/ /customers /duplicates /fields /rhythm /segments /segments/1 /messages /messages/1 /messages/new"
    " /campaigns /sequences"
    " /sequences/5 /sequences/5/live /sequences/5/rehearsal /results /results/1 /settings/results"
    " /settings/channels /imports /catalogue /handbook/write /log /people /own /settings/retention"
).split()


class Access(BrowserCase):
    def serious(self) -> list[tuple[str, list[str], list[str]]]:
        """What axe-core finds on the page, with where and why."""
        self.browser.execute_script(AXE)
        found = self.browser.execute_async_script(
            "axe.run(document, {iframes: false}).then(arguments[arguments.length - 1])"
        )
        return [
            (
                v["id"],
                [node["target"] for node in v["nodes"]][:3],
                [node.get("failureSummary", "")[:200] for node in v["nodes"]][:1],
            )
            for v in found["violations"]
            if v["impact"] in ("serious", "critical")
        ]

    def test_axe_finds_nothing_serious(self) -> None:
        """WCAG 2.2 AA as far as axe-core can tell."""
        for path in PAGES:
            with self.subTest(path):
                self.go(path)
                serious = self.serious()
                self.assertEqual(serious, [], json.dumps(serious))
                self.quiet()

    def look(self, scheme: str) -> None:
        features = [{"name": "prefers-color-scheme", "value": scheme}]
        self.browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})

    def test_in_dark_colours_too(self) -> None:
        self.look("dark")
        self.addCleanup(self.look, "light")
        for path in PAGES:
            with self.subTest(path):
                self.go(path)
                serious = self.serious()
                self.assertEqual(serious, [], json.dumps(serious))

    def test_colours_can_be_chosen_against_the_device(self) -> None:
        def ground() -> str:
            return str(self.browser.execute_script("return getComputedStyle(document.body).backgroundColor"))

        self.look("light")
        self.go("/")
        light = ground()
        self.find(".shop-name").click()
        self.find('.looks button[value="dark"]').click()
        wait_for(lambda: ground() != light)
        self.go("/segments")
        self.assertNotEqual(ground(), light)
        self.find(".shop-name").click()
        self.find('.looks button[value=""]').click()
        wait_for(lambda: ground() == light)

    def test_mails_can_be_read_in_the_dark(self) -> None:
        """Seen: item cards with a contrast of 1.01 to 1."""
        blocks = [
            c.Heading(text="Hello"),
            c.Text(text="Some words with [a link](https://shop.example/)."),
            c.Button(label="Look", url="https://shop.example/"),
            c.Items(list="best"),
            c.Offer(offer=1, words="Yours"),
            c.Divider(),
            c.Social(),
            c.Columns(columns=[[c.Text(text="left")], [c.Items(list="best", most=1)]]),
        ]
        letter = c.EmailContent(subject="Dark", preview="p", letterhead=1, blocks=blocks)
        self.look("dark")
        self.addCleanup(self.look, "light")
        page = Path(self.folder) / "dark.html"
        page.write_bytes(
            message_files.write(self.application.running.application, "x", c.as_message(letter), "html").data
        )
        self.browser.get(page.as_uri())
        self.browser.execute_script(AXE)
        found = self.browser.execute_async_script(
            "axe.run(document, {runOnly: ['color-contrast']}).then(arguments[arguments.length - 1])"
        )
        self.assertGreater(sum(len(one["nodes"]) for one in found["passes"]), 5)
        said = [node["failureSummary"] for one in found["violations"] for node in one["nodes"]]
        self.assertEqual(said, [])

    def test_nothing_sticks_out_on_a_narrow_window(self) -> None:
        self.browser.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": 390, "height": 800, "deviceScaleFactor": 1, "mobile": False},
        )
        for path in NARROW:
            with self.subTest(path):
                self.go(path)
                self.assertLessEqual(
                    self.browser.execute_script("return document.documentElement.scrollWidth"), 391
                )
        self.browser.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": False},
        )
