"""What the volume guard holds: what, how many, why it is odd, who; and a person's word on it."""

from fastapi import APIRouter
from fastapi.responses import Response
from sqlalchemy import func, select
from sqlalchemy.orm import Session
from starlette.datastructures import FormData

from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.sequences import volume_guard
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, HeldBatch, Person, SequenceVersion
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of
from loyalbell.web.sequences import editor_rail as rail
from loyalbell.web.sequences import views as sheet

router = APIRouter()


@router.get("/held")
def held_list(context: RequestContext = SignedIn) -> Response:
    with context.application.database.reading() as session:
        rows = [
            (batch, session.get(schema.Sequence, batch.origin_id), *_counts(session, batch.id))
            for batch in session.scalars(
                select(HeldBatch).order_by(HeldBatch.state != "held", HeldBatch.id.desc())
            )
        ]
    return context.page("sequences/held.html", "sequences", rows=rows)


def _counts(session: Session, batch_id: int) -> tuple[int, int]:
    """How many messages were put into a batch, and how many of them still wait in it."""
    query = (
        select(Delivery.state, func.count())
        .where(Delivery.held_batch_id == batch_id)
        .group_by(Delivery.state)
    )
    counted = {state: count for state, count in session.execute(query)}
    return sum(counted.values()), counted.get("held", 0)


@router.get("/held/{batch_id}")
def held_one(batch_id: int, context: RequestContext = SignedIn) -> Response:
    with context.application.database.reading() as session:
        batch = session.get(HeldBatch, batch_id)
        if batch is None:
            raise NotFound("No such held batch is on file.")
        sequence = session.get_one(schema.Sequence, batch.origin_id)
        names = sheet.names_of(context, session)
        total, waiting = _counts(session, batch_id)
        looked_at = [Delivery.held_batch_id == batch_id]
        if batch.state == "held":
            looked_at.append(Delivery.state == "held")
        by_step = session.execute(select(Delivery.step, Delivery.channel, func.count()).where(*looked_at).group_by(Delivery.step, Delivery.channel)).all()  # fmt: skip
        some = list(session.scalars(select(Person).join(Delivery, Delivery.person_id == Person.id).where(*looked_at).order_by(Delivery.id).limit(12)))  # fmt: skip
        version = session.get(SequenceVersion, sequence.live_version_id) if sequence.live_version_id else None
    steps = (
        {one.id: rail.short_step(one, names) for one in p.every_step(read_plan(version.plan).steps)}
        if version
        else {}
    )
    return context.page("sequences/held_batch.html", "sequences", batch=batch, sequence=sequence, total=total, count=waiting, by_step=by_step, some=some, steps=steps)  # fmt: skip


@router.post("/held/{batch_id}")
def decide(batch_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    word = text_of(form, "word")
    release = {"all": None, "drop": 0}.get(word, number_of(form, "some") or 0)
    if word == "some" and not release:
        return context.problem("Say how many may go.")
    volume_guard.decide(context.application, batch_id, release, context.by)
    context.wake()
    return context.go(f"/held/{batch_id}" if word == "some" else "/held")
