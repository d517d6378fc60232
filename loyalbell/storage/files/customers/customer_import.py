"""Bringing customers in: reading rows, finding who is known, writing."""

from collections.abc import Callable, Iterator
from datetime import datetime

from sqlalchemy.orm import Session

from loyalbell.storage.files.columns.column_mapping import ColumnMap
from loyalbell.storage.files.customers.custom_columns import OwnColumns
from loyalbell.storage.files.customers.customer_cells import CONSENTS, RowReader
from loyalbell.storage.files.customers.customer_upsert import CustomerUpsert
from loyalbell.storage.files.import_outcome import Outcome, RefusedRows
from loyalbell.storage.files.import_problems import Problem
from loyalbell.storage.files.tables.table_reader import Row, chunks_of
from loyalbell.storage.records.person_resolver import (
    load_person_resolver,
)

CHUNK = 5_000


class CustomersIn:
    """One import of customers. With ``write`` off, everything is counted and nothing kept."""

    def __init__(
        self,
        session: Session,
        columns: ColumnMap,
        country: str,
        currency: str,
        now: datetime,
        import_id: int,
        write: bool,
    ) -> None:
        own = OwnColumns(session, columns, now, import_id, write)
        self.reader = RowReader(columns, country, currency, now, own)
        known = load_person_resolver(session)
        self.agreed = 0
        source = f"import {import_id}"
        self.taking = CustomerUpsert(session, known, own, now, import_id, write, source, columns.agreed)

    def run(self, rows: Iterator[Row], refused: RefusedRows, progress: Callable[[int], bool]) -> Outcome:
        for chunk in chunks_of(rows, CHUNK):
            self._take(chunk, refused)
            if progress(chunk[-1][0]):
                self.taking.catch_up()
        refused.outcome.found = {"agreed": self.agreed}
        return refused.outcome

    def _take(self, chunk: list[Row], refused: RefusedRows) -> None:
        cells_of, good = dict(chunk), []
        for number, cells in chunk:
            values, left_out = self.reader.read(cells)
            for problem in left_out:
                refused.leave_out(number, problem, cells)
            if isinstance(values, Problem):
                refused.add(number, values, cells)
            else:
                good.append((number, values))
                self.agreed += any(values.get(target) for target in CONSENTS)
        for number, reason in self.taking.take(good, refused.outcome.counts):
            refused.add(number, Problem(reason, "is the same customer as an earlier row"), cells_of[number])
