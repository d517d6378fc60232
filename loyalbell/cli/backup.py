"""``loyalbell backup``, ``verify`` and ``restore``."""

import json
from pathlib import Path

import typer

from loyalbell.cli.main import DataOption, fail, open_book, out
from loyalbell.services.backups import commands
from loyalbell.services.backups.restore import restore as restore_backup
from loyalbell.services.health.room import megabytes
from loyalbell.storage import backup_file, log_chain
from loyalbell.storage.backup_file import BackupProblem
from loyalbell.storage.database import BOOK_FILE
from loyalbell.storage.opening import BookProblem, newest_revision, revision_of

AsJson = typer.Option(False, "--json", help="Print one JSON object.")


def backup(data: Path = DataOption, as_json: bool = AsJson) -> None:
    """Makes a backup, also while Loyal Bell is running. Copying the folder then does not make one."""
    application = open_book(data)
    try:
        made = commands.make(application, by="command line")
    except BackupProblem as problem:
        raise fail(str(problem)) from problem
    finally:
        application.close()
    assert made.contents is not None
    if as_json:
        print(json.dumps({"file": str(made.path), "bytes": made.size, "people": made.contents.people}))
        return
    out.print(f"{made.path}: {megabytes(made.size)}, {made.contents.people:,} customers", soft_wrap=True)


def verify(
    what: Path = typer.Argument(help="A backup, or the folder that holds a book."), as_json: bool = AsJson
) -> None:
    """Looks whether a backup or a book is whole. Exits with 1 where it is not."""
    try:
        said = _verified_book(what) if what.is_dir() else _verified_backup(what)
    except (BackupProblem, BookProblem) as problem:
        if as_json:
            print(json.dumps({"whole": False, "problem": str(problem)}))
            raise typer.Exit(1) from problem
        raise fail(str(problem)) from problem
    if as_json:
        print(json.dumps({"whole": True} | said))
        return
    out.print("It is whole: " + ", ".join(f"{name} {value}" for name, value in said.items()), soft_wrap=True)


def _verified_backup(path: Path) -> dict[str, str | int]:
    contents = backup_file.check(path)
    return {
        "made": contents.made_at.isoformat(timespec="minutes"),
        "shop": contents.shop,
        "customers": contents.people,
        "messages": contents.deliveries,
        "version": contents.version,
        "step": contents.revision,
    }


def _verified_book(data: Path) -> dict[str, str | int]:
    book = data / BOOK_FILE
    if not book.exists():
        raise BackupProblem(f"There is no book in {data}.")
    step = revision_of(book)
    problems = backup_file.problems_of(book)
    if problems:
        raise BackupProblem(f"{book} is damaged: {'; '.join(problems)}. Restore the newest backup.")
    return {"step": step} | _verified_log(book, step)


def _verified_log(book: Path, step: str) -> dict[str, str | int]:
    """Nothing of a book that is still to be brought up to date: its log has no chain yet."""
    if step != newest_revision():
        return {}
    found = log_chain.check_file(book)
    if found.broken is not None:
        raise BackupProblem(
            f"The log of {book} was changed: its entry {found.broken} does not fit the one before it."
            " Compare with a backup made before."
        )
    return {"log entries": found.entries, "log end": found.end}


def restore(
    file: Path = typer.Argument(help="The backup to restore."),
    data: Path = DataOption,
    replace: bool = typer.Option(
        False, "--replace", help="Also where there is a book already; it is kept aside."
    ),
    as_json: bool = AsJson,
) -> None:
    """Puts the book of a backup into a folder. It starts silent: nothing is sent until you have looked."""
    try:
        done = restore_backup(file, data, replace)
    except (BackupProblem, BookProblem) as problem:
        raise fail(str(problem)) from problem
    contents = done.contents
    if as_json:
        print(
            json.dumps(
                {
                    "data": str(data),
                    "made": contents.made_at.isoformat(),
                    "asked": done.asked,
                    "kept_aside": str(done.kept_aside) if done.kept_aside else None,
                }
            )
        )
        return
    for line in (
        f"Restored into {data}: {contents.people:,} customers, as of {contents.made_at:%d %B %Y, %H:%M} UTC.",
        "It is silent: nothing is sent until you switch it to ringing.",
        f"Messages that were due before now and may have been sent since the backup: {done.asked:,}. They are"
        " not sent by themselves. More may show once you do; the networks are asked about each, or you are.",
        "What happened after the backup is not in this book: orders, replies, and refusals. Bring refusals in"
        " before you switch it to ringing.",
        *([f"The book that was here is kept in {done.kept_aside}."] if done.kept_aside else []),
        f"Start it with: loyalbell serve --data {data}",
    ):
        out.print(line, soft_wrap=True, markup=False)
