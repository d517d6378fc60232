"""``loyalbell segment``: counting a rule that stands in a file."""

import json
from pathlib import Path

import typer

from loyalbell.cli.main import DataOption, fail, open_book
from loyalbell.core.segments.model import RuleProblem, read_rule
from loyalbell.services.rhythm.figures import NotAPart, read_instant
from loyalbell.services.segments import queries as segment_queries

app = typer.Typer(no_args_is_help=True, help="Segments from rules in files.")


@app.callback()
def main() -> None:
    """Segments from rules in files."""


@app.command("count")
def count(
    file: Path = typer.Argument(help="A rule as JSON; its schema is printed by: loyalbell schema segment."),
    data: Path = DataOption,
    as_of: str | None = typer.Option(None, "--as-of", help="An ISO instant; a plain day means its end."),
    funnel: bool = typer.Option(False, "--ladder", help="Also the count after each line."),
    people: bool = typer.Option(False, "--people", help="Also the ids of the people in it."),
    as_json: bool = typer.Option(False, "--json", help="Print one JSON object."),
) -> None:
    """Says how many people a rule gives."""
    try:
        rule = read_rule(json.loads(file.read_text(encoding="utf-8")))
    except OSError as problem:
        raise fail(f"{file} cannot be read: {problem.strerror}.") from problem
    except ValueError as problem:
        words = str(problem) if isinstance(problem, RuleProblem) else f"It is not JSON: {problem}."
        raise fail(f"{file}: {words}") from problem
    application = open_book(data)
    try:
        when = read_instant(as_of, application.the_shop().zone, application.clock.now())
        found = segment_queries.count_rule(application, rule, when, funnel, people)
    except (NotAPart, RuleProblem) as problem:
        raise fail(f"{file}: {problem}") from problem
    finally:
        application.close()
    if as_json:
        print(json.dumps(found))
        return
    for name, value in found.items():
        print(f"{name}: {value}")
