"""``python -m tests.worlds [how many] [from which]``: lives worlds in parallel; exits with 1 at any wrong."""

import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

from tests.worlds.oracle import wrongs
from tests.worlds.test_worlds import WorldCase
from tests.worlds.world import World

ALL, AT_A_TIME, PROCESSES = 10_000, 50, 2


def lived(first: int, last: int) -> tuple[int, list[str]]:
    """Messages handed over in the worlds from ``first`` to before ``last``, and what was wrong in them."""
    case = WorldCase("run")
    case.setUp()
    handed, wrong = 0, []
    try:
        for seed in range(first, last):
            told = World(case, seed).live()
            handed += len(told.handed)
            wrong += [f"world {seed}: {words}" for words in wrongs(told)]
    finally:
        case.doCleanups()
    return handed, wrong


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else ALL
    begin = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    starts = range(begin, begin + count, AT_A_TIME)
    ends = [min(start + AT_A_TIME, begin + count) for start in starts]
    handed, wrong = 0, list[str]()
    with ProcessPoolExecutor(PROCESSES) as pool:
        for number, (more, said) in enumerate(pool.map(lived, starts, ends), 1):
            handed, wrong = handed + more, wrong + said
            for words in said:
                print(words, flush=True)
            if number % 10 == 0:
                so_far = f"{number * AT_A_TIME:,} worlds, {handed:,} hand-overs"
                print(f"{so_far}, {len(wrong):,} wrong", flush=True)
    print(f"{count:,} worlds, {handed:,} hand-overs, {len(wrong):,} wrong")
    for words, times in Counter(one.partition(": ")[2].partition(": ")[2] for one in wrong).most_common(12):
        print(f"{times:>7}  {words}")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
