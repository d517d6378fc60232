"""Taking the book out again."""

from pathlib import Path

from loyalbell.desk.desk import Desk
from loyalbell.store.files import export
from loyalbell.store.files.export import FORMATS, HEADINGS

KINDS = tuple(HEADINGS)


class CannotExport(Exception):
    """Why nothing can be taken out, in words."""


def check(kind: str, form: str) -> None:
    """Raises ``CannotExport``."""
    if kind not in KINDS:
        raise CannotExport(f"“{kind}” cannot be exported; choose one of {', '.join(KINDS)}.")
    if form not in FORMATS:
        raise CannotExport(f"“{form}” is not a format here; choose one of {', '.join(FORMATS)}.")


def to_file(desk: Desk, kind: str, form: str, path: Path) -> int:
    """Writes the file whole or not at all; returns its rows. Raises ``CannotExport``."""
    check(kind, form)
    scratch = path.with_name(path.name + ".part")
    try:
        with scratch.open("w", encoding="utf-8", newline="") as out, desk.book.reading() as reader:
            count = (export.write_csv if form == "csv" else export.write_json)(reader, kind, out)
        scratch.replace(path)
        return count
    finally:
        scratch.unlink(missing_ok=True)


def figures(desk: Desk) -> dict[str, object]:
    with desk.book.reading() as reader:
        return export.book_figures(reader)
