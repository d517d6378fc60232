"""What the volume guard holds: what, how many, why it is odd, who; and a person's word on it."""

from fastapi import APIRouter
from fastapi.responses import Response
from sqlalchemy import func, select
from sqlalchemy.orm import Session
from starlette.datastructures import FormData

from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.plan import read_plan
from loyalbell.desk.sequences import guarding
from loyalbell.store import tables
from loyalbell.store.tables import HeldBatch, Person, SequenceVersion, Touch
from loyalbell.web import sequence_rail as rail
from loyalbell.web import sequence_sheet as sheet
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()


@router.get("/held")
def held_list(visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        rows = [
            (batch, session.get(tables.Sequence, batch.origin_id), *_counts(session, batch.id))
            for batch in session.scalars(
                select(HeldBatch).order_by(HeldBatch.state != "held", HeldBatch.id.desc())
            )
        ]
    return visit.page("sequences/held.html", "sequences", rows=rows)


def _counts(session: Session, batch_id: int) -> tuple[int, int]:
    """How many messages were put into a batch, and how many of them still wait in it."""
    query = select(Touch.state, func.count()).where(Touch.held_batch_id == batch_id).group_by(Touch.state)
    counted = {state: count for state, count in session.execute(query)}
    return sum(counted.values()), counted.get("held", 0)


@router.get("/held/{batch_id}")
def held_one(batch_id: int, visit: Visit = SignedIn) -> Response:
    with visit.desk.book.reading() as session:
        batch = session.get(HeldBatch, batch_id)
        if batch is None:
            raise NotFound("No such held batch is on file.")
        sequence = session.get_one(tables.Sequence, batch.origin_id)
        names = sheet.names_of(visit, session)
        total, waiting = _counts(session, batch_id)
        looked_at = [Touch.held_batch_id == batch_id]
        if batch.state == "held":
            looked_at.append(Touch.state == "held")
        by_step = session.execute(select(Touch.step, Touch.channel, func.count()).where(*looked_at).group_by(Touch.step, Touch.channel)).all()  # fmt: skip
        some = list(session.scalars(select(Person).join(Touch, Touch.person_id == Person.id).where(*looked_at).order_by(Touch.id).limit(12)))  # fmt: skip
        version = session.get(SequenceVersion, sequence.live_version_id) if sequence.live_version_id else None
    steps = (
        {one.id: rail.short_step(one, names) for one in p.every_step(read_plan(version.plan).steps)}
        if version
        else {}
    )
    return visit.page("sequences/held_batch.html", "sequences", batch=batch, sequence=sequence, total=total, count=waiting, by_step=by_step, some=some, steps=steps)  # fmt: skip


@router.post("/held/{batch_id}")
def decide(batch_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    word = text_of(form, "word")
    release = {"all": None, "drop": 0}.get(word, number_of(form, "some") or 0)
    if word == "some" and not release:
        return visit.problem("Say how many may go.")
    guarding.decide(visit.desk, batch_id, release, visit.by)
    visit.wake()
    return visit.go(f"/held/{batch_id}" if word == "some" else "/held")
