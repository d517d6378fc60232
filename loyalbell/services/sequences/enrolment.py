"""Letting people into sequences as they cross the start line, and those whom somebody brings by hand."""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from itertools import islice
from typing import Any

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from loyalbell.core.clock.pacing import Pace, instants
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.sequences.engine_facts import PersonFacts, SequenceHistory
from loyalbell.core.sequences.entry import entry_refusal, first_position
from loyalbell.core.sequences.plan import OnEvent, Plan
from loyalbell.core.sequences.plan_tree import Tree
from loyalbell.core.sequences.triggers import TriggerContext, TriggerHit, trigger_hits
from loyalbell.core.sequences.walk import UNDER_WAY
from loyalbell.services.sequences.places import instant
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment

LOOK_BACK = timedelta(days=7)
"""How late an event may arrive and still start a sequence: tills and booking systems are often read once a
day.
"""
SECOND = timedelta(seconds=1)
EVERY_DAY = "is in "
"""Whoever is in a segment crosses its line each day; that they stay out each day is not written down."""
KEPT_OUT = "kept out"
BEYOND = "was beyond the line"
"""Each person comes in once for a key: two who add the same people at once add them once."""


def crossings(
    sequence: schema.Sequence, plan: Plan, known: SequenceHistory, around: TriggerContext, now: datetime
) -> list[TriggerHit]:
    """Who has crossed the start line since it was looked at last. Asks no database: it may take long."""
    since = sequence.rings_since or now
    low = sequence.looked_until or since
    if isinstance(plan.start, OnEvent):
        # what happens in the very second in which it is published belongs to it: nobody is lost in between
        low = max(since - SECOND, low - LOOK_BACK)
    return trigger_hits(plan.start, known.snapshot, int(low.timestamp()), int(now.timestamp()), around)


def enrol(
    session: Session,
    sequence: schema.Sequence,
    tree: Tree,
    known: SequenceHistory,
    cross: Sequence[TriggerHit],
) -> int:
    """Writes an enrolment for each crossing that is new, in order of time. Returns how many."""
    fresh = _new(session, sequence.id, known, cross)
    if not fresh:
        return 0
    before = _before(session, sequence.id, {known.ids[one.person] for one in fresh})
    about = PersonFacts(known, lambda person: (), lambda person, step, did: False)
    rows = [_row(sequence, tree, about, one, before) for one in fresh]
    kept = [row for row in rows if not (row["state"] == KEPT_OUT and row["key"].startswith(EVERY_DAY))]
    if kept:
        session.execute(insert(Enrolment), kept)
    return len(kept)


def _new(
    session: Session, sequence_id: int, known: SequenceHistory, cross: Sequence[TriggerHit]
) -> list[TriggerHit]:
    """Those not seen before, whatever became of them then; each person once for a key."""
    if not cross:
        return []
    keys = {one.key for one in cross}
    first = instant(min(one.at for one in cross)) - timedelta(days=1)
    known_of = Enrolment.key.in_(keys) if len(keys) == 1 else Enrolment.entered_at >= first
    query = select(Enrolment.person_id, Enrolment.key).where(Enrolment.sequence_id == sequence_id, known_of)
    seen = {(person, key) for person, key in session.execute(query)}
    found = []
    for one in cross:
        mark = (known.ids[one.person], one.key)
        if mark not in seen:
            seen.add(mark)
            found.append(one)
    return found


def _before(session: Session, sequence_id: int, people: set[int]) -> defaultdict[int, list[int]]:
    """When each of the people came in earlier, ascending."""
    found: defaultdict[int, list[int]] = defaultdict(list)
    query = (
        select(Enrolment.person_id, Enrolment.entered_at)
        .where(Enrolment.sequence_id == sequence_id, Enrolment.state != KEPT_OUT)
        .order_by(Enrolment.entered_at)
    )
    for person, entered in session.execute(query):
        if person in people:
            found[person].append(int(entered.timestamp()))
    return found


def _row(
    sequence: schema.Sequence,
    tree: Tree,
    about: PersonFacts,
    one: TriggerHit,
    before: defaultdict[int, list[int]],
) -> dict[str, Any]:
    about.turn(sequence.key, one.person, one.at)
    person = about.person_id
    why = entry_refusal(tree.plan, one, before[person], about)
    position = first_position(tree, one, about)
    if why is None:
        before[person].append(one.at)
    went = KEPT_OUT if why else position.state
    here = went == UNDER_WAY
    at = instant(one.at)
    return {
        "sequence_id": sequence.id,
        "version_id": sequence.live_version_id,
        "person_id": person,
        "key": one.key,
        "anchor_at": instant(one.anchor),
        "entered_at": at,
        "state": went,
        "cause": why,
        "step": position.step if here else None,
        "due_at": at if here else None,
        "settled": False,
        "sent": "",
        "trail": [],
        "ended_at": None if here else at,
    }


def bring(
    session: Session,
    sequence: schema.Sequence,
    tree: Tree,
    known: SequenceHistory,
    people: Iterable[int],
    key: str,
    now: datetime,
    pace: Pace | None = None,
) -> int:
    """Brings people in by their ids, all at ``now`` or paced. Their way begins when their batch is let in."""
    numbers = {at: number for number, at in enumerate(known.ids)}
    chosen = [numbers[one] for one in dict.fromkeys(people) if one in numbers]
    start = int(now.timestamp())
    if pace is None:
        cross = [TriggerHit(start, person, key, start) for person in chosen]
    else:
        zone = zone_of(known.snapshot.zone)
        times = list(islice(instants(start, pace, zone), -(-len(chosen) // pace.batch)))
        cross = [
            TriggerHit(times[at // pace.batch], person, key, times[at // pace.batch])
            for at, person in enumerate(chosen)
        ]
    return enrol(session, sequence, tree, known, cross)
