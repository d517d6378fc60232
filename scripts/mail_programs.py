"""Writes loyalbell/core/messages/mail_programs.py from the open data of the npm package caniemail (MIT).

``python scripts/mail_programs.py`` packs the version named below. Of every feature it keeps in how many of
the tested mail programs it works, works in part, or does not; a program on two systems counts as two.
"""

import json
import subprocess
import tarfile
import tempfile
from collections import Counter
from pathlib import Path

PACKAGE = "caniemail@2.0.2"
TARGET = Path(__file__).resolve().parent.parent / "loyalbell/core/messages/mail_programs.py"
HEAD = '''"""In how many mail programs each feature of HTML and CSS works: made by scripts/mail_programs.py, not by hand.

From the open data of caniemail ({package}, MIT licence, last updated {updated}): slug to (no, in part, yes), in
programs as tested last. A program on two systems counts as two.
"""

SUPPORT: dict[str, tuple[int, int, int]] = {{
{rows}
}}
'''


def newest(results: dict) -> str:
    return list(results.values())[-1].split()[0]


def counts(feature: dict) -> tuple[int, int, int]:
    found = Counter(newest(one) for family in feature["stats"].values() for one in family.values())
    return found["n"], found["a"], found["y"]


def main() -> None:
    with tempfile.TemporaryDirectory() as scratch:
        packed = subprocess.run(
            ["npm", "pack", PACKAGE, "--silent"], cwd=scratch, check=True, capture_output=True, text=True
        )
        with tarfile.open(Path(scratch) / packed.stdout.strip().splitlines()[-1]) as tar:
            tar.extractall(scratch, filter="data")
        data = json.loads((Path(scratch) / "package/dist/data/caniemail.json").read_text())
    rows = "\n".join(
        f'    "{one["slug"]}": {counts(one)},' for one in sorted(data["data"], key=lambda one: one["slug"])
    )
    text = HEAD.format(package=PACKAGE, updated=data["last_update_date"][:10], rows=rows)
    TARGET.write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
