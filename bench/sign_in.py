"""What signing in tells by its time: a known and an unknown email, a right and a wrong token, in one run."""

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

from bench.measure import Line, median
from loyalbell.services.accounts import sessions
from loyalbell.services.application import Application
from loyalbell.services.settings.shop import open_shop
from tests.support import SHOP

RUNS = 15
CLOSE = (0.85, 1.18)
"""Within which the two are one: the noise of a machine that does other things too."""


def lines() -> Iterator[Line]:
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    application = Application(folder)
    try:
        open_shop(application, SHOP, "Ida", "ida@shop.example", "a long password")
        known = median(lambda: sessions.check_password(application, "ida@shop.example", "wrong"), RUNS)
        unknown = median(lambda: sessions.check_password(application, "nobody@shop.example", "wrong"), RUNS)
        ratio = known / unknown
        yield Line(
            "a wrong password",
            "one try",
            known,
            unknown,
            "of an email nobody has",
            f"{CLOSE[0]} to {CLOSE[1]}",
            CLOSE[0] <= ratio <= CLOSE[1],
        )
    finally:
        application.close()
        shutil.rmtree(folder, ignore_errors=True)
