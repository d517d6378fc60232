"""A demo of 40,000 customers as its users meet it: pages first and again, duplicates, a download, the start,
the memory. ``LOYALBELL_BENCH_PEOPLE`` asks for another size.
"""

import os
import re
import shutil
import tempfile
import threading
import time
from datetime import timedelta
from itertools import count
from pathlib import Path

from fastapi.testclient import TestClient
from sqlalchemy import select

from bench.measure import Line, median, once
from loyalbell.channels.loopback import free_port
from loyalbell.demo.build import OWNER, build_demo
from loyalbell.demo.server import server_for
from loyalbell.services.application import Application
from loyalbell.services.customers import duplicates
from loyalbell.services.imports import exports
from loyalbell.services.rehearsal import rehearsals
from loyalbell.services.second_process import SecondProcess
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.storage import column_files, schema
from loyalbell.web.app import create_app
from loyalbell.web.request import DemoParts

PEOPLE = int(os.environ.get("LOYALBELL_BENCH_PEOPLE", "40000"))
PAGES = (
    "/",
    "/segments",
    "/results",
    "/offers",
    "/rhythm",
    "/segments/1",
    "/customers/500",
    "/duplicates",
    "/sequences/1",
    "/messages",  # last: it goes on checking them behind the page
)
PAGE, FIRST, START, MEMORY = 0.15, 1.0, 15.0, 1_200.0
WEEK, LONGEST_DAY = 60.0, 600.0
LOOKED_AT, LOOKING = ("/", "/segments", "/campaigns", "/customers"), 15.0
EXPORT = 30.0 / 200_000
"""Seconds a customer: half a minute for 200,000."""


def lines() -> list[Line]:
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        build_demo(folder / "demo", PEOPLE).close()
        return [*_starts(folder), *_measured(folder), _while_rehearsing(folder), _day(folder)]
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _starts(folder: Path) -> list[Line]:
    """After a stop the history is mapped from files, after a kill it is read from the book."""
    found = []
    for what in ("the history at a start (work)", "the history at a start after a kill (work)"):
        application = Application(folder / "demo")
        worked = time.process_time()
        application.snapshot()
        worked = time.process_time() - worked
        found.append(_bound(what, f"{PEOPLE:,} customers", worked, START))
        application.close()
        column_files.remove(folder / "demo")
    return found


def _while_rehearsing(folder: Path) -> Line:
    """How long pages take while rehearsals run, in another process and in this one."""
    application = Application(folder / "demo")
    client = _signed_in(application)
    application.beside = SecondProcess(application)
    beside = _pages_beside(application, client)
    application.beside.close()
    application.beside = None
    here = _pages_beside(application, client)
    application.close()
    size = f"{PEOPLE:,} customers"
    against = "rehearsed in the same process"
    return Line(
        "pages while sequences are rehearsed, p95", size, beside, here, against, "150 ms", beside < PAGE
    )


def _pages_beside(application: Application, client: TestClient) -> float:
    """The 95th percentile in seconds."""
    with application.database.reading() as session:
        plans = [(one.id, draft_of(one)) for one in session.scalars(select(schema.Sequence))]
    is_over, times = threading.Event(), list[float]()

    def rehearse() -> None:
        for number in count():
            for sequence_id, plan in plans:
                changed = plan.model_copy(update={"patience": plan.patience + number})
                if is_over.is_set():
                    return
                rehearsals.rehearse_past(application, changed, sequence_id, alone=True)

    for path in LOOKED_AT:
        client.get(path)
    rehearsing = threading.Thread(target=rehearse)
    rehearsing.start()
    end = time.monotonic() + LOOKING
    while time.monotonic() < end:
        times += [once(lambda at=path: client.get(at)) for path in LOOKED_AT]  # type: ignore[misc]
    is_over.set()
    rehearsing.join()
    return sorted(times)[int(0.95 * len(times))]


def _measured(folder: Path) -> list[Line]:
    size = f"{PEOPLE:,} customers"
    application = Application(folder / "demo")
    application.beside = SecondProcess(application)
    application.snapshot()
    found: list[Line] = []
    client = _signed_in(application)
    for path in PAGES:
        first = once(lambda at=path: client.get(at))  # type: ignore[misc]
        again = median(lambda at=path: client.get(at), 3)  # type: ignore[misc]
        found.append(_bound(f"{path}, first look", size, first, FIRST))
        found.append(_bound(f"{path}, again", size, again, PAGE))
    with application.database.transaction() as session:
        session.connection().exec_driver_sql("UPDATE person SET city = city || '.' WHERE id = 7")
    looked = once(lambda: duplicates.candidates(application, True))
    found.append(_bound("duplicates of a book that changed", size, looked, FIRST * PEOPLE / 40_000))
    out = folder / "customers.csv"
    took = once(lambda: exports.to_file(application, "customers", "csv", out))
    found.append(_bound("download of all customers", size, took, EXPORT * PEOPLE))
    used = int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6
    found.append(Line("memory after all this", size, used, MEMORY, "bound", "below 1", used < MEMORY, "MB"))
    client.close()
    application.close()
    return found


def _day(folder: Path) -> Line:
    """A day of the demo's clock, with all that its people do and get."""
    running = server_for(folder / "demo", free_port(), OWNER[1:])
    running.start()
    try:
        running.driver.move_on(timedelta(days=1))
        begun = time.monotonic()
        while running.driver.share < 1 and time.monotonic() - begun < LONGEST_DAY:
            time.sleep(0.2)
        took = time.monotonic() - begun
    finally:
        running.stop()
    return _bound("a day of the demo's clock", f"{PEOPLE:,} customers", took, WEEK / 7)


def _bound(what: str, size: str, seconds: float, bound: float) -> Line:
    return Line(what, size, seconds, bound, "the bound", "below 1", seconds < bound)


def _signed_in(application: Application) -> TestClient:
    client = TestClient(create_app(application, None, DemoParts(OWNER[1:], ())))
    token = re.findall(r'name="_csrf" value="([^"]+)"', client.get("/sign-in").text)[0]
    form = {"_csrf": token, "email": OWNER[1], "password": OWNER[2], "next": "/own"}
    assert client.post("/sign-in", data=form).status_code == 200
    return client
