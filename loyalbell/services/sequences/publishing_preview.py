"""Making a draft the version that rings, and what that changes for whom; pausing, resuming, stopping."""

from collections import Counter
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.sequences.plan import Plan, every_step, plan_or_none
from loyalbell.core.sequences.triggers import beyond
from loyalbell.core.sequences.walk import FINISHED, UNDER_WAY
from loyalbell.services.application import Application
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.services.sequences.shop_policy import around_of, live_version, send_policy_of
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment, Shop

LEAVES = "leaves"


@dataclass(frozen=True)
class Change:
    """What publishing a draft changes.

    ``gone`` are steps of the live version that the draft no longer has, with the people who stand at each;
    ``added`` are steps at the end that those who ``finished`` would not get; ``under_way`` are people by
    step.
    """

    live_number: int | None
    under_way: dict[str, int]
    gone: dict[str, int]
    added: list[str]
    finished: int
    left: int
    beyond: int


def change(application: Application, sequence_id: int, plan: Plan | None = None) -> Change:
    """Of its draft, or of another ``plan`` that is to ring in its place."""
    now = application.clock.now()
    with application.database.reading() as session:
        sequence = session.get_one(schema.Sequence, sequence_id)
        draft = plan or draft_of(sequence)
        states = Counter(
            dict(
                session.execute(
                    select(Enrolment.state, func.count())
                    .where(Enrolment.sequence_id == sequence_id)
                    .group_by(Enrolment.state)
                ).all()
            )
        )
        here = _standing(session, sequence_id)
        live = live_version(session, sequence)
        policy = send_policy_of(session, session.get_one(Shop, 1), now)
        around = around_of(session, policy)
    ids = [one.id for one in every_step(draft.steps)]
    before = plan_or_none(live.plan) if live else None
    old = [one.id for one in every_step(before.steps)] if before else []
    first = sequence.state == "draft"
    past = len(beyond(draft, application.snapshot(), int(now.timestamp()), around)) if first else 0
    return Change(
        live_number=live.number if live else None,
        under_way={step: count for step, count in here.items() if step in ids},
        gone={step: here.get(step, 0) for step in old if step not in ids},
        added=_added(draft, old) if live else [],
        finished=states[FINISHED],
        left=states["left"] + states["taken out"],
        beyond=past,
    )


def _standing(session: Session, sequence_id: int) -> dict[str, int]:
    query = (
        select(Enrolment.step, func.count())
        .where(
            Enrolment.sequence_id == sequence_id, Enrolment.state == UNDER_WAY, Enrolment.step.is_not(None)
        )
        .group_by(Enrolment.step)
    )
    return {str(step): count for step, count in session.execute(query)}


def _added(draft: Plan, old: list[str]) -> list[str]:
    """The new steps that stand at the outermost end."""
    found: list[str] = []
    for step in reversed(draft.steps):
        if step.id in old:
            break
        found.insert(0, step.id)
    return found if len(found) < len(draft.steps) else []
