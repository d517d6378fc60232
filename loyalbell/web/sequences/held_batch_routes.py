"""What the volume guard holds: what, how many, why it is odd, who; and a person's word on it."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.core.sequences import plan as p
from loyalbell.services import approvals
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.services.sequences import volume_guard
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of
from loyalbell.web.sequences import editor_rail as rail

router = APIRouter()


@router.get("/held")
def held_list(context: RequestContext = SignedIn) -> Response:
    rows = sequence_queries.held_batches(context.application)
    return context.page("sequences/held.html", "sequences", rows=rows)


@router.get("/held/{batch_id}")
def held_one(batch_id: int, context: RequestContext = SignedIn) -> Response:
    view = sequence_queries.held_batch(context.application, batch_id)
    if view is None:
        raise NotFound("No such held batch is on file.")
    names = sequence_queries.plan_names(context.application)
    plan = sequence_queries.live_plan(context.application, view.sequence)
    steps = {one.id: rail.short_step(one, names) for one in p.every_step(plan.steps)} if plan else {}
    return context.page(
        "sequences/held_batch.html",
        "sequences",
        batch=view.batch,
        sequence=view.sequence,
        total=view.total,
        count=view.waiting,
        by_step=view.by_step,
        some=view.some,
        steps=steps,
    )


def _going(context: RequestContext, batch_id: int, release: int | None) -> int:
    """How many messages a decision lets go."""
    if release is not None:
        return release
    view = sequence_queries.held_batch(context.application, batch_id)
    return view.waiting if view else 0


@router.post("/held/{batch_id}")
def decide(batch_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    word = text_of(form, "word")
    release = {"all": None, "drop": 0}.get(word, number_of(form, "some") or 0)
    if word == "some" and not release:
        return context.problem("Say how many may go.")
    going = _going(context, batch_id, release)
    if approvals.must_ask(context.application, context.visitor, going):
        return context.problem("To let so many go at once needs an owner. Ask one to look at it.")
    is_usual = bool(text_of(form, "usual"))
    volume_guard.decide(context.application, batch_id, release, context.by, is_usual)
    context.wake()
    return context.go(f"/held/{batch_id}" if word == "some" else "/held")
