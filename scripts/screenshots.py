"""Writes the main views at 1280x800 from the demo's data to docs/screenshots/."""

import shutil
import sys
from datetime import timedelta
from pathlib import Path

from selenium.webdriver.common.by import By
from sqlalchemy import select

from loyalbell.demo.build import OWNER, build_demo
from loyalbell.post_room.behaviour import ANSWERS
from loyalbell.services.application import Application
from loyalbell.services.campaigns import commands as campaign_commands
from loyalbell.services.delivery.dispatcher import anything_due
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.offers import commands as offer_commands
from loyalbell.services.replies import inbound
from loyalbell.services.scheduler import Heartbeat
from loyalbell.storage.schema import Person
from tests.browser.driver import ServedApplication, open_browser, scratch_folder, sign_in
from tests.support import wait_for

OUT = Path(__file__).resolve().parent.parent / "docs/screenshots"
EXAMPLE = Path(__file__).resolve().parent.parent / "loyalbell/demo/files/new-customers.csv"
VIEWS = {
    "today": "/",
    "customers": "/customers?segment=4&columns=email,last_order,spent,band,next_appointment,tags",
    "customer": "/customers/{customer}",
    "import": "/imports/{imported}",
    "segments": "/segments",
    "segment": "/segments/1",
    "message": "/messages/3",
    "campaign": "/campaigns/{draft}",
    "results": "/results?days=year&show=sequence-5",
    "sequence-results": "/results/sequence/5?days=year",
    "post-room": "/post-room/1",
    "rhythm": "/rhythm",
    "people": "/people",
    "rehearsal": "/sequences/5/rehearsal",
    "catalogue": "/catalogue",
    "replies": "/replies",
    "getting-started": "/guide",
    "sequences": "/sequences",
    "sequence": "/sequences/5",
}


def prepare(application: Application, heartbeat: Heartbeat) -> dict[str, int]:
    """A file tried out, a campaign sent, and one waiting to be looked at."""
    with EXAMPLE.open("rb") as file:
        run = import_commands.begin_import(application, "customers", EXAMPLE.name, file, OWNER[0])
    import_commands.carry_out(application, run.id, False, lambda share, words: None)
    sent = campaign_commands.draft_campaign(application, "Spring coats again", 2, 2, OWNER[0])
    with application.database.reading() as session:
        campaign = session.get_one(campaign_commands.Campaign, sent)
    campaign_commands.start_campaign(
        application, sent, len(campaign_commands.audience(application, campaign).reached), OWNER[0]
    )
    heartbeat.wake()
    wait_for(
        lambda: not anything_due(application), 120
    )  # where it is quiet hours, the rest waits for the morning
    draft = campaign_commands.draft_campaign(application, "We kept your spot, May", 1, 1, OWNER[0])
    _answers(application)
    return {"imported": run.id, "draft": draft, "customer": _somebody(application)}


def _answers(application: Application) -> None:
    """Some wrote back by text, and some hold a code."""
    with application.database.transaction() as session:
        people = list(
            session.scalars(select(Person).where(Person.phone.is_not(None)).order_by(Person.id).limit(9))
        )
        for person in people:
            offer_commands.issue(
                session,
                application.the_shop(),
                2,
                offer_commands.Receiver(person.id),
                application.clock.now(),
            )
    for at, (person, words) in enumerate(zip(people, ANSWERS, strict=True)):
        moment = application.clock.now() - timedelta(minutes=37 * at * at)
        inbound.take_reply(application, "text", f"shown-{at}", person.phone or "", words, moment)


def _somebody(application: Application) -> int:
    """Someone who ordered, heard from us and pressed something."""
    with application.database.reading() as session:
        rows = session.connection().exec_driver_sql(
            "SELECT person_id FROM delivery JOIN delivery_event ON delivery_id = delivery.id WHERE kind ="
            " 'clicked' ORDER BY 1"
        )
        return int(rows.fetchone()[0])


def main(names: list[str]) -> None:
    folder = scratch_folder()
    build_demo(folder, lived=True).close()
    application = ServedApplication(folder, OWNER[1:])
    address = application.start()
    browser = open_browser()
    OUT.mkdir(parents=True, exist_ok=True)
    try:
        numbers = prepare(application.running.application, application.running.heartbeat)
        sign_in(browser, address)
        for name, path in VIEWS.items():
            if names and name not in names:
                continue
            browser.get(address + path.format(**numbers))
            wait_for(lambda: browser.execute_script("return document.fonts.status === 'loaded'"))
            for frame in browser.find_elements(By.CSS_SELECTOR, ".phone iframe, .mail-frame"):
                wait_for(lambda shown=frame: shown.is_displayed())
            wait_for(lambda: not browser.find_elements(By.CSS_SELECTOR, "[data-still-coming], progress"), 60)
            browser.save_screenshot(str(OUT / f"{name}.png"))
            print(OUT / f"{name}.png")
    finally:
        browser.quit()
        application.stop()
        shutil.rmtree(folder, ignore_errors=True)


main(sys.argv[1:])
