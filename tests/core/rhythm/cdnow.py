"""The CDNOW purchase records, as the package lifetimes 0.11.3 carries them (its data only)."""

from datetime import date, datetime
from importlib.util import find_spec
from pathlib import Path

import numpy as np

from loyalbell.core.history.snapshot import HistorySnapshot, Orders, People
from loyalbell.core.history.visits import EPOCH

# The calibration period of the paper: 39 weeks from 1997-01-01; the forecast period the 39 weeks after
CALIBRATED, ENDED = date(1997, 9, 30), date(1998, 6, 30)


def records() -> np.ndarray:
    """Rows of (customer, day since 1970-01-01, cents): the one-in-ten sample of 2,357 customers."""
    spec = find_spec("lifetimes")
    assert spec and spec.origin
    text = (Path(spec.origin).parent / "datasets/CDNOW_sample.txt").read_text()
    rows = []
    for line in text.splitlines():
        _, customer, day, _, dollars = line.split()
        when = datetime.strptime(day, "%Y%m%d").date()
        rows.append((int(customer), (when - EPOCH).days, round(float(dollars) * 100)))
    return np.array(rows, dtype=np.int64)


def snapshot() -> HistorySnapshot:
    rows = records()
    customers, number = np.unique(rows[:, 0], return_inverse=True)
    at = rows[:, 1] * 86_400 + 43_200
    people = People.of(customers, np.full(len(customers), -(2**40)))
    return HistorySnapshot("UTC", "USD", people, Orders.of(person=number, at=at, money=rows[:, 2]))


def noon(day: date) -> int:
    return (day - EPOCH).days * 86_400 + 86_399
