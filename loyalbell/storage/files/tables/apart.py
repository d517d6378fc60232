"""Making a table of a file in a process of its own.

Spreadsheets, cards and calendars are read by libraries that a damaged or malicious file can lead to take all
memory, never to end, or to abort. That ends the process apart, within bounds, and not the program.
"""

import json
import os
import subprocess
import sys
from dataclasses import asdict
from pathlib import Path

from loyalbell.storage.files.tables.conversion import Converted, as_table, is_text
from loyalbell.storage.files.tables.problems import FileProblem

GIGABYTE = 2**30
MOST_MEMORY, MOST_WRITTEN = 3 * GIGABYTE, 2 * GIGABYTE
MOST_CPU_SECONDS, MOST_SECONDS = 240, 600
TOO_MUCH = (
    "Reading this file takes more memory or time than a list of people or orders should. It may be damaged."
    " Save it as CSV, or in smaller parts, and choose that."
)


def as_table_apart(
    source: Path, table: Path, kind: str | None, zone: str, sheet: str | None = None
) -> Converted | None:
    """``as_table`` within bounds of memory and time. Raises ``FileProblem``; leaves nothing half-written."""
    if is_text(source):
        return None
    command = [sys.executable, "-m", __name__, str(source), str(table), kind or "", zone, sheet or ""]
    try:
        done = subprocess.run(  # noqa: S603
            command,
            capture_output=True,
            timeout=MOST_SECONDS,
            check=False,
            stdin=subprocess.DEVNULL,
            env=os.environ | {"PYTHONPATH": os.pathsep.join(filter(None, sys.path))},
        )
        told = json.loads(done.stdout) if done.returncode == 0 else None
    except (subprocess.TimeoutExpired, ValueError):
        told = None
    if told is None:
        table.with_name(table.name + ".part").unlink(missing_ok=True)
        raise FileProblem(TOO_MUCH)
    if "problem" in told:
        raise FileProblem(told["problem"])
    left_out, sheets = (tuple(told.pop(name)) for name in ("left_out", "sheets"))
    return Converted(told["kind"], told["sheet"], sheets, left_out)


def _bound() -> None:
    """Holds for this process from now on. Where the system knows no such bounds, only the time does."""
    try:
        import resource
    except ImportError:
        return
    pages, size = os.sysconf("SC_PHYS_PAGES"), os.sysconf("SC_PAGE_SIZE")
    memory = min(MOST_MEMORY, pages * size // 2)
    for what, most in (
        (resource.RLIMIT_AS, memory),
        (resource.RLIMIT_FSIZE, MOST_WRITTEN),
        (resource.RLIMIT_CPU, MOST_CPU_SECONDS),
        (resource.RLIMIT_CORE, 0),
    ):
        resource.setrlimit(what, (most, most))


def main() -> None:
    """The process apart: tells on its standard output, as JSON, what came of it."""
    source, table, kind, zone, sheet = sys.argv[1:6]
    _bound()
    try:
        made = as_table(Path(source), Path(table), kind or None, zone, sheet or None)
        told = asdict(made) if made is not None else {"problem": TOO_MUCH}
    except FileProblem as problem:
        told = {"problem": str(problem)}
    except (MemoryError, RecursionError, OSError):
        told = {"problem": TOO_MUCH}
    sys.stdout.write(json.dumps(told))


if __name__ == "__main__":
    main()
