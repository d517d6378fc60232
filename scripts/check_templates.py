"""Fails where a template has a line of more than 110 characters, an inline style or an inline script.

``python scripts/check_templates.py`` names file and line.
"""

import re
import sys
from pathlib import Path

PACKAGE = Path(__file__).resolve().parent.parent / "loyalbell"
LONGEST = 110
FORBIDDEN = (
    (re.compile(r"<[^>]*\sstyle\s*=", re.IGNORECASE), "an inline style"),
    (re.compile(r"<[^>]*\son[a-z]+\s*=\s*[\"']", re.IGNORECASE), "an inline script"),
    (re.compile(r"(?:src|href)\s*=\s*[\"']https?://", re.IGNORECASE), "something from outside"),
)


def problems() -> list[str]:
    found = []
    for file in sorted(PACKAGE.rglob("templates/**/*.html")):
        for number, line in enumerate(file.read_text(encoding="utf-8").splitlines(), 1):
            where = f"{file.relative_to(PACKAGE.parent)}:{number}"
            if len(line) > LONGEST:
                found.append(f"{where}: {len(line)} characters; {LONGEST} at most")
            found += [f"{where}: {what}" for pattern, what in FORBIDDEN if pattern.search(line)]
    return found


def main() -> int:
    found = problems()
    print("\n".join(found) or "templates: as they should be")
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
