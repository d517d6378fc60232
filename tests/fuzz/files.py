"""The awkward files, damaged a few times each, brought in as one kind or another."""

import io
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from random import Random

from loyalbell.services.application import Application
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports.preview import preview
from loyalbell.services.imports.questions import open_questions
from loyalbell.services.imports.under_way import FAILED
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.schema import ImportRun

FOLDER = Path(__file__).parents[1] / "storage/files/awkward"
KINDS = (None, None, "customers", "orders", "appointments", "items", "visits", "memberships")
INSERTS = (b"\x00", b'"', b";;;;", b"\xff\xfe", "９９".encode(), b"1e999", b"=1+1", b"\r", b"\xed\xa0\x80")
SLOW_CPU_SECONDS, STUCK_SECONDS = 10.0, 120.0
"""Of the process, however busy the machine is; and by the clock, for what waits without working."""


@dataclass(frozen=True)
class Damage:
    """What went wrong with one file: ``content`` as it was chosen."""

    number: int
    name: str
    kind: str | None
    what: str
    content: bytes


def damaged(content: bytes, rng: Random) -> bytes:
    data = bytearray(content)
    for _ in range(rng.randint(1, 6)):
        at, way = rng.randrange(len(data) or 1), rng.random()
        if way < 0.3 and data:
            data[at] = rng.randrange(256)
        elif way < 0.5:
            del data[at : at + rng.randint(1, 40)]
        elif way < 0.7:
            data[at:at] = data[max(0, at - 30) : at]
        elif way < 0.8:
            data = data[:at]
        elif way < 0.9:
            lines = bytes(data).split(b"\n")
            rng.shuffle(lines)
            data = bytearray(b"\n".join(lines))
        else:
            data[at:at] = rng.choice(INSERTS)
    return bytes(data)


def run(application: Application, seed: int, many: int) -> Iterator[Damage | None]:
    """One result a file: ``None`` where it was read, or refused in words."""
    rng, files = Random(seed), sorted(FOLDER.iterdir())
    for number in range(many):
        path, kind = rng.choice(files), rng.choice(KINDS)
        content = damaged(path.read_bytes(), rng)
        begun, worked, what = time.monotonic(), time.process_time(), ""
        try:
            _bring(application, kind, path.name, content, write=rng.random() < 0.3)
        except FileProblem:
            pass
        except Exception as error:
            what = f"{type(error).__name__}: {error}"
        if not what and time.process_time() - worked > SLOW_CPU_SECONDS:
            what = "it took too long"
        if not what and time.monotonic() - begun > STUCK_SECONDS:
            what = "it waited too long"
        yield Damage(number, path.name, kind, what, content) if what else None


def _bring(application: Application, kind: str | None, name: str, content: bytes, write: bool) -> None:
    run = import_commands.begin_import(application, kind, name, io.BytesIO(content), "fuzz")
    preview(application, run)
    import_commands.carry_out(application, run.id, False, lambda share, words: None)
    tried = application.find(ImportRun, run.id)
    if tried is None or tried.problem == FAILED:
        raise AssertionError("it failed without a reason")
    open_questions(tried)
    if write:
        import_commands.carry_out(application, run.id, True, lambda share, words: None)
