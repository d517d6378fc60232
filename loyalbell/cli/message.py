"""``loyalbell message``: looking a message in a file over, and reading it as a customer would."""

import json
from pathlib import Path
from typing import Any

import typer

from loyalbell.cli.main import DataOption, fail, open_book
from loyalbell.core.messages.content import ContentProblem, MessageContent, read_content
from loyalbell.core.messages.email_rendering import FilledEmail
from loyalbell.core.messages.merge_fields import FieldProblem
from loyalbell.core.messages.preflight import blocks_sending
from loyalbell.core.messages.text_parts import parts
from loyalbell.services.application import Application
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.messages import preflight, preview
from loyalbell.storage.schema import Person

app = typer.Typer(
    no_args_is_help=True, help="Messages from files; their schema is printed by: loyalbell schema message."
)
FileArgument = typer.Argument(help="A message as JSON.")
Json = typer.Option(False, "--json", help="Print one JSON object.")


def _read(file: Path) -> MessageContent:
    try:
        return read_content(json.loads(file.read_text(encoding="utf-8")))
    except OSError as problem:
        raise fail(f"{file} cannot be read: {problem.strerror}.") from problem
    except (ContentProblem, ValueError) as problem:
        words = str(problem) if isinstance(problem, ContentProblem) else f"It is not JSON: {problem}."
        raise fail(f"{file}: {words}") from problem


@app.command("check")
def check(file: Path = FileArgument, data: Path = DataOption, as_json: bool = Json) -> None:
    """Pre-flight of each channel and language; exit 1 where something must be fixed."""
    content = _read(file)
    application = open_book(data)
    try:
        found: list[dict[str, Any]] = [
            {
                "channel": writing.channel,
                "language": writing.language,
                "findings": [
                    {"level": f.level, "words": f.words, "block": f.block}
                    for f in preflight.findings_of(application, writing)
                ],
            }
            for writing in content.writings
        ]
        blocked = blocks_sending(preflight.findings_of_all(application, content))
    finally:
        application.close()
    if as_json:
        print(json.dumps({"blocked": blocked, "writings": found}))
    else:
        for one in found:
            for finding in one["findings"]:
                print(
                    f"{one['channel']} {one['language']}: {finding['level']}: {finding['words']}".replace(
                        "  ", " "
                    )
                )
    if blocked:
        raise typer.Exit(1)


@app.command("render")
def render(
    file: Path = FileArgument,
    data: Path = DataOption,
    person: str | None = typer.Option(
        None, "--as", help="A customer’s id, email, phone or name; the fallbacks, if not given."
    ),
    as_json: bool = Json,
) -> None:
    """Each channel as this customer gets it, in their language."""
    content = _read(file)
    application = open_book(data)
    try:
        who = customer_queries.one_found(application, person) if person else None
        if person and who is None:
            raise fail(f"Nobody, or more than one, is found for “{person}”.")
        found = {channel: _as_read(application, content, channel, who) for channel in content.channels()}
    finally:
        application.close()
    if as_json:
        print(json.dumps(found))
        return
    for name, said in found.items():
        print(f"{name}: {said.get('subject', '')}\n{said.get('text') or said.get('withheld')}\n")


def _as_read(
    application: Application, content: MessageContent, channel: str, who: Person | None
) -> dict[str, object]:
    """What this customer gets on a channel, or why nothing."""
    writing = content.find(channel, (who.language or "") if who else "")
    assert writing is not None
    try:
        shown = preview.read_as(application, writing, who.id if who else None)
    except FieldProblem as problem:
        return {"withheld": str(problem)}
    if isinstance(shown, FilledEmail):
        return {"subject": shown.subject, "text": shown.text, "html": shown.html}
    return {"text": shown, "parts": parts(shown).parts} if channel == "text" else {"text": shown}
