"""Finding a customer among 100,000 as their name is typed, against reading names with LIKE."""

import shutil
import tempfile
from pathlib import Path
from random import Random

from sqlalchemy import insert

from bench.book_in import SHOP
from bench.measure import Line, median
from loyalbell.demo.words import FIRST_NAMES, LAST_NAMES
from loyalbell.desk import customers
from loyalbell.desk.desk import Desk
from loyalbell.desk.setting_up import open_shop
from loyalbell.store.tables import Person

PEOPLE = 100_000
TYPED = ("wren", "wren ka", "o’d", "555-0147", "zoe xu", "nobody here")


def lines() -> list[Line]:
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        desk, rng = Desk(folder), Random(3)
        open_shop(desk, SHOP, "B", "b@bench.example", "a long password")
        people = [
            {
                "first_name": rng.choice(FIRST_NAMES),
                "last_name": rng.choice(LAST_NAMES),
                "email": f"p{at}@example.com",
                "phone": f"+1{2125550100 + at}",
            }
            for at in range(PEOPLE)
        ]
        with desk.book.writing() as session:
            session.execute(insert(Person), people)

        def ours() -> None:
            for typed in TYPED:
                customers.find(desk, typed)

        def plain() -> None:
            with desk.book.reading() as session:
                for typed in TYPED:
                    query = "SELECT id FROM person WHERE first_name || ' ' || last_name || email || phone LIKE ? ORDER BY id LIMIT 50"
                    session.connection().exec_driver_sql(query, (f"%{typed}%",)).fetchall()

        mine, other = median(ours, 7) / len(TYPED), median(plain, 3) / len(TYPED)
        desk.close()
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return [
        Line("a search on Customers", "100k people", mine, other, "LIKE over all", "under 50 ms", mine < 0.05)
    ]
