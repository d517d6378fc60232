"""The demo's sequences: a dozen that ring from its first day, and one draft with a mistake in it to learn from."""

from loyalbell.core.sequences.plan import read_plan
from loyalbell.desk.desk import Desk
from loyalbell.desk.sequences import editing, occasions, rehearsing
from loyalbell.store import tables
from loyalbell.store.tables import SequenceVersion

RINGING = (
    "reminder", "missed", "recall", "renewal", "win-back", "late-regulars", "birthday", "companion", "review", "second", "vip",
    "refill", "never-reacts",
)  # fmt: skip
MISTAKEN = "A year on, without the one day"
DAYS = 60
"""Of the past are rehearsed to know each sequence's usual day."""


def add_sequences(desk: Desk, by: str) -> None:
    """Publishes them as of now. Their messages are made from what the shop starts from."""
    for key in RINGING:
        made = occasions.make(desk, key, by)
        assert made is not None
        _ring(desk, made, by)
    editing.keep(desk, None, MISTAKEN, read_plan(mistaken(desk)), by)


def _ring(desk: Desk, sequence_id: int, by: str) -> None:
    now = desk.clock.now()
    with desk.book.reading() as session:
        plan = editing.draft_of(session.get_one(tables.Sequence, sequence_id))
    normal = rehearsing.rehearse_past(desk, plan, sequence_id, DAYS, alone=True).figures.normal
    with desk.book.writing() as session:
        sequence = session.get_one(tables.Sequence, sequence_id)
        version = SequenceVersion(
            sequence_id=sequence_id, number=1, plan=sequence.draft, published_at=now, by=by
        )
        session.add(version)
        session.flush()
        sequence.state, sequence.live_version_id, sequence.normal = "live", version.id, normal
        sequence.rings_since = sequence.looked_until = now


def mistaken(desk: Desk) -> dict[str, object]:
    """The recall without its one day: everybody whose last visit lies a year back or more, anew each day."""
    with desk.book.reading() as session:
        recall = next(
            one for one in session.query(tables.Sequence) if one.name.startswith("A year on, nothing booked")
        )
        plan = dict(recall.draft)
    start = dict(plan["start"])
    lines = [dict(line) for line in start["rule"]["root"]["lines"]]
    lines[0] |= {"comparison": "at least"}
    start["rule"] = {"version": 1, "root": {"match": "all", "lines": lines}}
    return plan | {"start": start}
