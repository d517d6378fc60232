"""The guide of a new shop: what is done, what comes next, and the acts that need no page of their own."""

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.core.segments.conditions.orders import OrdersCondition
from loyalbell.core.segments.model import Group, Rule
from loyalbell.services.guide import steps as guide
from loyalbell.services.imports import queries as import_queries
from loyalbell.services.segments import commands as segment_commands
from loyalbell.services.sequences import sequence_templates
from loyalbell.web.imports.routes import STATE_WORDS
from loyalbell.web.request import Form, RequestContext, SignedIn, number_of, text_of

router = APIRouter()
LONGEST_LINE = 3_650


@router.get("/guide")
def page(context: RequestContext = SignedIn) -> Response:
    application = context.application
    found = guide.steps(application)
    return context.page(
        "guide/guide.html",
        "",
        steps=found,
        next=next((step for step in found if not step.is_done), None),
        people=guide.found_people(application),
        waiting=import_queries.in_order(import_queries.newest_runs(application)),
        states=STATE_WORDS,
    )


@router.post("/guide/segment")
def make_segment(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    """The customers past a line of days since their last order."""
    days = _line(form)
    rule = Rule(root=Group(lines=[OrdersCondition(measure="last", comparison="at least", value=days)]))
    name = f"Away {days} days or longer"
    there = guide.segment_named(context.application, name)
    made = there or segment_commands.keep(context.application, None, name, rule, context.by)
    return context.go(f"/segments/{made}")


@router.post("/guide/sequence")
def make_sequence(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    made = sequence_templates.make_win_back(context.application, _line(form), context.by)
    return context.go(f"/sequences/{made}")


@router.post("/guide/close")
def close(context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    guide.close(context.application, text_of(form, "closed", "1") == "1")
    return context.go("/")


def _line(form: FormData) -> int:
    return min(max(number_of(form, "days") or guide.RULE_OF_THUMB, 1), LONGEST_LINE)
