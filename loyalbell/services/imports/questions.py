"""What a file leaves open and only a person can say, before it is brought in."""

from typing import Any

from loyalbell.storage.files.customers.customer_cells import CONSENTS
from loyalbell.storage.schema import ImportRun

SINCE = {
    "joined": "since they became customers",
    "column": "on the day in the column “agreed on”",
    "day": "since one day",
    "now": "from today on: we do not know since when",
}


def open_questions(run: ImportRun) -> list[str]:
    """``agreed``: since when the people have agreed; ``totals``: which of two totals that differ is right."""
    found = []
    if brings_consents(run) and not run.mapping.get("agreed"):
        found.append("agreed")
    if run.found.get("differ") and not run.mapping.get("totals_of"):
        found.append("totals")
    return found


def brings_consents(run: ImportRun) -> bool:
    """Whether anybody in the file has agreed to something."""
    mapped = run.kind == "customers" and bool(CONSENTS.keys() & run.mapping["columns"].keys())
    return mapped and bool(run.found.get("agreed", 1))


def ways_since(run: ImportRun) -> dict[str, str]:
    """How the first of them may be answered for this file."""
    columns = run.mapping["columns"]
    lacking = {"joined": "joined" not in columns, "column": "agreed_at" not in columns}
    return {key: words for key, words in SINCE.items() if not lacking.get(key)}


def suggested(run: ImportRun) -> dict[str, Any]:
    """The likeliest answer, to begin with."""
    ways = ways_since(run)
    since = next((key for key in ("column", "joined", "now") if key in ways), "now")
    return run.mapping.get("agreed") or {"since": since, "day": "", "wording": ""}
