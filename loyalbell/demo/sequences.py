"""The demo's sequences: a dozen that ring from its first day, and one draft with a mistake in it to learn
from.
"""

from collections.abc import Mapping

from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.application import Application
from loyalbell.services.rehearsal import rehearsals
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.services.sequences import drafts as sequence_drafts
from loyalbell.services.sequences import sequence_templates
from loyalbell.storage import schema
from loyalbell.storage.schema import SequenceVersion

RINGING = (
    "reminder",
    "missed",
    "recall",
    "renewal",
    "win-back",
    "late-regulars",
    "birthday",
    "companion",
    "review",
    "second",
    "vip",
    "refill",
    "never-reacts",
)
MISTAKEN = "A year on, without the one day"
NOBODY: Mapping[str, int] = {}
DAYS = 60
"""Of the past are rehearsed to know each sequence's usual day."""


def add_sequences(application: Application, by: str, held_back: Mapping[str, int] = NOBODY) -> dict[int, str]:
    """Publishes them as of now. Their messages are made from what the shop starts from.

    ``held_back``: shares in per cent by template. Returns the templates by sequence id.
    """
    found = {}
    for key in RINGING:
        made = sequence_templates.make(application, key, by)
        assert made is not None
        found[made] = key
        if key in held_back:
            _hold_back(application, made, held_back[key], by)
        _ring(application, made, by)
    sequence_commands.keep(application, None, MISTAKEN, read_plan(mistaken(application)), by)
    return found


def _hold_back(application: Application, sequence_id: int, percent: int, by: str) -> None:
    with application.database.reading() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        plan, name = sequence_drafts.draft_of(sequence), sequence.name
    sequence_commands.keep(application, sequence_id, name, plan.model_copy(update={"held_back": percent}), by)


def _ring(application: Application, sequence_id: int, by: str) -> None:
    now = application.clock.now()
    with application.database.reading() as session:
        plan = sequence_drafts.draft_of(session.get_one(schema.Sequence, sequence_id))
    figures = rehearsals.rehearse_past(application, plan, sequence_id, DAYS, alone=True).figures
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        version = SequenceVersion(
            sequence_id=sequence_id, number=1, plan=sequence.draft, published_at=now, by=by
        )
        session.add(version)
        session.flush()
        sequence.state, sequence.live_version_id = "live", version.id
        sequence.normal, sequence.by_weekday = figures.normal, list(figures.by_weekday)
        sequence.rings_since = sequence.looked_until = now


def mistaken(application: Application) -> dict[str, object]:
    """The recall without its one day: everybody whose last visit lies a year back or more, anew each day."""
    with application.database.reading() as session:
        recall = next(
            one for one in session.query(schema.Sequence) if one.name.startswith("A year on, nothing booked")
        )
        plan = dict(recall.draft)
    start = dict(plan["start"])
    lines = [dict(line) for line in start["rule"]["root"]["lines"]]
    lines[0] |= {"comparison": "at least"}
    start["rule"] = {"version": 1, "root": {"match": "all", "lines": lines}}
    return plan | {"start": start}
