"""The command line: ``loyalbell demo``, ``serve``, ``import``, ``export``, ``book``."""

import json
import shutil
from operator import itemgetter
from pathlib import Path

import typer
from pydantic import BaseModel
from rich.console import Console

from loyalbell.core.messages.content import MessageContent
from loyalbell.core.offers.terms import Terms
from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.plan import Plan
from loyalbell.demo.build import OWNER, PEOPLE, build_demo
from loyalbell.demo.server import server_for
from loyalbell.services.application import Application
from loyalbell.services.delivery.leader_lease import AlreadyTicking
from loyalbell.services.imports import commands as import_commands
from loyalbell.services.imports import exports
from loyalbell.services.imports import files as import_files
from loyalbell.services.imports import mapping as import_mapping
from loyalbell.services.imports.questions import open_questions
from loyalbell.storage.database import BOOK_FILE
from loyalbell.storage.files.columns.file_targets import KINDS
from loyalbell.storage.files.tables.problems import FileProblem
from loyalbell.storage.opening import BookProblem
from loyalbell.storage.schema import ImportRun
from loyalbell.web import logs
from loyalbell.web.server import PortTaken, Server
from loyalbell.web.server_settings import ServerSettings, SettingsProblem, read_settings

app = typer.Typer(
    add_completion=False,
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    help="Loyal Bell: bring customers back.",
)
out, err = Console(highlight=False), Console(stderr=True, highlight=False)

SCHEMAS: dict[str, type[BaseModel]] = {
    "segment": Rule,
    "message": MessageContent,
    "offer": Terms,
    "sequence": Plan,
}


@app.callback()
def _begin() -> None:
    """What goes wrong is said without what was being worked on: that is about customers."""
    logs.set_up(ServerSettings.model_construct(log_level="warning", log_form="words", log_file=None))


DataOption = typer.Option(Path("data"), "--data", help="The folder that holds the book.")


def fail(words: str) -> typer.Exit:
    err.print(words, soft_wrap=True, markup=False)
    return typer.Exit(1)


def _serve(server: Server, said: str) -> None:
    try:
        server.serve(lambda: out.print(said, soft_wrap=True))
    except (PortTaken, AlreadyTicking) as problem:
        raise fail(str(problem)) from problem


@app.command()
def demo(
    data: Path = typer.Option(Path("demo-data"), "--data", help="The demo's folder."),
    port: int = typer.Option(8000, help="The port of the pages, on this machine only."),
    fresh: bool = typer.Option(False, "--fresh", help="Begin anew: the demo's folder is emptied first."),
    people: int = typer.Option(PEOPLE, min=100, max=100_000, help="How many customers a new demo has."),
    empty_history: bool = typer.Option(
        False, "--empty-history", help="A new demo begins today, with nothing sent before."
    ),
) -> None:
    """Starts with the made-up shop Otterby Pet House; a second start keeps its data."""
    if fresh and data.exists():
        _empty(data)
    if not (data / BOOK_FILE).exists():
        out.print("Making Otterby Pet House and its customers, a few seconds …")
        building = data.with_name(data.name + ".being-made")
        shutil.rmtree(building, ignore_errors=True)
        build_demo(building, people, lived=not empty_history).close()
        data.parent.mkdir(parents=True, exist_ok=True)
        data.mkdir(exist_ok=True)
        for file in building.iterdir():
            file.rename(data / file.name)
        building.rmdir()
    _, email, password = OWNER
    logs.set_up(ServerSettings(data=data))
    try:
        server = server_for(data, port, demo_sign_in=(email, password))
    except BookProblem as problem:
        raise fail(str(problem)) from problem
    _serve(server, f"Loyal Bell: {server.address}   (sign in as {email}, password {password})")


def _empty(data: Path) -> None:
    """Only a folder that holds a book of ours, or nothing, is emptied."""
    if any(data.iterdir()) and not (data / BOOK_FILE).exists():
        raise fail(f"{data} is not a demo folder; it is left as it is. Choose another with DATA=folder.")
    shutil.rmtree(data)


@app.command()
def serve(
    data: Path | None = typer.Option(None, "--data", help="The folder that holds the book."),
    host: str | None = typer.Option(None, help="The address of this machine to serve pages at."),
    port: int | None = typer.Option(None, help="The port of the pages."),
    base_path: str | None = typer.Option(
        None, "--base-path", help="The path under which a proxy hands on, such as /bell."
    ),
    behind_proxy: str | None = typer.Option(
        None, "--behind-proxy", help="Addresses of proxies to believe, with commas between; * for any."
    ),
    mail_host: str | None = typer.Option(None, "--mail-host", help="The address for incoming mail."),
    mail_port: int | None = typer.Option(
        None, "--mail-port", help="Accept replies and delivery reports by SMTP at this port; 0 for not."
    ),
    metrics_token: str | None = typer.Option(
        None, "--metrics-token", help="A program that sends it may read /metrics from elsewhere."
    ),
    log_level: str | None = typer.Option(None, "--log-level", help="debug, info, warning or error."),
    log_form: str | None = typer.Option(None, "--log-form", help="words or json."),
    log_file: Path | None = typer.Option(None, "--log-file", help="Also write the log to this file."),
) -> None:
    """Starts with your own book; the first visit sets the shop up.

    Each option may also stand in the environment (LOYALBELL_PORT=80) or in a TOML file that LOYALBELL_CONFIG
    names.
    """
    try:
        settings = read_settings(**{name: value for name, value in locals().items() if value is not None})
        logs.set_up(settings)
        server = server_for(settings.data, settings.port, mail_port=settings.mail_port, settings=settings)
    except (SettingsProblem, BookProblem) as problem:
        raise fail(str(problem)) from problem
    _serve(server, f"Loyal Bell: {server.address}")


@app.command("import")
def import_file(
    kind: str = typer.Argument(help=f"What the file holds: {', '.join(KINDS)}."),
    file: Path = typer.Argument(
        help="CSV, TSV or XLSX with a heading row; vCard for customers, iCalendar for appointments."
    ),
    data: Path = DataOption,
    map_file: Path | None = typer.Option(
        None,
        "--map",
        help='JSON: {"columns": {"email": "E-Mail"}, "day_first": true, "zone": "Europe/London",'
        ' "agreed": {"since": "joined"}, "totals_of": "file"}.',
    ),
    dry_run: bool = typer.Option(False, "--dry-run", help="Say what would happen; write nothing."),
    as_json: bool = typer.Option(False, "--json", help="Print one JSON object."),
) -> None:
    """Brings a file in, all of it or nothing. Prints created, changed, unchanged, refused."""
    if not file.is_file():
        raise fail(f"There is no file {file}.")
    application = open_book(data)
    try:
        run = _carry_out(application, kind, file, dry_run, _map_of(map_file))
    except FileProblem as problem:
        raise fail(f"{file.name}: {problem}") from problem
    finally:
        application.close()
    if run.state == "failed":
        raise fail(f"{file.name}: {run.problem}")
    counts = {name: getattr(run, name) for name in ("created", "changed", "unchanged", "refused", "left_out")}
    said = [
        {"row": row, "reason": text, "left_out": group["left_out"]}
        for group in run.problems
        for row, text, _ in group["examples"]
    ]
    reasons = sorted(said, key=itemgetter("row"))
    if as_json:
        kept = not dry_run and (run.refused or run.left_out)
        refused_file = str(import_files.refused_file(application, run.id)) if kept else None
        print(json.dumps(counts | {"dry_run": dry_run, "reasons": reasons, "refused_file": refused_file}))
        return
    out.print(", ".join(f"{name.replace('_', ' ')} {count:,}" for name, count in counts.items()))
    for reason in reasons:
        out.print(f"  row {reason['row']}: {reason['reason']}", markup=False)


@app.command("export")
def export_kind(
    kind: str = typer.Argument(help=f"What to take out: {', '.join(exports.KINDS)}."),
    data: Path = DataOption,
    form: str = typer.Option("csv", "--format", help=f"{', '.join(exports.FORMATS)}."),
    out_file: Path | None = typer.Option(
        None, "--out", help="The file to write; KIND.FORMAT here if not given."
    ),
) -> None:
    """Takes one kind of record out, in columns that come back in on import."""
    path = out_file or Path(f"{kind}.{form}")
    application = open_book(data)
    try:
        count = exports.to_file(application, kind, form, path)
    except (exports.CannotExport, OSError) as problem:
        raise fail(str(problem)) from problem
    finally:
        application.close()
    out.print(f"{path}: {count:,} rows")


@app.command()
def book(
    data: Path = DataOption, as_json: bool = typer.Option(False, "--json", help="Print one JSON object.")
) -> None:
    """Says what is in the book: people, orders, lines, visits, money per currency in minor units, first and
    last instants.
    """
    application = open_book(data)
    try:
        figures = exports.figures(application)
    finally:
        application.close()
    if as_json:
        print(json.dumps(figures))
        return
    for name, value in figures.items():
        out.print(f"{name}: {value}", markup=False)


@app.command()
def schema(what: str = typer.Argument(help="What to describe: segment, message, offer or sequence.")) -> None:
    """Prints a JSON Schema."""
    if what not in SCHEMAS:
        raise fail(f"There is no schema of “{what}”; choose {' or '.join(SCHEMAS)}.")
    print(json.dumps(SCHEMAS[what].model_json_schema(), indent=2))


def open_book(data: Path) -> Application:
    if not (data / BOOK_FILE).exists():
        raise fail(
            f"There is no book in {data}. Make one with “loyalbell init --data {data} --name …”, or start"
            f" with “loyalbell serve --data {data}”, whose first page asks for your shop."
        )
    try:
        return Application(data)
    except BookProblem as problem:
        raise fail(str(problem)) from problem


TOTALS_DIFFER = (
    "In {differ:,} of {compared:,} orders the lines do not add up to the order’s own total. Say which is"
    ' right in a file for --map: "totals_of" is "file" or "lines". Nothing was written.'
)


def _map_of(path: Path | None) -> dict[str, object] | None:
    if path is None:
        return None
    try:
        found = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError) as problem:
        raise fail(f"{path} cannot be read as JSON: {problem}") from problem
    if not isinstance(found, dict):
        raise fail(f"{path} must hold a JSON object.")
    return found


def _carry_out(
    application: Application, kind: str, file: Path, dry_run: bool, given: dict[str, object] | None
) -> ImportRun:
    with file.open("rb") as content:
        run = import_commands.begin_import(application, kind, file.name, content, "command line")
    if given is not None:
        try:
            import_mapping.apply_map(application, run.id, given)
        except FileProblem:
            import_commands.forget(application, run.id)
            raise
    import_commands.carry_out(application, run.id, False, lambda share, words: None)
    found = application.find(ImportRun, run.id)
    assert found is not None
    if not dry_run and "totals" in open_questions(found):
        import_commands.forget(application, run.id)
        raise FileProblem(TOTALS_DIFFER.format(**found.found))
    if not dry_run and found.state == "tried":
        import_commands.carry_out(application, run.id, True, lambda share, words: None)
        found = application.find(ImportRun, run.id)
        assert found is not None
    if dry_run:
        import_commands.forget(application, run.id)
    return found
