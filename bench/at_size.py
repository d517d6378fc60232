"""A demo of 40,000 customers as its users meet it: pages first and again, duplicates, a download, the start,
the memory. ``LOYALBELL_BENCH_PEOPLE`` asks for another size.
"""

import os
import re
import shutil
import tempfile
import time
from datetime import timedelta
from pathlib import Path

from fastapi.testclient import TestClient

from bench.measure import Line, median, once
from loyalbell.channels.loopback import free_port
from loyalbell.demo.build import OWNER, build_demo
from loyalbell.demo.server import server_for
from loyalbell.services.application import Application
from loyalbell.services.customers import duplicates
from loyalbell.services.imports import exports
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
EXPORT = 30.0 / 200_000
"""Seconds a customer: half a minute for 200,000."""


def lines() -> list[Line]:
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        build_demo(folder / "demo", PEOPLE).close()
        return [*_measured(folder), _day(folder)]
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _measured(folder: Path) -> list[Line]:
    size = f"{PEOPLE:,} customers"
    application = Application(folder / "demo")
    worked = time.process_time()
    application.snapshot()
    worked = time.process_time() - worked
    found = [_bound("the history at a start (work)", size, worked, START)]
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
