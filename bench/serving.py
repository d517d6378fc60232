"""Fifty people reading while 100,000 places move on, and a storm of opens after a campaign: the real program
in a process of its own, asked over HTTP.
"""

import asyncio
import random
import re
import shutil
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterable
from dataclasses import dataclass, field
from http.cookiejar import CookieJar
from pathlib import Path
from urllib.parse import urlencode

from sqlalchemy import insert

from bench.measure import Line, taken_by_others
from loyalbell.channels.loopback import LOOPBACK, free_port
from loyalbell.core.sequences.plan import read_plan
from loyalbell.demo.build import NOW, OWNER, build_demo
from loyalbell.services.sequences import publishing
from loyalbell.services.sequences.commands import keep
from loyalbell.storage.schema import Enrolment

PLACES, READERS, OPENS_A_SECOND = 100_000, 50, 500
READ_SECONDS, STORM_SECONDS, PAUSE = 30.0, 10.0, (2.0, 6.0)
"""A reader looks at a page for two to six seconds before asking for the next."""
PAGES = ("/", "/customers", "/segments", "/messages", "/campaigns", "/sequences", "/results", "/replies")
READ_BOUND, STORM_BOUND = 0.5, 0.1
READER = "Mozilla/5.0 (X11; Linux x86_64) Browser/156.0"


@dataclass
class Told:
    """Seconds of each answer, and how many were none or no 200."""

    seconds: list[float] = field(default_factory=list)
    errors: int = 0

    @property
    def p95(self) -> float:
        return statistics.quantiles(self.seconds, n=20)[-1] if len(self.seconds) > 1 else float("inf")


class Connection:
    """A bare HTTP/1.1 connection, kept open: whoever asks must cost less than whoever answers."""

    def __init__(self, port: int, cookie: str = "") -> None:
        self.port, self.cookie = port, cookie
        self._streams: tuple[asyncio.StreamReader, asyncio.StreamWriter] | None = None

    async def get(self, path: str) -> int:
        if self._streams is None:
            self._streams = await asyncio.open_connection(LOOPBACK, self.port)
        reader, writer = self._streams
        head = f"GET {path} HTTP/1.1\r\nHost: {LOOPBACK}:{self.port}\r\nUser-Agent: {READER}\r\n"
        cookie = f"Cookie: {self.cookie}\r\n" if self.cookie else ""
        writer.write(f"{head}{cookie}\r\n".encode())
        answer = await reader.readuntil(b"\r\n\r\n")
        status = int(answer.split(b" ", 2)[1])
        lowered = answer.lower()
        if b"content-length:" in lowered:
            length = int(lowered.split(b"content-length:")[1].split(b"\r\n")[0])
            await reader.readexactly(length)
        elif b"transfer-encoding: chunked" in lowered:
            while size := int(await reader.readline(), 16):
                await reader.readexactly(size + 2)
            await reader.readline()
        return status

    def close(self) -> None:
        if self._streams is not None:
            self._streams[1].close()
            self._streams = None


async def ask(connection: Connection, path: str, told: Told) -> None:
    began = time.perf_counter()
    try:
        if await asyncio.wait_for(connection.get(path), 30) != 200:
            told.errors += 1
    except (OSError, TimeoutError, asyncio.IncompleteReadError, ValueError):
        told.errors += 1
        connection.close()
    told.seconds.append(time.perf_counter() - began)


async def reading(port: int, cookie: str) -> Told:
    told, rng, end = Told(), random.Random(1), time.monotonic() + READ_SECONDS

    async def reader() -> None:
        connection = Connection(port, cookie)
        await asyncio.sleep(rng.uniform(0, PAUSE[1]))
        while time.monotonic() < end:
            await ask(connection, rng.choice(PAGES), told)
            await asyncio.sleep(rng.uniform(*PAUSE))
        connection.close()

    await asyncio.gather(*(reader() for _ in range(READERS)))
    return told


async def first_looks(port: int, cookie: str) -> None:
    connection = Connection(port, cookie)
    for path in PAGES:
        await connection.get(path)
    connection.close()


async def storm(port: int, tokens: list[str]) -> Told:
    """So many a second, whether the ones before are answered or not."""
    told, idle = Told(), asyncio.Queue[Connection]()
    for _ in range(200):
        idle.put_nowait(Connection(port))

    async def one(token: str) -> None:
        connection = await idle.get()
        await ask(connection, f"/o/{token}.gif", told)
        idle.put_nowait(connection)

    begin, tasks = time.monotonic(), []
    for number in range(int(OPENS_A_SECOND * STORM_SECONDS)):
        await asyncio.sleep(max(0.0, begin + number / OPENS_A_SECOND - time.monotonic()))
        tasks.append(asyncio.ensure_future(one(tokens[number % len(tokens)])))
    await asyncio.gather(*tasks)
    return told


def with_places(folder: Path) -> list[str]:
    """The demo that has lived, with many places due that hand their people on. Returns tokens of mails."""
    application = build_demo(folder, lived=True)
    plan = {"start": {"on": "hand"}, "steps": [{"do": "hand off", "id": "h", "list": "Bench"}]}
    made = keep(application, None, "Bench", read_plan(plan), "Ida")
    publishing.publish(application, made, publishing.Choices(), "Ida", normal=float(PLACES))
    people = application.snapshot().people.ids.tolist()
    with application.database.transaction() as session:
        version = session.connection().exec_driver_sql("SELECT max(id) FROM sequence_version").scalar()
        way: dict[str, object] = {
            "sequence_id": made,
            "version_id": version,
            "anchor_at": NOW,
            "entered_at": NOW,
            "state": "under way",
            "step": "h",
            "due_at": NOW,
            "settled": False,
            "sent": "",
            "trail": [],
        }
        rows = [
            way | {"person_id": people[at % len(people)], "key": f"bench {at // len(people)}"}
            for at in range(PLACES)
        ]
        session.execute(insert(Enrolment), rows)
        tokens = session.connection().exec_driver_sql(
            "SELECT token FROM delivery WHERE channel = 'email' AND state = 'sent' LIMIT 4000"
        )
        found = [token for (token,) in tokens]
    application.close()
    return found


def signed_in(address: str) -> str:
    """The cookie of a session, once the server answers."""
    jar = CookieJar()
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
    end = time.monotonic() + 60
    while True:
        try:
            page = opener.open(f"{address}/sign-in").read().decode()
            break
        except OSError:
            if time.monotonic() > end:
                raise
            time.sleep(0.1)
    token = re.findall(r'name="_csrf" value="([^"]+)"', page)[0]
    form = urlencode({"_csrf": token, "email": OWNER[1], "password": OWNER[2], "next": "/customers"})
    opener.open(f"{address}/sign-in", form.encode()).read()
    return "; ".join(f"{cookie.name}={cookie.value}" for cookie in jar)


def waiting(folder: Path) -> int:
    with sqlite3.connect(folder / "book.sqlite3") as book:
        query = "SELECT count(*) FROM enrolment WHERE step = 'h' AND state = 'under way'"
        return int(book.execute(query).fetchone()[0])


def lines() -> Iterable[Line]:
    scratch = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    folder, port = scratch / "demo", free_port()
    try:
        tokens = with_places(folder)
        server = subprocess.Popen(
            [sys.executable, "-m", "loyalbell", "demo", "--data", folder, "--port", str(port)],
            stdout=subprocess.DEVNULL,
        )
        try:
            cookie = signed_in(f"http://{LOOPBACK}:{port}")
            # a program that has just started is not meant: what a first look costs is measured elsewhere
            asyncio.run(first_looks(port, cookie))
            before, stolen = waiting(folder), taken_by_others()
            read = asyncio.run(reading(port, cookie))
            moved = before - waiting(folder)
            stolen_reading, stolen = taken_by_others() - stolen, taken_by_others()
            opens = asyncio.run(storm(port, tokens))
            stolen = taken_by_others() - stolen
        finally:
            server.terminate()
            server.wait(timeout=30)
        with sqlite3.connect(folder / "book.sqlite3") as book:
            since = int(NOW.timestamp())
            query = "SELECT count(*) FROM delivery_event WHERE kind = 'opened' AND at >= ?"
            written = book.execute(query, (since,)).fetchone()[0]
        assert written >= len(tokens), (written, len(tokens))
    finally:
        shutil.rmtree(scratch, ignore_errors=True)
    return [
        Line(
            f"a page, 19 of 20, {len(read.seconds):,} asked, {read.errors} errors",
            f"{READERS} readers, {moved:,} places moving on; the host took {stolen_reading:.1f} s",
            read.p95,
            READ_BOUND,
            "the bound",
            "500 ms, no error",
            read.p95 < READ_BOUND and not read.errors,
        ),
        Line(
            f"an open, 19 of 20, {len(opens.seconds):,} asked, {opens.errors} errors",
            f"{OPENS_A_SECOND} a second; the host took {stolen:.1f} s",
            opens.p95,
            STORM_BOUND,
            "the bound",
            "100 ms, no error",
            opens.p95 < STORM_BOUND and not opens.errors,
        ),
    ]
