"""``make bench``: prints what was measured beside what is to be reached.

``python -m bench sequences`` only a part.
"""

import sys

from rich.console import Console
from rich.table import Table

from bench import (
    at_size,
    book_in,
    mails,
    questions,
    rail,
    results,
    search,
    segment_count,
    segment_days,
    sequences,
    serving,
    sign_in,
)


def main() -> None:
    table = Table("what", "size", "ours", "the other", "ratio", "to reach", "", title="Measured in this run")
    parts = (
        questions,
        segment_count,
        segment_days,
        results,
        at_size,
        search,
        sequences,
        serving,
        rail,
        mails,
        book_in,
        sign_in,
    )
    chosen = [part for part in parts if part.__name__.removeprefix("bench.") in sys.argv[1:]]
    for part in chosen or parts:
        for line in part.lines():
            against = f"{line.said(line.other)} ({line.against})"
            table.add_row(
                line.what,
                line.size,
                line.said(line.ours),
                against,
                f"{line.ratio:.2f}",
                line.reach,
                "reached" if line.holds else "NOT reached",
            )
    Console(width=140).print(table)


main()
