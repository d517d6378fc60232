"""Taking the book out again."""

from collections.abc import Sequence
from pathlib import Path

from loyalbell.services.application import Application
from loyalbell.storage.files import export
from loyalbell.storage.files.export import FORMATS, KINDS, MEDIA

__all__ = ["FORMATS", "KINDS", "MEDIA", "CannotExport", "check", "figures", "to_file"]


class CannotExport(Exception):
    """Why nothing can be taken out, in words."""


def check(kind: str, form: str) -> None:
    """Raises ``CannotExport``."""
    if kind not in KINDS:
        raise CannotExport(f"“{kind}” cannot be exported; choose one of {', '.join(KINDS)}.")
    if form not in FORMATS:
        raise CannotExport(f"“{form}” is not a format here; choose one of {', '.join(FORMATS)}.")
    if kind not in FORMATS[form]:
        raise CannotExport(f"Only {' and '.join(FORMATS[form])} can be taken out as {form}.")


def to_file(
    application: Application, kind: str, form: str, path: Path, only: Sequence[int] | None = None
) -> int:
    """Writes the file whole or not at all; returns its rows. Raises ``CannotExport``."""
    check(kind, form)
    scratch = path.with_name(path.name + ".part")
    try:
        with application.database.reading() as reader:
            count = export.write(reader, kind, form, scratch, application.clock.now(), only)
        scratch.replace(path)
        return count
    except export.TooLong as problem:
        raise CannotExport(str(problem)) from problem
    finally:
        scratch.unlink(missing_ok=True)


def figures(application: Application) -> dict[str, object]:
    with application.database.reading() as reader:
        return export.book_figures(reader)
