"""``make fuzz``: some thousand damaged files, what goes wrong being kept for a look; then odd
requests to every route.
"""

import re
import shutil
import sys
import tempfile
from pathlib import Path

from sqlalchemy import select

from loyalbell.demo.build import OTHERS, OWNER
from loyalbell.services.application import Application
from loyalbell.services.settings.shop import open_shop
from loyalbell.storage.schema import User
from loyalbell.web.app import create_app
from tests.fuzz.files import run
from tests.fuzz.requests import odd_requests
from tests.support import SHOP, demo_book
from tests.web.client import PageClient

MANY, REQUESTS, SIGN_IN_EVERY = 3_000, 100_000, 1_000
ASKING = (OWNER[1], OTHERS[0][1], OWNER[1], OTHERS[1][1], OWNER[1], OTHERS[2][1], "")
"""Who asks, in turn: most often who may do most."""


def main() -> int:
    many = int(sys.argv[1]) if len(sys.argv) > 1 else MANY
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-fuzz-"))
    application = Application(folder / "book")
    open_shop(application, SHOP, "Ida", "ida@shop.example", "a long password")
    wrong = 0
    try:
        for number, damage in enumerate(run(application, seed, many), 1):
            if damage is not None:
                wrong += 1
                kept = folder / f"{seed}-{damage.number}-{damage.name}"
                kept.write_bytes(damage.content)
                print(f"{kept} as {damage.kind or 'anything'}: {damage.what[:300]}")
            if number % 500 == 0:
                print(f"{number:,} files, {wrong} wrong", flush=True)
    finally:
        application.close()
        if not wrong:
            shutil.rmtree(folder, ignore_errors=True)
    print(f"{many:,} damaged files, {wrong} wrong")
    return 1 if wrong + _requests(REQUESTS if many >= MANY else many * 5, seed) else 0


def _requests(count: int, seed: int) -> int:
    """How many were answered as an error of the program. The demo's book is what they are asked of."""
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-fuzz-"))
    application = demo_book(folder, people=200)
    app, wrong = create_app(application), 0
    try:
        with PageClient(app, raise_server_exceptions=False) as client:
            for number, odd in enumerate(odd_requests(app, count, seed), 1):
                if number % SIGN_IN_EVERY == 1:
                    csrf = _signed_in(client, application, ASKING[number // SIGN_IN_EVERY % len(ASKING)])
                form = dict(odd.form) | {"_csrf": csrf} if odd.method != "GET" else None
                status = client.request(odd.method, odd.path, data=form, follow_redirects=False).status_code
                if status >= 500:
                    wrong += 1
                    print(f"{status} for {odd}"[:600], flush=True)
                if number % 5_000 == 0:
                    print(f"{number:,} requests, {wrong} wrong", flush=True)
    finally:
        application.close()
        shutil.rmtree(folder, ignore_errors=True)
    print(f"{count:,} odd requests, {wrong} wrong")
    return wrong


def _signed_in(client: PageClient, application: Application, email: str) -> str:
    """Another of those who ask, again and again: some requests end a session or somebody's access. Nobody
    signed in where ``email`` is empty.
    """

    def token(page: str) -> str:
        found = re.search(r'name="csrf-token" content="([^"]+)"|name="_csrf" value="([^"]+)"', page)
        return (found[1] or found[2]) if found else ""

    with application.database.transaction() as session:
        owner = session.scalars(select(User).where(User.email == OWNER[1])).one()
        for user in session.scalars(select(User)):
            user.ended_at, user.password_hash, user.second_factor = None, owner.password_hash, ""
    client.cookies.clear()
    csrf = token(client.get("/sign-in").text)
    if not email:
        return csrf
    form = {"_csrf": csrf, "email": email, "password": OWNER[2], "next": "/"}
    return token(client.post("/sign-in", data=form).text)


if __name__ == "__main__":
    sys.exit(main())
