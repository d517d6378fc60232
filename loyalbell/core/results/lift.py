"""What messages added: people who got them beside people held back, with how sure that is.

Three ways that agree: plain intervals, narrowed by what was known before (CUPED), and safe to look at every
day (an asymptotic confidence sequence). Pure; outcomes are one number for each person who qualified.
"""

from dataclasses import dataclass
from math import log, sqrt
from typing import NamedTuple, Self

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.stats import norm, t

Numbers = NDArray[np.float64]
ALPHA = 0.05


class Interval(NamedTuple):
    """A difference, treated less held back: the best estimate, and from where to where it may lie."""

    low: float
    best: float
    high: float

    @property
    def width(self) -> float:
        return self.high - self.low

    def times(self, factor: float) -> "Interval":
        return Interval(self.low * factor, self.best * factor, self.high * factor)


@dataclass(frozen=True)
class Outcomes:
    """One value for each person of a group; ``before`` is what was known of them when they qualified."""

    values: Numbers
    before: Numbers

    @classmethod
    def of(cls, values: ArrayLike, before: ArrayLike | None = None) -> Self:
        numbers = np.asarray(values, dtype=np.float64)
        known = np.zeros_like(numbers) if before is None else np.asarray(before, dtype=np.float64)
        return cls(numbers, known)

    def __len__(self) -> int:
        return len(self.values)

    @property
    def mean(self) -> float:
        return float(self.values.mean()) if len(self.values) else 0.0


def wilson(count: int, total: int, z: float) -> tuple[float, float]:
    """The score interval of one share (Wilson 1927; Newcombe 1998, method 3)."""
    share = count / total
    middle = 2 * total * share + z * z
    spread = z * sqrt(z * z + 4 * total * share * (1 - share))
    return (middle - spread) / (2 * (total + z * z)), (middle + spread) / (2 * (total + z * z))


def share_difference(count: int, total: int, held: int, held_total: int, alpha: float = ALPHA) -> Interval:
    """Of two shares: Newcombe's method 10 (Statistics in Medicine 17:873-890, 1998).

    Raises ``ValueError`` where a group is empty.
    """
    if not total or not held_total:
        raise ValueError("a difference needs people in both groups")
    z = float(norm.ppf(1 - alpha / 2))
    one, other = count / total, held / held_total
    (low_one, high_one), (low_other, high_other) = wilson(count, total, z), wilson(held, held_total, z)
    best = one - other
    return Interval(
        best - sqrt((one - low_one) ** 2 + (high_other - other) ** 2),
        best,
        best + sqrt((high_one - one) ** 2 + (other - low_other) ** 2),
    )


def mean_difference(treated: Outcomes, held: Outcomes, alpha: float = ALPHA) -> Interval:
    """Of two means: Welch's interval with Satterthwaite's degrees of freedom.

    Raises ``ValueError`` where a group has fewer than two people.
    """
    if len(treated) < 2 or len(held) < 2:
        raise ValueError("a difference of means needs two people in both groups")
    one, other = treated.values.var(ddof=1) / len(treated), held.values.var(ddof=1) / len(held)
    best = treated.mean - held.mean
    if one + other == 0:
        return Interval(best, best, best)
    freedom = (one + other) ** 2 / (one**2 / (len(treated) - 1) + other**2 / (len(held) - 1))
    reach = float(t.ppf(1 - alpha / 2, freedom)) * sqrt(one + other)
    return Interval(best - reach, best, best + reach)


def adjusted(treated: Outcomes, held: Outcomes) -> tuple[Outcomes, Outcomes]:
    """Both groups narrowed by what was known before (CUPED; Deng, Xu, Kohavi, Walker, WSDM 2013).

    Y - theta (X - mean X), with theta = cov(X, Y) / var(X) over both groups; the groups' own means are left
    out of theta, so that an effect does not leak into it.
    """
    before = np.concatenate((treated.before - _mean(treated.before), held.before - _mean(held.before)))
    values = np.concatenate((treated.values - treated.mean, held.values - held.mean))
    spread = float((before**2).sum())
    theta = float((before * values).sum()) / spread if spread > 0 else 0.0
    middle = _mean(np.concatenate((treated.before, held.before)))
    return (
        Outcomes(treated.values - theta * (treated.before - middle), treated.before),
        Outcomes(held.values - theta * (held.before - middle), held.before),
    )


def _mean(values: Numbers) -> float:
    return float(values.mean()) if len(values) else 0.0


def any_time(treated: Outcomes, held: Outcomes, planned: int, alpha: float = ALPHA) -> Interval:
    """An interval that holds at every look, however often one looks.

    An asymptotic confidence sequence (Waudby-Smith, Arbour, Sinha, Kennedy, Ramdas, "Time-uniform central
    limit theory and asymptotic confidence sequences"; the formula and the choice of its width for ``planned``
    people from memory, checked by simulation). Raises ``ValueError`` as ``mean_difference`` does.
    """
    if len(treated) < 2 or len(held) < 2:
        raise ValueError("a difference of means needs two people in both groups")
    people = len(treated) + len(held)
    variance = people * (treated.values.var(ddof=1) / len(treated) + held.values.var(ddof=1) / len(held))
    reach = sqrt(variance) * any_time_reach(people, planned, alpha)
    best = treated.mean - held.mean
    return Interval(best - reach, best, best + reach)


def any_time_reach(people: int, planned: int, alpha: float = ALPHA) -> float:
    """Half the width of the sequence for a variance of one after so many people."""
    squared = (-2 * log(alpha) + log(-2 * log(alpha) + 1)) / max(planned, 1)
    grown = people * squared + 1
    return sqrt(2 * grown / (people**2 * squared) * log(sqrt(grown) / alpha))
