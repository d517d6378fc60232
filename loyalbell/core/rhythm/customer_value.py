"""Expected purchases and their value: BG/NBD and gamma-gamma, by maximum likelihood.

BG/NBD: Fader, Hardie and Lee, "Counting Your Customers the Easy Way", Marketing Science 24 (2005).
Gamma-gamma: Fader and Hardie, "The Gamma-Gamma Model of Monetary Value" (note, 2013).
"""

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize
from scipy.special import gammaln, hyp2f1

from loyalbell.core.history.columns import Ints, distinct
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.history.visits import local_days, today_number
from loyalbell.core.rhythm.return_curve import Part, rows_of

Floats = NDArray[np.float64]
UNITS = {"days": 1.0, "weeks": 7.0}
FEWEST_BUYERS, FEWEST_REPEATS = 50, 20
STARTS = ((1.0, 1.0, 1.0, 1.0), (0.25, 4.0, 0.8, 2.5), (0.5, 10.0, 0.3, 3.0))
Progress = Callable[[float, str], None]


class TooLittle(Exception):
    """Too little history to fit a model on, said in words."""


@dataclass(frozen=True)
class Summary:
    """One row a buyer. ``frequency`` counts days with a purchase after the first; ``recency`` and ``age`` are
    the time from the first purchase to the last and to now, in the unit; ``money`` the mean of a repeat
    day, in minor units.
    """

    person: Ints
    frequency: Floats
    recency: Floats
    age: Floats
    money: Floats

    def __len__(self) -> int:
        return len(self.person)


def summary(
    snapshot: HistorySnapshot, as_of: int, unit: str = "days", part: Part | None = None, by: int | None = None
) -> Summary:
    """Purchases of one local day are one.

    ``by`` leaves out what came after that instant and those who began then.
    """
    person, at, money = rows_of(snapshot, by if by is not None else as_of, part)
    days = local_days(at, snapshot.zone)
    today = today_number(by if by is not None else as_of, snapshot.zone)
    return summarise(person, days, money, today, UNITS[unit])


def summarise(person: NDArray[np.int32], day: Ints, money: Ints, today: int, unit: float) -> Summary:
    """From purchases in any order: who, on which day, for how much. ``unit`` is its length in days."""
    none = np.zeros(0)
    if not len(person):
        return Summary(np.zeros(0, dtype=np.int64), none, none, none, none)
    base = int(day.min())
    key, place = np.unique((person.astype(np.int64) << 32) | (day - base), return_inverse=True)
    spent = np.bincount(place, weights=money)
    who, on = key >> 32, (key & 0xFFFFFFFF) + base
    first = np.ones(len(who), dtype=np.bool_)
    first[1:] = who[1:] != who[:-1]
    starts = np.flatnonzero(first)
    ends = np.append(starts[1:], len(who)) - 1
    frequency = (ends - starts).astype(np.float64)
    whole = np.add.reduceat(spent, starts) - spent[starts]
    mean = np.divide(whole, frequency, out=np.zeros_like(whole), where=frequency > 0)
    return Summary(who[starts], frequency, (on[ends] - on[starts]) / unit, (today - on[starts]) / unit, mean)


@dataclass(frozen=True)
class BgNbd:
    """``r`` and ``alpha`` of the buying rate, ``a`` and ``b`` of dropping out. Time is in ``unit``."""

    r: float
    alpha: float
    a: float
    b: float
    log_likelihood: float
    unit: str

    def expected(self, made: Summary, ahead: float) -> Floats:
        """Purchases of each buyer in the next ``ahead`` units (equation 10 of the paper)."""
        x, age = made.frequency, made.age
        r, alpha, a, b = self.r, self.alpha, self.a, self.b
        if abs(a - 1) < 1e-6:
            a += 2e-6
        z = ahead / (alpha + age + ahead)
        power = np.power((alpha + age) / (alpha + age + ahead), r + x)
        top = (a + b + x - 1) / (a - 1) * (1 - power * hyp2f1(r + x, b + x, a + b + x - 1, z))
        return np.asarray(top / self._alive_odds(made, a), dtype=np.float64)

    def alive(self, made: Summary) -> Floats:
        """The probability that each buyer still buys here."""
        return np.asarray(1 / self._alive_odds(made, self.a), dtype=np.float64)

    def _alive_odds(self, made: Summary, a: float) -> Floats:
        x = made.frequency
        with np.errstate(divide="ignore", invalid="ignore"):
            odds = (
                a
                / (self.b + x - 1)
                * np.power((self.alpha + made.age) / (self.alpha + made.recency), self.r + x)
            )
        return np.asarray(1 + np.where(x > 0, odds, 0.0), dtype=np.float64)


def bgnbd_log_likelihood(
    log_parameters: Floats, x: Floats, recency: Floats, age: Floats, weight: Floats
) -> float:
    """Equation 6 of the paper, of distinct buyers and how many there are of each."""
    r, alpha, a, b = np.exp(log_parameters)
    whole = gammaln(r + x) - gammaln(r) + r * np.log(alpha)
    stay = gammaln(a + b) + gammaln(b + x) - gammaln(b) - gammaln(a + b + x)
    still = -(r + x) * np.log(alpha + age)
    with np.errstate(divide="ignore"):
        left = np.where(
            x > 0,
            np.log(a) - np.log(np.maximum(b + x - 1, 1e-300)) - (r + x) * np.log(alpha + recency),
            -np.inf,
        )
    return float((weight * (whole + stay + np.logaddexp(still, left))).sum())


def fit_bgnbd(made: Summary, unit: str, report: Progress = lambda share, words: None) -> BgNbd:
    """Raises ``TooLittle``."""
    repeats = int((made.frequency > 0).sum())
    if len(made) < FEWEST_BUYERS or repeats < FEWEST_REPEATS:
        raise TooLittle(
            f"{len(made):,} buyers, {repeats:,} of whom came back: too few to expect anything from. "
            f"It takes at least {FEWEST_BUYERS} and {FEWEST_REPEATS}."
        )
    rows, weight = np.unique(
        np.stack((made.frequency, made.recency, made.age), axis=1), axis=0, return_counts=True
    )
    x, recency, age = rows.T
    many: Floats = weight.astype(np.float64)
    scale = max(float(age.mean()) / 30, 1e-6)
    best = None
    for number, (r, alpha, a, b) in enumerate(STARTS):
        report(number / len(STARTS), "fitting how often people buy")
        start = np.log([r, alpha * scale, a, b])
        found = minimize(
            lambda p: -bgnbd_log_likelihood(p, x, recency, age, many) / len(made),
            start,
            method="L-BFGS-B",
            bounds=[(-9, 9), (-9, 16), (-9, 9), (-9, 9)],
            options={"ftol": 1e-13, "gtol": 1e-8, "maxiter": 500},
        )
        if best is None or found.fun < best.fun:
            best = found
    assert best is not None
    r, alpha, a, b = np.exp(best.x)
    return BgNbd(float(r), float(alpha), float(a), float(b), float(-best.fun * len(made)), unit)


@dataclass(frozen=True)
class GammaGamma:
    """``p``, ``q`` and ``v`` of the value of a purchase, in units of the currency."""

    p: float
    q: float
    v: float
    log_likelihood: float

    def expected(self, made: Summary, digits: int) -> Floats:
        """The expected value of a purchase of each buyer, in units of the currency."""
        x, mean = made.frequency, made.money / 10**digits
        if self.q <= 1:
            return np.where(x > 0, mean, float(mean[x > 0].mean()) if bool((x > 0).any()) else 0.0)
        return np.asarray(self.p * (self.v + x * mean) / (self.p * x + self.q - 1), dtype=np.float64)


def fit_gamma_gamma(made: Summary, digits: int) -> GammaGamma:
    """On those who came back and spent. ``digits`` are the currency's decimals. Raises ``TooLittle``."""
    kept = (made.frequency > 0) & (made.money > 0)
    x, mean = made.frequency[kept], made.money[kept] / 10**digits
    if len(x) < FEWEST_REPEATS:
        raise TooLittle("Too few came back and spent something to say what a purchase is worth.")
    size = float(mean.mean())

    def loss(log_parameters: Floats) -> float:
        p, q, v = np.exp(log_parameters)
        each = (
            gammaln(p * x + q)
            - gammaln(p * x)
            - gammaln(q)
            + q * np.log(v)
            + (p * x - 1) * np.log(mean)
            + p * x * np.log(x)
            - (p * x + q) * np.log(v + mean * x)
        )
        return float(-each.mean())

    best = None
    for p, q in ((5.0, 3.5), (1.5, 2.0), (20.0, 6.0)):
        found = minimize(
            loss,
            np.log([p, q, size * max(q - 1, 0.5) / p]),
            method="L-BFGS-B",
            bounds=[(-7, 9), (-7, 9), (-12, 16)],
            options={"ftol": 1e-13, "gtol": 1e-8, "maxiter": 500},
        )
        if best is None or found.fun < best.fun:
            best = found
    assert best is not None
    p, q, v = np.exp(best.x)
    return GammaGamma(float(p), float(q), float(v), float(-best.fun * len(x)))


@dataclass(frozen=True)
class Calibration:
    """What was expected of the last part of the history, fitted on the part before, and what came.

    ``bins`` are by purchases in the first part: (least, most, buyers, expected on average, came on average).
    """

    expected: float
    came: int
    buyers: int
    ahead: float
    bins: list[tuple[int, int, int, float, float]]


def calibrate(
    snapshot: HistorySnapshot, as_of: int, held_out_from: int, unit: str = "days", part: Part | None = None
) -> Calibration:
    """Fits on what was known at ``held_out_from`` and compares with what came until ``as_of``.

    Raises ``TooLittle``.
    """
    made = summary(snapshot, as_of, unit, part, by=held_out_from)
    model = fit_bgnbd(made, unit)
    person, at, _ = rows_of(snapshot, as_of, part)
    later = at > held_out_from
    days = local_days(at[later], snapshot.zone)
    known = local_days(at[~later], snapshot.zone)
    seen = (person[~later].astype(np.int64) << 32) | known
    both = np.setdiff1d(distinct((person[later].astype(np.int64) << 32) | days), seen)
    came = np.bincount(both >> 32, minlength=len(snapshot.people))[made.person]
    ahead = (today_number(as_of, snapshot.zone) - today_number(held_out_from, snapshot.zone)) / UNITS[unit]
    return _binned(model.expected(made, ahead), came, made.frequency, ahead)


def _binned(expected: Floats, came: Ints, frequency: Floats, ahead: float) -> Calibration:
    bins = []
    edges = [0, 1, 2, 3, 4, 5, 7, 10, 15, 25, 10**9]
    for low, high in pairwise(edges):
        inside = (frequency >= low) & (frequency < high)
        if bool(inside.any()):
            found = (low, int(frequency[inside].max()), int(inside.sum()))
            bins.append((*found, float(expected[inside].mean()), float(came[inside].mean())))
    return Calibration(float(expected.sum()), int(came.sum()), len(expected), ahead, bins)
