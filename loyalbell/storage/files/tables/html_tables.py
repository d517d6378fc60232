"""Web pages that hold a table: what many tills save under the name of a spreadsheet."""

from collections.abc import Iterator

from bs4 import BeautifulSoup, Tag

from loyalbell.storage.files.tables.problems import FileProblem

WIDEST = 200


def read_html(content: bytes) -> Iterator[list[str]]:
    """The rows of the largest table of a page; a cell over several columns is followed by blank ones.

    Raises ``FileProblem`` where there is none.
    """
    page = BeautifulSoup(content, "html.parser")
    tables = [_rows_of(table) for table in page.find_all("table")]
    if not tables:
        raise FileProblem("This is a web page without a table. Export the table as CSV or XLSX.")
    yield from max(tables, key=lambda rows: sum(map(len, rows)))


def _rows_of(table: Tag) -> list[list[str]]:
    return [list(_cells(row)) for row in table.find_all("tr") if row.find_parent("table") is table]


def _cells(row: Tag) -> Iterator[str]:
    for cell in row.find_all(["td", "th"], recursive=False):
        yield cell.get_text(" ", strip=True)
        over = str(cell.get("colspan", "1"))
        yield from [""] * (min(int(over), WIDEST) - 1 if over.isdecimal() else 0)
