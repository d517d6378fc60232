"""How many people a comparison needs, and whether its split is as it was drawn. Pure."""

from collections.abc import Sequence
from math import asin, ceil, sqrt

from scipy.stats import chisquare, norm

POWER, ALPHA = 0.8, 0.05
"""Found in four of five cases where it is there, seen in one of twenty where it is not (common practice)."""
PRECISE = 0.0001
"""A difference is told to a tenth of one person of 1,000."""
SPLIT_IS_WRONG = 0.001
"""Below this chance a split is not what was drawn (rules of the job, section 7)."""


def effect_size(share: float, other: float) -> float:
    """Cohen's h of two shares (Cohen 1988): the difference of their arcsines."""
    return 2 * asin(sqrt(share)) - 2 * asin(sqrt(other))


def people_needed(
    base: float, worth: float, held_share: float = 0.5, power: float = POWER, alpha: float = ALPHA
) -> int:
    """People in both groups together to see a share rise from ``base`` by ``worth``.

    ``held_share`` of them are held back, above 0 and below 1. Raises ``ValueError`` where the shares are not
    between 0 and 1, or do not differ.
    """
    if not (0 <= base <= 1 and 0 <= base + worth <= 1 and worth and 0 < held_share < 1):
        raise ValueError("shares lie between 0 and 1 and must differ")
    height = float(norm.ppf(1 - alpha / 2) + norm.ppf(power))
    each = (height / effect_size(base + worth, base)) ** 2
    return ceil(each / held_share / (1 - held_share))


def smallest_difference(base: float, people: int, held_share: float = 0.5) -> float | None:
    """The least rise above ``base`` that so many people in both groups are likely to show.

    ``None`` where not even a rise to everybody would. Raises ``ValueError`` as ``people_needed`` does.
    """
    low, high = 0.0, 1 - base
    if high <= 0 or people_needed(base, high, held_share) > people:
        return None
    while high - low > PRECISE:
        middle = (low + high) / 2
        if people_needed(base, middle, held_share) > people:
            low = middle
        else:
            high = middle
    return high


def split_chance(counts: Sequence[int], shares: Sequence[float]) -> float:
    """How likely a split as uneven as this is by chance (Pearson's chi-square); 1 without people."""
    total, whole = sum(counts), sum(shares)
    if not total or not whole:
        return 1.0
    return float(chisquare(counts, [total * share / whole for share in shares]).pvalue)


def split_is_wrong(counts: Sequence[int], shares: Sequence[float]) -> bool:
    """Whether the groups are not of the sizes that were drawn: then what is compared is not alike."""
    return split_chance(counts, shares) < SPLIT_IS_WRONG
