"""``loyalbell rhythm``: how often people come back, as JSON."""

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import typer

from loyalbell.cli.main import DataOption, fail, open_book
from loyalbell.core.rhythm.customer_value import UNITS, TooLittle
from loyalbell.services.rhythm import bands as rhythm_bands
from loyalbell.services.rhythm import figures
from loyalbell.services.rhythm.figures import Looking, NotAPart

app = typer.Typer(no_args_is_help=True, help="How often people come back.")
AsOf = typer.Option(None, "--as-of", help="An ISO instant; a plain day means its end. Now, if not given.")
Department = typer.Option(None, "--department", help="Only one department, by name.")
Category = typer.Option(None, "--category", help="Only items of one category.")
Item = typer.Option(None, "--item", help="Only one item, by name.")
Json = typer.Option(False, "--json", help="Print one JSON object; without it, the same a line a key.")


@contextmanager
def _looking(data: Path, as_of: str | None, **names: str | None) -> Iterator[Looking]:
    application = open_book(data)
    try:
        yield figures.look(application, as_of, **names)
    except (NotAPart, TooLittle) as problem:
        raise fail(str(problem)) from problem
    finally:
        application.close()


def _say(found: dict[str, Any], as_json: bool) -> None:
    if as_json:
        print(json.dumps(found))
        return
    for name, value in found.items():
        text = json.dumps(value)
        print(f"{name}: {text if len(text) < 300 else text[:300] + ' …'}")


def _command(name: str, words: str, make: Callable[[Looking], dict[str, Any]]) -> None:
    def command(
        data: Path = DataOption,
        as_of: str | None = AsOf,
        department: str | None = Department,
        category: str | None = Category,
        item: str | None = Item,
        as_json: bool = Json,
    ) -> None:
        with _looking(data, as_of, department=department, category=category, item=item) as looking:
            _say(make(looking), as_json)

    app.command(name, help=words)(command)


_command(
    "repeat",
    "Repeat curves (Kaplan-Meier, 95 %): keys all and first_to_second, each with curve (days, share not yet"
    " back), interval (days, low, high), ever, typical_days, winback_days, thumb_days.",
    figures.repeat,
)
_command("bands", "People and money of 365 days in each band, and the movement by month.", rhythm_bands.bands)
_command(
    "grid",
    "Recency by row, frequency by column, from 1 (worst) to 5 (best): count, money, cells, and the rule for"
    " ties.",
    figures.recency_frequency_money,
)
_command("cohorts", "By month of first purchase: size, and active months later.", figures.by_cohort)


@app.command("concentration")
def concentration(
    data: Path = DataOption,
    as_of: str | None = AsOf,
    department: str | None = Department,
    category: str | None = Category,
    item: str | None = Item,
    days: int | None = typer.Option(
        None, "--days", min=1, help="Only the last so many days; ever, if not given."
    ),
    top: float = typer.Option(20.0, "--top", min=0.1, max=100, help="The top so many per cent."),
    as_json: bool = Json,
) -> None:
    """Share of the money by the top x % of those who bought anything: top, curve, gini."""
    with _looking(data, as_of, department=department, category=category, item=item) as looking:
        _say(figures.concentrated(looking, days, top / 100), as_json)


@app.command("value")
def value(
    data: Path = DataOption,
    as_of: str | None = AsOf,
    department: str | None = Department,
    category: str | None = Category,
    item: str | None = Item,
    unit: str = typer.Option("days", "--unit", help=f"The unit of time: {' or '.join(UNITS)}."),
    ahead: float = typer.Option(90.0, "--ahead", min=0.01, help="How far ahead, in the unit."),
    held_out: float | None = typer.Option(
        None, "--held-out", min=0.05, max=0.9, help="Also hold out this share of the history and compare."
    ),
    as_json: bool = Json,
) -> None:
    """Expected purchases and money: bgnbd (r, alpha, a, b), gamma_gamma (p, q, v in units of the currency),
    people.
    """
    if unit not in UNITS:
        raise fail(f"“{unit}” is not a unit here; choose {' or '.join(UNITS)}.")
    with _looking(data, as_of, department=department, category=category, item=item) as looking:
        found = figures.value(looking, unit, ahead)
        if held_out is not None:
            found["calibration"] = figures.calibration(looking, unit, held_out)
        _say(found, as_json)
