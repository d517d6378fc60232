"""Finding a customer among 100,000 as their name is typed, against reading names with LIKE."""

import shutil
import tempfile
from pathlib import Path
from random import Random

from sqlalchemy import insert

from bench.book_in import SHOP
from bench.measure import Line, median
from loyalbell.demo.vocabulary import FIRST_NAMES, LAST_NAMES
from loyalbell.services.application import Application
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.settings.shop import open_shop
from loyalbell.storage.schema import Person

PEOPLE = 100_000
TYPED = ("wren", "wren ka", "o’d", "555-0147", "zoe xu", "nobody here")


def lines() -> list[Line]:
    folder = Path(tempfile.mkdtemp(prefix="loyalbell-bench-"))
    try:
        application, rng = Application(folder), Random(3)
        open_shop(application, SHOP, "B", "b@bench.example", "a long password")
        people = [
            {
                "first_name": rng.choice(FIRST_NAMES),
                "last_name": rng.choice(LAST_NAMES),
                "email": f"p{at}@example.com",
                "phone": f"+1{2125550100 + at}",
            }
            for at in range(PEOPLE)
        ]
        with application.database.transaction() as session:
            session.execute(insert(Person), people)

        def ours() -> None:
            for typed in TYPED:
                customer_queries.find(application, typed)

        def plain() -> None:
            with application.database.reading() as session:
                for typed in TYPED:
                    query = (
                        "SELECT id FROM person WHERE first_name || ' ' || last_name || email || phone LIKE ?"
                        " ORDER BY id LIMIT 50"
                    )
                    session.connection().exec_driver_sql(query, (f"%{typed}%",)).fetchall()

        mine, other = median(ours, 7) / len(TYPED), median(plain, 3) / len(TYPED)
        application.close()
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    return [
        Line("a search on Customers", "100k people", mine, other, "LIKE over all", "under 50 ms", mine < 0.05)
    ]
