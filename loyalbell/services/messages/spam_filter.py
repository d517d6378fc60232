"""Asking the spam filter of this machine, where one is installed; nothing leaves the machine."""

import re
import shutil
import subprocess
from collections.abc import Callable
from functools import lru_cache

from loyalbell.services.application import Application
from loyalbell.services.background_work import Report

COMMAND = "spamassassin"
SECONDS = 20
MOST_KEPT = 500
_SCORE = re.compile(r"X-Spam-Status:.*?score=(-?[\d.]+).*?tests=([\w,\s]*?)(?:\s+\w+=|\n\S)", re.DOTALL)


@lru_cache(maxsize=1)
def installed() -> bool:
    return shutil.which(COMMAND) is not None


def score_later(application: Application, key: str, mail: Callable[[], bytes]) -> tuple[float, str] | None:
    """The score where it is known.

    Else it is asked in the background, for it takes seconds, and is there the next time.
    """
    if not installed():
        return None
    known: tuple[tuple[float, str] | None] | None = application.cache.peek("spam", key)
    if known is not None:
        return known[0]

    def ask(report: Report) -> None:
        application.cache.get("spam", key, lambda: (score(mail()),), MOST_KEPT)

    application.jobs.start(f"spam-{key}", ask)
    return None


def score(mail: bytes) -> tuple[float, str] | None:
    """(score, names of the rules that held), asked offline.

    ``None`` where there is no filter or it says nothing.
    """
    if not installed():
        return None
    try:
        answer = subprocess.run(
            [COMMAND, "--local"], input=mail, capture_output=True, timeout=SECONDS, check=True
        )
    except (subprocess.SubprocessError, OSError):
        return None
    found = _SCORE.search(answer.stdout.decode("utf-8", "replace"))
    if not found:
        return None
    return float(found[1]), ", ".join(name for name in re.split(r"[,\s]+", found[2]) if name)
