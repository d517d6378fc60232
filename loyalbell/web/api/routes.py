"""The addresses under /api/v1."""

import hashlib
import json
from collections.abc import Sequence
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Header, Path, Query, Request
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field, ValidationError, create_model

from loyalbell.core.clock.local_time import local_day
from loyalbell.core.history.money import minor_digits
from loyalbell.services.application import Application, UnitOfWork
from loyalbell.services.customers import profile
from loyalbell.services.integrations import api_ingest, api_tokens, idempotency
from loyalbell.services.results.export import values_of
from loyalbell.services.results.overview import overview
from loyalbell.services.results.ranges import RANGES, USUAL, RangeProblem, days_of
from loyalbell.services.sequences.api_entry import bring_named
from loyalbell.services.sequences.drafts import SequenceProblem
from loyalbell.storage.schema import ApiToken
from loyalbell.web.api import models
from loyalbell.web.api.models import MOST_RECORDS, Problem, Result
from loyalbell.web.api.problems import ApiProblem, fields_of

PROBLEMS: dict[int | str, dict[str, Any]] = {
    status: {"model": Problem, "description": words, "content": {"application/problem+json": {}}}
    for status, words in {
        400: "The body is not JSON, or a header is wrong.",
        401: "No token, or one that is not known.",
        403: "The token may not do this.",
        409: "The idempotency key came with another request before.",
        413: "More than the interface takes at once.",
        415: "The body is of another kind.",
        422: "Something in the request is not as described, or the one record sent was refused.",
        429: "Too many requests; Retry-After says how long to wait.",
    }.items()
}
router = APIRouter(responses=PROBLEMS)
KeyHeader = Annotated[
    str | None,
    Header(
        alias="Idempotency-Key",
        max_length=200,
        description=(
            "A request sent again with the same key within two days is answered as before and not carried out"
            " twice."
        ),
    ),
]


def application_of(request: Request) -> Application:
    application: Application = request.app.state.application
    return application


def allowed(scope: str) -> Any:
    """A dependency: the token of the request, which must have the scope. Raises ``ApiProblem``."""

    def check(request: Request) -> ApiToken:
        given = request.headers.get("Authorization", "")
        kind, _, text = given.partition(" ")
        found = (
            api_tokens.find_token(application_of(request), text.strip())
            if kind.casefold() == "bearer"
            else None
        )
        if found is None:
            raise ApiProblem(
                401, "Send a token that is in use: Authorization: Bearer lb_…", {"WWW-Authenticate": "Bearer"}
            )
        wait = request.app.state.rate.take(found.id)
        if wait:
            raise ApiProblem(
                429, "Too many requests. Wait a moment.", {"Retry-After": str(max(1, round(wait)))}
            )
        if scope not in found.scopes:
            raise ApiProblem(403, f"The token “{found.name}” may not {api_tokens.SCOPES[scope]}.")
        return found

    return Depends(check)


def take(
    request: Request, token: ApiToken, kind: str, records: Sequence[BaseModel], key: str | None, single: bool
) -> JSONResponse:
    """Writes the records and keeps the answer under the key, in one transaction."""
    plain = [record.model_dump(exclude_none=True) for record in records]
    application = application_of(request)

    def write(session: UnitOfWork) -> tuple[int, dict[str, Any]]:
        return _answer(api_ingest.take_records(application, session, kind, plain, token.name), single)

    return _once(application, token, [kind, single, plain], key, write)


def _once(
    application: Application, token: ApiToken, said: list[Any], key: str | None, write: idempotency.Write
) -> JSONResponse:
    """Carries a request out, once for its key. Raises ``ApiProblem``."""
    try:
        answered = idempotency.once(application, token, said, key, write)
    except idempotency.KeyReused as problem:
        words = "This idempotency key came with another request before. Use a new key."
        raise ApiProblem(409, words) from problem
    return _json(
        answered.status, answered.body, {"Idempotent-Replayed": "true"} if answered.replayed else None
    )


def _answer(pushed: api_ingest.Pushed, single: bool) -> tuple[int, dict[str, Any]]:
    if single and pushed.refused:
        problem = Problem(title="Unprocessable Content", status=422, detail=_sentence(pushed.refused[0][1]))
        return 422, problem.model_dump(exclude_none=True)
    refused = [models.Refused(at=at, reason=reason) for at, reason in pushed.refused]
    body = Result(created=pushed.created, changed=pushed.changed, unchanged=pushed.unchanged, refused=refused)
    return 201 if single and pushed.created else 200, body.model_dump()


def _sentence(reason: str) -> str:
    return f"{reason[:1].upper()}{reason[1:]}."


def _json(status: int, body: dict[str, Any], headers: dict[str, str] | None = None) -> JSONResponse:
    media = "application/problem+json" if status >= 400 else "application/json"
    return JSONResponse(body, status, headers, media_type=media)


KINDS: tuple[tuple[str, str, type[BaseModel], str], ...] = (
    ("people", "customer", models.Person, "people"),
    ("orders", "order", models.Order, "history"),
    ("visits", "visit", models.Visit, "history"),
    ("appointments", "appointment", models.Appointment, "history"),
    ("memberships", "membership", models.Membership, "history"),
    ("items", "item", models.Item, "catalogue"),
)


def _add_kind(kind: str, one: str, model: type[BaseModel], scope: str) -> None:
    batch = create_model(
        f"{model.__name__}Batch",
        __base__=models.Strict,
        records=(list[model], Field(min_length=1, max_length=MOST_RECORDS)),  # type: ignore[valid-type]
    )

    def single(request: Request, record: Any, token: ApiToken = allowed(scope), key: KeyHeader = None) -> Any:
        return take(request, token, kind, [record], key, True)

    def many(request: Request, sent: Any, token: ApiToken = allowed(scope), key: KeyHeader = None) -> Any:
        return take(request, token, kind, sent.records, key, False)

    single.__annotations__["record"], many.__annotations__["sent"] = model, batch

    router.add_api_route(
        f"/{kind}",
        single,
        methods=["POST"],
        tags=[kind],
        summary=f"Send one {one}",
        operation_id=f"send_{one}",
        response_model=Result,
        responses={201: {"model": Result, "description": "It was created."}},
    )
    router.add_api_route(
        f"/{kind}/batch",
        many,
        methods=["POST"],
        tags=[kind],
        summary=f"Send up to {MOST_RECORDS:,} {kind}",
        operation_id=f"send_{kind}",
        response_model=Result,
    )


for known in KINDS:
    _add_kind(*known)


EVENT_TYPES: dict[str, type[BaseModel]] = {
    "application/json": models.Event,
    "application/cloudevents+json": models.CloudEvent,
    "application/cloudevents-batch+json": models.CloudEvent,
}
EVENT_BODY: dict[str, Any] = {
    "requestBody": {
        "required": True,
        "content": {
            "application/json": {
                "schema": {
                    "anyOf": [
                        {"$ref": "#/components/schemas/Event"},
                        {
                            "type": "array",
                            "items": {"$ref": "#/components/schemas/Event"},
                            "minItems": 1,
                            "maxItems": MOST_RECORDS,
                        },
                    ]
                }
            },
            "application/cloudevents+json": {"schema": {"$ref": "#/components/schemas/CloudEvent"}},
            "application/cloudevents-batch+json": {
                "schema": {
                    "type": "array",
                    "items": {"$ref": "#/components/schemas/CloudEvent"},
                    "minItems": 1,
                    "maxItems": MOST_RECORDS,
                }
            },
        },
    }
}


@router.post(
    "/events",
    tags=["events"],
    summary="Send one event, or a list of up to 1,000; CloudEvents 1.0 JSON is taken too",
    operation_id="send_events",
    response_model=Result,
    responses={201: {"model": Result, "description": "It was created."}},
    openapi_extra=EVENT_BODY,
)
async def send_events(request: Request, token: ApiToken = allowed("history"), key: KeyHeader = None) -> Any:
    media = request.headers.get("Content-Type", "").partition(";")[0].strip().lower()
    if media not in EVENT_TYPES:
        raise ApiProblem(415, f"Send one of: {', '.join(EVENT_TYPES)}.")
    try:
        sent = json.loads(await request.body())
    except (ValueError, RecursionError) as error:
        raise ApiProblem(400, "The body is not JSON.") from error
    if (media == "application/cloudevents-batch+json") != isinstance(
        sent, list
    ) and media != "application/json":
        raise ApiProblem(422, "A batch of CloudEvents is a list, a single one an object.")
    single = not isinstance(sent, list)
    records = _read_events(
        EVENT_TYPES[media], [sent] if single else sent, application_of(request).clock.now().isoformat()
    )
    return take(request, token, "events", records, key, single)


def _read_events(model: type[BaseModel], sent: list[Any], now: str) -> list[models.Event]:
    if not 1 <= len(sent) <= MOST_RECORDS:
        raise ApiProblem(422, f"Send between 1 and {MOST_RECORDS:,} events at once.")
    found = []
    for at, one in enumerate(sent):
        try:
            read = model.model_validate(one)
            found.append(read if isinstance(read, models.Event) else _from_cloud(read, now))
        except ValidationError as error:
            errors = fields_of(error.errors(), (str(at),) if len(sent) > 1 else ())
            raise ApiProblem(422, "An event is not as described.", errors=errors) from error
    return found


def _from_cloud(event: Any, now: str) -> models.Event:
    """The source and the id together name a CloudEvent (CloudEvents 1.0, 3.1)."""
    return models.Event(
        external_id=hashlib.sha256(f"{event.source}\x00{event.id}".encode("utf-8", "replace")).hexdigest(),
        id=event.subject,
        kind=event.type,
        at=event.time or now[:19] + now[-6:],
        properties=event.data or {},
    )


@router.post(
    "/sequences/{sequence_id}/people",
    tags=["sequences"],
    summary="Add up to 1,000 customers to a sequence that is on",
    operation_id="bring_in",
    response_model=Result,
    responses={404: {"model": Problem, "description": "No such sequence is on."}},
)
def bring_in(
    request: Request,
    sequence_id: Annotated[int, Path(ge=1, le=2**31, description="The number in the sequence’s address.")],
    sent: models.BroughtIn,
    token: ApiToken = allowed("sequences"),
    key: KeyHeader = None,
) -> Any:
    application = application_of(request)
    snapshot = application.snapshot()
    plain = sent.model_dump(exclude_none=True)

    def write(session: UnitOfWork) -> tuple[int, dict[str, Any]]:
        return _answer(
            bring_named(
                application, session, snapshot, sequence_id, plain["people"], sent.reason, token.name
            ),
            False,
        )

    try:
        return _once(application, token, ["bring in", sequence_id, plain], key, write)
    except SequenceProblem as problem:
        raise ApiProblem(404, str(problem)) from problem


@router.get(
    "/results",
    tags=["results"],
    summary="Read what each campaign and sequence brought, cost and added",
    operation_id="read_results",
)
def read_results(
    request: Request,
    days: Annotated[str, Query(description=f"One of: {', '.join(RANGES)}.")] = USUAL,
    first: Annotated[str, Query(description="The first of your own days (ISO), with days=own.")] = "",
    last: Annotated[str, Query(description="The last of your own days.")] = "",
    token: ApiToken = allowed("read"),
) -> models.ResultsOut:
    application = application_of(request)
    shop = application.the_shop()
    try:
        if days not in RANGES:
            raise RangeProblem(f"There are no days called “{days}”; choose {', '.join(RANGES)}.")
        chosen = days_of(days, local_day(application.clock.now(), shop.zone), shop.zone, first, last)
    except RangeProblem as problem:
        raise ApiProblem(422, str(problem)) from problem
    rows = [models.ResultOut(**values_of(row, shop.currency)) for row in overview(application, chosen).rows]
    return models.ResultsOut(first=chosen.first, last=chosen.last, results=rows)


@router.get(
    "/people/{person_id}",
    tags=["people"],
    summary="Read one customer by the id they were sent with",
    operation_id="read_customer",
    responses={404: {"model": Problem, "description": "No such customer is on file."}},
)
def read_person(
    request: Request,
    person_id: Annotated[str, Path(min_length=1, max_length=120, description="The customer’s id.")],
    token: ApiToken = allowed("read"),
) -> models.PersonOut:
    application = application_of(request)
    found = api_ingest.person_with_id(application, person_id)
    page = profile.page_of(application, found, {"note"}) if found is not None else None
    if page is None:
        raise ApiProblem(404, f"No customer with the id “{person_id}” is on file.")
    digits = minor_digits(application.the_shop().currency)
    return models.PersonOut(
        id=person_id,
        first_name=page.person.first_name,
        last_name=page.person.last_name,
        email=page.person.email,
        phone=page.person.phone,
        tags=[tag.name for tag in page.tags],
        consents={
            channel.name: "suppressed" if channel.suppressions else channel.state for channel in page.channels
        },
        orders=page.line.orders,
        spent=f"{page.line.spent / 10**digits:.{digits}f}",
        last_order=page.line.last_order.isoformat() if page.line.last_order else None,
        band=page.rhythm.band if page.rhythm else None,
    )
