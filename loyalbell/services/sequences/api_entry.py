"""People whom other programs bring into a sequence."""

from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.sequences.entry import OUT_WORDS
from loyalbell.services.application import Application
from loyalbell.services.integrations.api_ingest import Pushed, named_in
from loyalbell.services.sequences.enrolment import KEPT_OUT
from loyalbell.services.sequences.manual_entry import bring_in
from loyalbell.storage.schema import Enrolment


def bring_named(
    application: Application,
    session: Session,
    snapshot: HistorySnapshot,
    sequence_id: int,
    people: Sequence[dict[str, Any]],
    reason: str | None,
    program: str,
) -> Pushed:
    """Each person once for a ``reason``; without one, each request is its own. Raises ``SequenceProblem``."""
    key = f"by a program: {reason or application.clock.now().isoformat()}"
    numbers = named_in(session, people)
    on_file = set(snapshot.people.ids.tolist())
    before = _ways(session, sequence_id, key)
    bring_in(
        application, session, snapshot, sequence_id, [one for one in numbers if one is not None], key, program
    )
    after, pushed = _ways(session, sequence_id, key), Pushed()
    for at, person in enumerate(numbers):
        if person is None or person not in on_file:
            pushed.refused.append((at, "nobody on file is named so"))
        elif after[person][0] == KEPT_OUT:
            pushed.refused.append((at, OUT_WORDS.get(after[person][1] or "", "stays out")))
        elif person in before or person in numbers[:at]:
            pushed.unchanged += 1
        else:
            pushed.created += 1
    return pushed


def _ways(session: Session, sequence_id: int, key: str) -> dict[int, tuple[str, str | None]]:
    query = select(Enrolment.person_id, Enrolment.state, Enrolment.cause).where(
        Enrolment.sequence_id == sequence_id, Enrolment.key == key
    )
    return {person: (state, cause) for person, state, cause in session.execute(query)}
