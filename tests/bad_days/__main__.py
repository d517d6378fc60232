"""``python -m tests.bad_days [kills] [days]``: everything bad that a program meets, one after the other, and
a table of what came of it. Exits with 1 where anything was lost, came twice, or was not told.
"""

import sys
from collections.abc import Callable

from rich.console import Console
from rich.table import Table

from tests.bad_days import faults
from tests.bad_days.faults import FaultCase, Found
from tests.bad_days.fortnight import fortnight

KILLS, DAYS, IMPORTS = 200, 14, 20


def tried(fault: Callable[[FaultCase], Found]) -> Found:
    """In a shop of its own."""
    case = FaultCase("runTest")
    case.setUp()
    try:
        return fault(case)
    finally:
        case.doCleanups()


def bad_fortnight(days: int) -> Found:
    wrong = fortnight(days)
    for words in wrong:
        print(words)
    twice = sum(words.startswith("twice") for words in wrong)
    return Found(
        "a mail server that refuses, hangs, limits",
        f"{days} days; Today told each, nobody was marked wrongly" if not wrong else f"{len(wrong)} wrong",
        0,
        twice,
        not wrong,
    )


def all_faults(kills: int, imports: int) -> list[Callable[[FaultCase], Found]]:
    """But for the long ones: the clocks that change, and the fortnight."""
    return [
        lambda case: faults.killed_at_first_start(case, kills),
        lambda case: faults.killed_while_upgrading(case, kills),
        lambda case: faults.restored(case, answers=True),
        lambda case: faults.restored(case, answers=False),
        faults.wrong_books,
        faults.disk_full,
        lambda case: faults.killed_imports(case, imports),
        faults.clock_jumps,
        faults.second_program,
        faults.busy_writer,
    ]


def main() -> int:
    kills = int(sys.argv[1]) if len(sys.argv) > 1 else KILLS
    days = int(sys.argv[2]) if len(sys.argv) > 2 else DAYS
    found = [tried(fault) for fault in all_faults(kills, IMPORTS)]
    found.append(tried(faults.clocks_change))
    found.append(bad_fortnight(days))
    table = Table("fault", "what happened", "lost", "twice", "")
    for one in found:
        is_well = one.is_well and not one.lost and not one.twice
        table.add_row(
            one.fault, one.happened, str(one.lost), str(one.twice), "well" if is_well else "NOT well"
        )
    Console(width=150).print(table)
    return 0 if all(one.is_well and not one.lost and not one.twice for one in found) else 1


if __name__ == "__main__":
    sys.exit(main())
