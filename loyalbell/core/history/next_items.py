"""What people buy after they have bought an item."""

import numpy as np

from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import Lines

WITHIN_DAYS = 180


def bought_next(
    lines: Lines, people: int, item: int, as_of: int, most: int = 5
) -> tuple[int, list[tuple[int, int]]]:
    """How many of the book's ``people`` ever bought the item, and which items the most of them bought in a
    later order within half a year of the first time: (item, people), the most first. The item itself is
    among them.
    """
    rows = lines.span(-(2**62), as_of)
    kept = lines.void_at[rows] > as_of
    person, at = lines.person[rows][kept], lines.at[rows][kept]
    what = lines.item[rows][kept]
    first = np.full(people, NEVER, dtype=np.int64)
    theirs = what == item
    first[person[theirs][::-1]] = at[theirs][::-1]
    begun = first[person]
    later = (at > begun) & (at <= begun + WITHIN_DAYS * 86_400) & (begun < NEVER)
    pairs = np.unique((what[later].astype(np.int64) << 32) | person[later])
    counts = np.bincount(pairs >> 32) if len(pairs) else np.zeros(1, dtype=np.int64)
    best = np.argsort(-counts, kind="stable")[:most]
    return int((first < NEVER).sum()), [
        (int(number), int(counts[number])) for number in best if counts[number]
    ]
