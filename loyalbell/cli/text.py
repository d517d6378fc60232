"""``loyalbell text``: how the network counts text messages."""

import json
from pathlib import Path

import typer

from loyalbell.cli.main import fail
from loyalbell.core.messages.text_parts import parts

app = typer.Typer(no_args_is_help=True, help="Text messages as the network counts them.")


@app.callback()
def main() -> None:
    """Text messages as the network counts them."""


@app.command("parts")
def count(
    file: Path = typer.Argument(help="JSON lines, each an object with “text”."),
    as_json: bool = typer.Option(False, "--json", help="Answer each line with one JSON object."),
) -> None:
    """For each line: encoding, parts, units and units_per_part (3GPP TS 23.038 and 23.040)."""
    try:
        lines = file.read_text(encoding="utf-8").splitlines()
    except OSError as problem:
        raise fail(f"{file} cannot be read: {problem.strerror}.") from problem
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            text = json.loads(line)["text"]
        except (ValueError, TypeError, KeyError) as problem:
            raise fail(f"{file}, line {number}: it is no JSON object with “text”.") from problem
        if not isinstance(text, str):
            raise fail(f"{file}, line {number}: “text” is not text.")
        found = parts(text)
        answer = {
            "encoding": found.encoding,
            "parts": found.parts,
            "units": found.units,
            "units_per_part": found.units_per_part,
        }
        print(
            json.dumps(answer)
            if as_json
            else f"{found.encoding}: {found.units} units in {found.parts} parts of {found.units_per_part}"
        )
