"""One customer's page, its diary, and changing what is on file in its place."""

from collections.abc import Callable, Mapping
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from starlette.datastructures import FormData

from loyalbell.services.accounts.permissions import Permission
from loyalbell.services.application import Application
from loyalbell.services.customers import commands as customer_commands
from loyalbell.services.customers import duplicates, profile, reachability
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.customers.person_edit import NotKept
from loyalbell.services.customers.profile import CustomerPage
from loyalbell.services.customers.timeline import KINDS
from loyalbell.services.results.of_orders import credited_orders
from loyalbell.web.request import Form, NotFound, RequestContext, SignedIn, number_of, text_of
from loyalbell.web.sequences.customer_enrolments import enrolment_lines_of

router = APIRouter()
SHOWN = 100
PARTS = ("who", "reach", "marks", "dates", "companions", "fields", "ids", "tags")
MOST_ROWS = 40


def _page(context: RequestContext, person_id: int, kinds: set[str] | None = None) -> CustomerPage:
    said = credited_orders(context.application, person_id) if not kinds or "order" in kinds else {}
    page = profile.page_of(context.application, person_id, kinds, said)
    if page is None:
        raise NotFound("No such customer is on file.")
    return page


def _diary_values(context: RequestContext, page: CustomerPage) -> dict[str, Any]:
    chosen = [kind for kind in context.request.query_params.getlist("kind") if kind in KINDS]
    shown = context.request.query_params.get("shown", "")
    most = min(int(shown), 100_000) if shown.isdecimal() else SHOWN
    return {"page": page, "kinds": KINDS, "chosen": chosen, "most": most, "step": SHOWN}


@router.get("/customers/{person_id}")
def person(person_id: int, context: RequestContext = SignedIn) -> Response:
    chosen = {kind for kind in context.request.query_params.getlist("kind") if kind in KINDS}
    page = _page(context, person_id, chosen or None)
    values = _diary_values(context, page) | {"editing": "", "typed": {}, "part_problem": None}
    if context.request.headers.get("HX-Target") == "diary":
        return HTMLResponse(context.piece("customers/timeline.html", **values))
    said = context.request.query_params.get("said", "")[:200]
    values["event_kinds"] = customer_queries.kinds_of_events(context.application)
    values["details"] = context.may(Permission.DETAILS)
    values["ways"] = enrolment_lines_of(context, person_id)
    return context.page("customers/customer.html", "customers", said=said, **values)


@router.get("/customers/{person_id}/part/{part}")
def show_part(person_id: int, part: str, context: RequestContext = SignedIn, edit: str = "") -> Response:
    return _part(context, person_id, part, bool(edit))


def _part(
    context: RequestContext,
    person_id: int,
    part: str,
    editing: bool,
    problem: str | None = None,
    typed: Mapping[str, Any] | None = None,
) -> Response:
    if part not in PARTS:
        raise NotFound("There is no such part of the page.")
    values = {
        "page": _page(context, person_id, {"note"}),
        "editing": part if editing else "",
        "typed": typed or {},
        "part_problem": problem,
    }
    return HTMLResponse(context.piece(f"customers/part_{part}.html", **values))


@router.post("/customers/{person_id}/part/{part}")
def save_part(
    person_id: int, part: str, context: RequestContext = SignedIn, form: FormData = Form
) -> Response:
    """The part as it is now; or, where something is wrong, as it was typed, with the reason."""
    if part not in SAVES:
        raise NotFound("There is no such part of the page.")
    try:
        if part == "reach" and not context.may(Permission.DETAILS):
            _only_refusals(form)
        SAVES[part](context.application, person_id, form, context.by)
    except NotKept as problem:
        return _part(context, person_id, part, True, str(problem), form)
    response = _part(context, person_id, part, False)
    response.headers["HX-Trigger"] = "customer-changed"
    return response


def _only_refusals(form: FormData) -> None:
    """What a customer does not want is kept by anybody at once; what they agree to, by who answers for it.
    Raises ``NotKept``.
    """
    if text_of(form, "act") != "suppress" and text_of(form, "state") != "refused":
        raise NotKept(
            "Your role keeps only that somebody does not want messages. Who wants them signs up on the"
            " sign-up page, or asks a marketer."
        )


def _save_who(application: Application, person_id: int, form: FormData, by: str) -> None:
    given = {name: text_of(form, name) for name in customer_commands.LABELS if name in form}
    customer_commands.change_person(application, person_id, given, by)


def _save_reach(application: Application, person_id: int, form: FormData, by: str) -> None:
    act, channel = text_of(form, "act"), text_of(form, "channel")
    if act == "suppress":
        reachability.suppress(application, person_id, channel, by)
    elif act == "lift":
        reachability.lift(application, person_id, number_of(form, "suppression") or 0, by)
    else:
        said = [text_of(form, name) for name in ("state", "source", "wording")]
        reachability.say_consent(application, person_id, channel, said[0], said[1], said[2], by)


def _save_marks(application: Application, person_id: int, form: FormData, by: str) -> None:
    customer_commands.change_marks(
        application, person_id, {name: text_of(form, name) for name in customer_commands.MARKS}, by
    )


def _numbered(form: FormData, *names: str) -> list[tuple[str, ...]]:
    """Rows of fields called ``name-0``, ``name-1`` and so on."""
    rows = range(MOST_ROWS)
    return [
        tuple(text_of(form, f"{name}-{at}") for name in names) for at in rows if f"{names[0]}-{at}" in form
    ]


def _save_dates(application: Application, person_id: int, form: FormData, by: str) -> None:
    yearly = {name: day for name, day in _numbered(form, "name", "day") if name}
    customer_commands.change_dates(application, person_id, text_of(form, "birthday"), yearly, by)


def _save_companions(application: Application, person_id: int, form: FormData, by: str) -> None:
    rows = _numbered(form, "name", "kind", "born", "id")
    given = [(int(at) if at.isdecimal() else None, name, kind, born) for name, kind, born, at in rows]
    customer_commands.change_companions(application, person_id, given, by)


def _save_fields(application: Application, person_id: int, form: FormData, by: str) -> None:
    given: dict[int, str] = {}
    for name in form:
        at = name.removeprefix("field-")
        if name.startswith("field-") and at.isdecimal():
            given[int(at)] = "; ".join(str(one) for one in form.getlist(name) if str(one).strip())
    customer_commands.change_fields(application, person_id, given, by)


def _save_ids(application: Application, person_id: int, form: FormData, by: str) -> None:
    given = [(source, value) for value, source in _numbered(form, "value", "source")]
    customer_commands.change_ids(application, person_id, given, by)


def _save_tags(application: Application, person_id: int, form: FormData, by: str) -> None:
    tag_id = number_of(form, "remove")
    if tag_id is not None:
        customer_commands.remove_tag(application, person_id, tag_id, by)
    else:
        customer_commands.add_tag(application, person_id, text_of(form, "tag"), by)


SAVES: dict[str, Callable[[Application, int, FormData, str], None]] = {
    "who": _save_who,
    "reach": _save_reach,
    "marks": _save_marks,
    "dates": _save_dates,
    "companions": _save_companions,
    "fields": _save_fields,
    "ids": _save_ids,
    "tags": _save_tags,
}


@router.post("/customers/{person_id}/events")
def add_event(person_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        customer_commands.add_event(context.application, person_id, text_of(form, "kind"), context.by)
    except NotKept as problem:
        return context.problem(str(problem))
    context.wake()
    return context.go(f"/customers/{person_id}")


@router.post("/customers/{person_id}/notes")
def add_note(person_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    try:
        customer_commands.add_note(context.application, person_id, text_of(form, "text"), context.by)
    except NotKept as problem:
        return context.problem(str(problem))
    return context.go(f"/customers/{person_id}")


@router.post("/customers/{person_id}/part-again/{merge_id}")
def part_again(person_id: int, merge_id: int, context: RequestContext = SignedIn) -> Response:
    try:
        other = duplicates.part_again(context.application, merge_id, context.by)
    except duplicates.CannotMerge as problem:
        return context.problem(str(problem))
    return context.go(f"/customers/{other}?said=Parted+again.")
