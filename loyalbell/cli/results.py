"""``loyalbell results``: what campaigns and sequences brought, cost and added."""

import json
from pathlib import Path

import typer
from rich.table import Table

from loyalbell.cli.main import DataOption, fail, open_book, out
from loyalbell.core.clock.local_time import local_day
from loyalbell.services.results.export import values_of
from loyalbell.services.results.overview import COLUMNS, in_order, overview
from loyalbell.services.results.ranges import RANGES, USUAL, Days, RangeProblem, days_of


def results(
    data: Path = DataOption,
    days: str = typer.Option(USUAL, "--days", help=f"One of: {', '.join(RANGES)}."),
    first: str = typer.Option("", "--first", help="The first day of your own dates, such as 2026-01-01."),
    last: str = typer.Option("", "--last", help="The last day of your own dates."),
    by: str = typer.Option("delivered", "--by", help=f"The order: {', '.join(COLUMNS)}."),
    as_json: bool = typer.Option(False, "--json", help="Print one JSON object."),
) -> None:
    """Says what each campaign and sequence sent, brought, cost and added."""
    application = open_book(data)
    try:
        shop = application.shop()
        if shop is None:
            raise fail(
                f"The book in {data} has no shop yet. Start it once with: loyalbell serve --data {data}"
            )
        try:
            key = "own" if first or last else days
            if key not in RANGES:
                raise RangeProblem(f"There are no days called “{days}”; choose {', '.join(RANGES)}.")
            chosen = days_of(key, local_day(application.clock.now(), shop.zone), shop.zone, first, last)
        except RangeProblem as problem:
            raise fail(str(problem)) from problem
        rows = [values_of(row, shop.currency) for row in in_order(overview(application, chosen).rows, by)]
    finally:
        application.close()
    if as_json:
        print(json.dumps({"first": str(chosen.first), "last": str(chosen.last), "results": rows}))
    else:
        _print(rows, chosen)


def _print(rows: list[dict[str, object]], days: Days) -> None:
    table = Table(title=f"{days.first} to {days.last}", show_edge=False)
    shown = ("name", "delivered_people", "came_back_people", "orders", "revenue_minor", "verdict")
    for name in shown:
        table.add_column(name.replace("_", " "))
    for row in rows:
        table.add_row(*(str(row[name]) for name in shown))
    out.print(table)
