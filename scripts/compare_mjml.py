"""Compares our emails with the reference MJML compiler, by structure: tags in order, words, links, pictures.

``python scripts/compare_mjml.py FOLDER``, where FOLDER holds ``node_modules/mjml`` (``npm install mjml@4``).
Both compilers get the same MJML of every message to start from; exit 1 where they differ.
"""

import re
import subprocess
import sys
import tempfile
from html.parser import HTMLParser
from pathlib import Path
from unittest.mock import patch

from loyalbell.core.messages import email_rendering
from loyalbell.core.messages.content import LetterheadLook
from loyalbell.services.messages import message_templates

LOOK = LetterheadLook(header="Shop", footer="1 Row", ink="#1f2a2b", accent="#173b39")
IGNORED = {"meta", "style", "html", "head", "body", "title", "link", "xml"}


class Shape(HTMLParser):
    """What a reader meets, in order: tags, words, where links lead, what pictures show."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.found: list[str] = []
        self.feed(re.sub(r"<!--.*?-->", "", page, flags=re.DOTALL))

    def handle_starttag(self, tag: str, attrs: list) -> None:
        if tag not in IGNORED:
            kept = [
                f"{name}={value}" for name, value in attrs if name in ("href", "src", "alt", "width", "align")
            ]
            self.found.append(" ".join([tag, *sorted(kept)]))

    def handle_data(self, data: str) -> None:
        if self.get_starttag_text() and not self.get_starttag_text().startswith("<style") and data.strip():
            self.found.append("“" + " ".join(data.split()) + "”")


def main(folder: Path) -> int:
    sources: list[str] = []
    ours: list[str] = []
    real = email_rendering.mjml2html

    def spy(source: str) -> str:
        made = real(source)
        sources.append(source)
        ours.append(made)
        return made

    with patch.object(email_rendering, "mjml2html", spy):
        for one in message_templates.OCCASIONS:
            writing = one.content.find("email")
            if writing is not None and writing.form == "letter":
                email_rendering.compile_email(writing, email_rendering.RenderContext(LOOK))
    differ = 0
    for source, made in zip(sources, ours, strict=True):
        with tempfile.NamedTemporaryFile("w", suffix=".mjml") as file:
            file.write(source)
            file.flush()
            command = [
                str(folder / "node_modules/.bin/mjml"),
                file.name,
                "-s",
                "--config.validationLevel",
                "skip",
            ]
            theirs = subprocess.run(command, capture_output=True, text=True, check=True).stdout
        one, other = Shape(made).found, Shape(theirs).found
        if one != other:
            differ += 1
            at = next(
                (at for at, pair in enumerate(zip(one, other, strict=False)) if pair[0] != pair[1]),
                min(len(one), len(other)),
            )
            print(f"differs at {at}: ours {one[at : at + 3]}, the reference {other[at : at + 3]}")
    print(f"{len(sources)} emails compared, {differ} differ")
    return 1 if differ else 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1])))
