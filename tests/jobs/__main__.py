"""``python -m tests.jobs [words [a demo’s folder]]``: every job once by keyboard and once by mouse, on the
lived demo, counted.

Writes ``docs/steps.md`` when all were done.
"""

import shutil
import sys
import tempfile
import time
import traceback
from collections import Counter
from pathlib import Path

from sqlalchemy import select

from loyalbell.core.sequences.plan import MessageStep, every_step
from loyalbell.demo.build import OWNER, build_demo
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.storage.schema import Delivery, HeldBatch, OfferCode, Sequence
from scripts.screenshots import prepare
from tests.browser.driver import ServedApplication, open_browser, scratch_folder, sign_in
from tests.jobs.hands import Hands, Keyboard, Mouse
from tests.jobs.jobs import JOBS, Job

OUT = Path(__file__).resolve().parents[2] / "docs/steps.md"
HEAD = """# What each job takes

Every job done once by keyboard alone and once by the mouse, at 1280 by 800 on the demo, by `make jobs`,
which writes this page. *Keys* are presses of Tab, Enter, Space, arrows and shortcuts; letters typed into a
field count as one *field*. Some jobs begin at the page they are about.

| job | keyboard | mouse |
| --- | --- | --- |
"""


def said(did: Counter[str]) -> str:
    return ", ".join(f"{count} {what}" for what, count in did.items())


def give_codes(application: ServedApplication) -> None:
    query = select(OfferCode.code).order_by(OfferCode.id.desc()).limit(2)
    with application.running.application.database.reading() as session:
        Keyboard.code, Mouse.code = session.scalars(query)


def hold_two_batches(application: ServedApplication) -> None:
    """As the volume guard does: one for each hand to look at."""
    running = application.running.application
    now = running.clock.now()
    with running.database.transaction() as session:
        for sequence in (1, 2):
            plan = draft_of(session.get_one(Sequence, sequence))
            step = next(one.id for one in every_step(plan.steps) if isinstance(one, MessageStep))
            batch = HeldBatch(
                origin_kind="sequence",
                origin_id=sequence,
                day=f"{now:%Y-%m-%d}",
                made_at=now,
                normal=4.0,
                most=54,
            )
            session.add(batch)
            session.flush()
            for person in range(20, 26):
                session.add(
                    Delivery(
                        origin_kind="sequence",
                        origin_id=sequence,
                        step=step,
                        occurrence="held",
                        person_id=person,
                        message_version_id=1,
                        channel="email",
                        token=f"held-{sequence}-{person}",
                        state="held",
                        due_at=now,
                        held_batch_id=batch.id,
                    )
                )


def tried(hand: Hands, words: str, one: Job) -> str:
    """What it took, or what stopped it, which begins with “stopped”."""
    hand.did.clear()
    begun = time.monotonic()
    try:
        one(hand)
    except Exception as problem:
        traceback.print_exc(limit=3)
        hand.browser.save_screenshot(str(Path(tempfile.gettempdir()) / "job-stopped.png"))
        return f"stopped: {problem}"
    took = said(hand.did)
    print(f"{words} | {hand.name}: {took} ({time.monotonic() - begun:.0f} s)", flush=True)
    return took


def main(asked: str, book: str = "") -> int:
    folder = scratch_folder()
    if book:
        shutil.copytree(book, folder, dirs_exist_ok=True)
    else:
        build_demo(folder, lived=True).close()
    application = ServedApplication(folder, OWNER[1:])
    address = application.start()
    browser, stopped = open_browser(), 0
    rows = []
    try:
        prepare(application.running.application, application.running.heartbeat)
        give_codes(application)
        hold_two_batches(application)
        sign_in(browser, address)
        for words, one in JOBS.items():
            if asked and not any(part in words.lower() for part in asked.lower().split(",")):
                continue
            took = [tried(hand(browser, address), words, one) for hand in (Keyboard, Mouse)]
            for each in took:
                if each.startswith("stopped"):
                    stopped += 1
                    print(f"{words} | {each}", flush=True)
            rows.append(f"| {words} | {' | '.join(took)} |")
    finally:
        browser.quit()
        application.stop()
    if not asked and not stopped:
        OUT.write_text(HEAD + "\n".join(rows) + "\n")
    print(f"{len(rows)} jobs, {stopped} stopped")
    return 1 if stopped else 0


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:3] or [""]))
