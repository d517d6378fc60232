"""Adding those who were past the line of a sequence before it began to send."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.core.clock.pacing import NeverOpens
from loyalbell.services import approvals
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.sequences import manual_entry
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.services.sequences.enrolment import BEYOND
from loyalbell.services.sequences.left_out import left_out
from loyalbell.web.request import Form, RequestContext, SignedIn, number_of
from loyalbell.web.sequences.forms import read_pace
from loyalbell.web.sequences.lookup import sequence_of

router = APIRouter()
NAMED = 12
CHANGED = "Their number has changed meanwhile. Look again, then add them."


@router.get("/sequences/{sequence_id:int}/left-out")
def page(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    return _page(context, sequence_id)


@router.post("/sequences/{sequence_id:int}/left-out")
def add(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    ids = _ids(context, sequence_id)
    if number_of(form, "people") != len(ids):
        return _page(context, sequence_id, CHANGED)
    if approvals.must_ask(context.application, context.visitor, len(ids)):
        return _page(context, sequence_id, "To add so many at once needs an owner. Ask one to do it.")
    try:
        pace = read_pace(form)
        manual_entry.bring_by_hand(context.application, sequence_id, ids, pace, context.by, key=BEYOND)
    except (SequenceProblem, NeverOpens) as problem:
        return _page(context, sequence_id, str(problem))
    except ValueError:
        return _page(context, sequence_id, "An hour or a number is not one. Look at what you typed.")
    context.wake()
    return context.go(f"/sequences/{sequence_id}/live")


def _ids(context: RequestContext, sequence_id: int) -> list[int]:
    sequence, application = sequence_of(context, sequence_id), context.application
    plan = sequence_queries.live_plan(application, sequence)
    if plan is None or sequence.state != "live":
        return []
    ids: list[int] = application.snapshot().people.ids[left_out(application, sequence_id, plan)].tolist()
    return ids


def _page(context: RequestContext, sequence_id: int, problem: str = "") -> Response:
    ids = _ids(context, sequence_id)
    people = customer_queries.people_by_id(context.application, ids[:NAMED])
    return context.page(
        "sequences/left_out.html",
        "sequences",
        422 if problem else 200,
        sequence=sequence_of(context, sequence_id),
        count=len(ids),
        shown=[people[one] for one in ids[:NAMED] if one in people],
        problem=problem,
    )
