"""One customer's page, its diary, and changing what is on file in its place."""

from collections.abc import Callable, Mapping
from typing import Any

from fastapi import APIRouter
from fastapi.responses import HTMLResponse, Response
from starlette.datastructures import FormData

from loyalbell.desk import customer, customer_edit, customer_reach, duplicates
from loyalbell.desk.customer import CustomerPage
from loyalbell.desk.desk import Desk
from loyalbell.desk.diary import KINDS
from loyalbell.desk.person_edit import NotKept
from loyalbell.web.sequence_places import ways_of
from loyalbell.web.visit import Form, NotFound, SignedIn, Visit, number_of, text_of

router = APIRouter()
SHOWN = 100
PARTS = ("who", "reach", "marks", "dates", "companions", "fields", "ids", "tags")
MOST_ROWS = 40


def _page(visit: Visit, person_id: int, kinds: set[str] | None = None) -> CustomerPage:
    page = customer.page_of(visit.desk, person_id, kinds)
    if page is None:
        raise NotFound("No such customer is on file.")
    return page


def _diary_values(visit: Visit, page: CustomerPage) -> dict[str, Any]:
    chosen = [kind for kind in visit.request.query_params.getlist("kind") if kind in KINDS]
    shown = visit.request.query_params.get("shown", "")
    most = min(int(shown), 100_000) if shown.isdigit() else SHOWN
    return {"page": page, "kinds": KINDS, "chosen": chosen, "most": most, "step": SHOWN}


@router.get("/customers/{person_id}")
def person(person_id: int, visit: Visit = SignedIn) -> Response:
    chosen = {kind for kind in visit.request.query_params.getlist("kind") if kind in KINDS}
    page = _page(visit, person_id, chosen or None)
    values = _diary_values(visit, page) | {"editing": "", "typed": {}, "part_problem": None}
    if visit.request.headers.get("HX-Target") == "diary":
        return HTMLResponse(visit.piece("customers/diary.html", **values))
    said = visit.request.query_params.get("said", "")[:200]
    values["ways"] = ways_of(visit, person_id)
    return visit.page("customers/customer.html", "customers", said=said, **values)


@router.get("/customers/{person_id}/part/{part}")
def show_part(person_id: int, part: str, visit: Visit = SignedIn, edit: str = "") -> Response:
    return _part(visit, person_id, part, bool(edit))


def _part(
    visit: Visit,
    person_id: int,
    part: str,
    editing: bool,
    problem: str | None = None,
    typed: Mapping[str, Any] | None = None,
) -> Response:
    if part not in PARTS:
        raise NotFound("There is no such part of the page.")
    values = {
        "page": _page(visit, person_id, {"note"}),
        "editing": part if editing else "",
        "typed": typed or {},
        "part_problem": problem,
    }
    return HTMLResponse(visit.piece(f"customers/part_{part}.html", **values))


@router.post("/customers/{person_id}/part/{part}")
def save_part(person_id: int, part: str, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    """The part as it is now; or, where something is wrong, as it was typed, with the reason."""
    if part not in SAVES:
        raise NotFound("There is no such part of the page.")
    try:
        SAVES[part](visit.desk, person_id, form, visit.by)
    except NotKept as problem:
        return _part(visit, person_id, part, True, str(problem), form)
    response = _part(visit, person_id, part, False)
    response.headers["HX-Trigger"] = "customer-changed"
    return response


def _save_who(desk: Desk, person_id: int, form: FormData, by: str) -> None:
    given = {name: text_of(form, name) for name in customer_edit.LABELS if name in form}
    customer_edit.change_person(desk, person_id, given, by)


def _save_reach(desk: Desk, person_id: int, form: FormData, by: str) -> None:
    act, channel = text_of(form, "act"), text_of(form, "channel")
    if act == "suppress":
        customer_reach.suppress(desk, person_id, channel, by)
    elif act == "lift":
        customer_reach.lift(desk, person_id, number_of(form, "suppression") or 0, by)
    else:
        said = [text_of(form, name) for name in ("state", "source", "wording")]
        customer_reach.say_consent(desk, person_id, channel, said[0], said[1], said[2], by)


def _save_marks(desk: Desk, person_id: int, form: FormData, by: str) -> None:
    customer_edit.change_marks(
        desk, person_id, {name: text_of(form, name) for name in customer_edit.MARKS}, by
    )


def _numbered(form: FormData, *names: str) -> list[tuple[str, ...]]:
    """Rows of fields called ``name-0``, ``name-1`` and so on."""
    rows = range(MOST_ROWS)
    return [
        tuple(text_of(form, f"{name}-{at}") for name in names) for at in rows if f"{names[0]}-{at}" in form
    ]


def _save_dates(desk: Desk, person_id: int, form: FormData, by: str) -> None:
    yearly = {name: day for name, day in _numbered(form, "name", "day") if name}
    customer_edit.change_dates(desk, person_id, text_of(form, "birthday"), yearly, by)


def _save_companions(desk: Desk, person_id: int, form: FormData, by: str) -> None:
    rows = _numbered(form, "name", "kind", "born", "id")
    given = [(int(at) if at.isdigit() else None, name, kind, born) for name, kind, born, at in rows]
    customer_edit.change_companions(desk, person_id, given, by)


def _save_fields(desk: Desk, person_id: int, form: FormData, by: str) -> None:
    given: dict[int, str] = {}
    for name in form:
        at = name.removeprefix("field-")
        if name.startswith("field-") and at.isdigit():
            given[int(at)] = "; ".join(str(one) for one in form.getlist(name) if str(one).strip())
    customer_edit.change_fields(desk, person_id, given, by)


def _save_ids(desk: Desk, person_id: int, form: FormData, by: str) -> None:
    given = [(source, value) for value, source in _numbered(form, "value", "source")]
    customer_edit.change_ids(desk, person_id, given, by)


def _save_tags(desk: Desk, person_id: int, form: FormData, by: str) -> None:
    tag_id = number_of(form, "remove")
    if tag_id is not None:
        customer_edit.remove_tag(desk, person_id, tag_id, by)
    else:
        customer_edit.add_tag(desk, person_id, text_of(form, "tag"), by)


SAVES: dict[str, Callable[[Desk, int, FormData, str], None]] = {
    "who": _save_who,
    "reach": _save_reach,
    "marks": _save_marks,
    "dates": _save_dates,
    "companions": _save_companions,
    "fields": _save_fields,
    "ids": _save_ids,
    "tags": _save_tags,
}


@router.post("/customers/{person_id}/notes")
def add_note(person_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    try:
        customer_edit.add_note(visit.desk, person_id, text_of(form, "text"), visit.by)
    except NotKept as problem:
        return visit.problem(str(problem))
    return visit.go(f"/customers/{person_id}")


@router.post("/customers/{person_id}/part-again/{merge_id}")
def part_again(person_id: int, merge_id: int, visit: Visit = SignedIn) -> Response:
    try:
        other = duplicates.part_again(visit.desk, merge_id, visit.by)
    except duplicates.CannotMerge as problem:
        return visit.problem(str(problem))
    return visit.go(f"/customers/{other}?said=Parted+again.")
