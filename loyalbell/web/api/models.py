"""What other programs may send, as they see it in the OpenAPI description."""

from datetime import date
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from loyalbell.core.channels import Channel

MOST_RECORDS = 1_000
Short = Annotated[str, StringConstraints(max_length=200)]
Name = Annotated[str, StringConstraints(min_length=1, max_length=200, pattern=r"\S")]
Id = Annotated[str, StringConstraints(min_length=1, max_length=120, pattern=r"^[\x21-\x7e]+$")]
Text = Annotated[str, StringConstraints(max_length=2_000)]
Address = Annotated[str, StringConstraints(max_length=320)]
Link = Annotated[str, StringConstraints(max_length=2_000, pattern=r"^https?://\S+$")]
When = Annotated[
    str,
    StringConstraints(
        pattern=r"^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d{1,6})?)?(Z|[+-]\d{2}:\d{2})?)?$",
        max_length=40,
    ),
    Field(
        description=(
            "ISO 8601. Without an offset it is a time in the shop’s zone; a plain day is its first instant."
        ),
        examples=["2026-05-12T09:40:00-04:00"],
    ),
]
Day = Annotated[str, StringConstraints(pattern=r"^\d{4}-\d{2}-\d{2}$"), Field(examples=["2026-05-12"])]
YearlyDay = Annotated[
    str,
    StringConstraints(pattern=r"^(\d{4}|-)-\d{2}-\d{2}$"),
    Field(description="YYYY-MM-DD, or --MM-DD where the year is not known.", examples=["--02-29"]),
]
Money = Annotated[
    str,
    StringConstraints(pattern=r"^\d{1,11}(\.\d{1,4})?$"),
    Field(
        description="In units of the shop’s currency, as text, so that no cent is lost.", examples=["12.50"]
    ),
]
Quantity = Annotated[str, StringConstraints(pattern=r"^\d{1,9}(\.\d{1,3})?$"), Field(examples=["1"])]


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Consent(Strict):
    """What somebody said about a channel. A refusal gives way only to a later word with its own date."""

    channel: Channel
    state: Literal["agreed", "refused", "waiting"]
    at: When | None = None
    source: Short | None = Field(default=None, examples=["till receipt"])
    wording: Text | None = None


class Companion(Strict):
    """Someone whom a customer cares for: an animal, a child, a patient."""

    name: Name
    kind: Short | None = None
    birthday: YearlyDay | None = None


class Person(Strict):
    """A customer, known again by ``id``, else by email, phone or chat handle.

    At least one of them is needed.
    """

    model_config = ConfigDict(
        extra="forbid",
        json_schema_extra={
            "examples": [
                {
                    "id": "C-1042",
                    "first_name": "Wren",
                    "email": "wren@example.com",
                    "phone": "+12125550142",
                    "tags": ["regular"],
                    "fields": {"Prefers mornings": True},
                    "dates": {"Adoption day": "2021-08-14"},
                    "consents": [{"channel": "email", "state": "agreed", "source": "till"}],
                }
            ]
        },
    )
    id: Id | None = None
    ids: dict[Id, Id] | None = Field(
        default=None, description="Ids in other programs, by the program’s name."
    )
    first_name: Short | None = None
    last_name: Short | None = None
    email: Address | None = None
    phone: Annotated[str, StringConstraints(max_length=40)] | None = None
    chat_handle: Short | None = None
    language: Annotated[str, StringConstraints(max_length=35)] | None = Field(
        default=None, examples=["en-US"]
    )
    zone: Annotated[str, StringConstraints(max_length=64)] | None = Field(
        default=None, examples=["America/New_York"]
    )
    street: Short | None = None
    city: Short | None = None
    region: Short | None = None
    postal_code: Short | None = None
    birthday: YearlyDay | None = None
    joined: When | None = Field(
        default=None, description="Since when they are a customer; now, if not given."
    )
    closed: When | None = None
    deceased: When | None = None
    tags: list[Annotated[str, StringConstraints(min_length=1, max_length=60)]] | None = Field(
        default=None, description="Tags to add; none is removed.", max_length=50
    )
    fields: dict[Name, str | float | bool | list[str] | None] | None = Field(
        default=None, description="The shop’s own fields by name; null empties one."
    )
    dates: dict[Name, YearlyDay | None] | None = Field(default=None, description="Yearly dates by name.")
    companions: list[Companion] | None = Field(default=None, max_length=40)
    consents: list[Consent] | None = Field(default=None, max_length=20)


class Whose(Strict):
    """Whose record it is: one of these must name a customer who is on file."""

    id: Id | None = Field(default=None, description="The customer’s id, as given when the customer was sent.")
    email: Address | None = None
    phone: Annotated[str, StringConstraints(max_length=40)] | None = None


class Placed(Whose):
    department: Short | None = None
    location: Short | None = None
    staff: Short | None = None


class OrderLine(Strict):
    item_id: Id | None = None
    item: Short | None = None
    category: Short | None = None
    quantity: Quantity = "1"
    total: Money
    discount: Money | None = None


class Order(Placed):
    """An order, known again by ``external_id``.

    Sent again it replaces what was known of it, lines included.
    """

    model_config = ConfigDict(
        extra="forbid",
        json_schema_extra={
            "examples": [
                {
                    "external_id": "R-20931",
                    "id": "C-1042",
                    "placed": "2026-05-12T09:40:00-04:00",
                    "department": "Shop",
                    "lines": [
                        {"item_id": "OT-003", "item": "River fish kibble", "quantity": "1", "total": "38.00"}
                    ],
                }
            ]
        },
    )
    external_id: Id
    placed: When
    in_person: bool | None = None
    confirmed_at: When | None = None
    shipped_at: When | None = None
    delivered_at: When | None = None
    cancelled_at: When | None = None
    refunded_at: When | None = None
    tracking: Short | None = Field(default=None, description="The carrier’s number of the parcel.")
    tracking_url: Annotated[str, StringConstraints(max_length=2_000, pattern=r"^https?://\S+$")] | None = (
        Field(default=None, description="Where the parcel can be followed.")
    )
    refunded: Money | None = None
    total: Money | None = Field(
        default=None, description="What was paid; the sum of the lines, if not given."
    )
    discount: Money | None = None
    lines: list[OrderLine] = Field(default_factory=list, max_length=500)


class Visit(Placed):
    """Someone came in without an appointment."""

    external_id: Id | None = None
    at: When


class Appointment(Placed):
    external_id: Id | None = None
    starts_at: When
    ends_at: When | None = None
    booked_at: When | None = None
    state: Literal["booked", "kept", "cancelled", "missed"] | None = None
    settled_at: When | None = Field(default=None, description="When it became known what came of it.")
    companion: Short | None = None
    item_id: Id | None = None
    item: Short | None = Field(default=None, examples=["Full groom"])


class Membership(Placed):
    external_id: Id | None = None
    plan: Name
    term: Literal["yearly", "quarterly", "monthly", "weekly", "once"] | None = None
    started_on: Day
    renews_on: Day | None = None
    ended_on: Day | None = None
    price: Money | None = None


class Event(Placed):
    """Something a site, an app or another program says that a customer did."""

    model_config = ConfigDict(
        extra="forbid",
        json_schema_extra={
            "examples": [
                {
                    "external_id": "e-77",
                    "id": "C-1042",
                    "kind": "viewed a page",
                    "at": "2026-05-12T13:40:00Z",
                    "properties": {"page": "/groom"},
                }
            ]
        },
    )
    external_id: Id | None = None
    kind: Name
    at: When
    properties: dict[str, Any] = Field(default_factory=dict)


class Item(Strict):
    """A thing or service in the catalogue."""

    external_id: Id
    name: Name | None = None
    category: Short | None = None
    department: Short | None = None
    price: Money | None = None
    margin: Money | None = None
    link: Link | None = None
    picture_url: Link | None = None
    in_stock: bool | None = None
    lasts_days: int | None = Field(default=None, ge=0, le=100_000)


class CloudEvent(BaseModel):
    """A CloudEvents 1.0 event in JSON: ``subject`` is the customer’s id, ``type`` what happened."""

    model_config = ConfigDict(
        extra="allow",
        json_schema_extra={
            "examples": [
                {
                    "specversion": "1.0",
                    "id": "A234-1234",
                    "source": "/site",
                    "type": "booked online",
                    "subject": "C-1042",
                    "time": "2026-05-12T13:40:00Z",
                    "data": {"page": "/groom"},
                }
            ]
        },
    )
    specversion: Literal["1.0"]
    id: Annotated[str, StringConstraints(min_length=1, max_length=120)]
    source: Annotated[str, StringConstraints(min_length=1, max_length=200)]
    type: Name
    subject: Id
    time: When | None = None
    datacontenttype: Literal["application/json"] | None = None
    data: dict[str, Any] | None = None


class BroughtIn(Strict):
    """Customers for a sequence. A ``reason`` brings each of them in once, however often it is sent."""

    model_config = ConfigDict(
        extra="forbid",
        json_schema_extra={"examples": [{"people": [{"id": "C-1042"}], "reason": "workshop 2026-05"}]},
    )
    people: list[Whose] = Field(min_length=1, max_length=MOST_RECORDS)
    reason: Short | None = None


class Refused(BaseModel):
    at: int = Field(description="The place of the record in what was sent, from 0.")
    reason: str


class Result(BaseModel):
    """What came of the records. Those refused were not written; all others were."""

    model_config = ConfigDict(
        json_schema_extra={"examples": [{"created": 1, "changed": 0, "unchanged": 0, "refused": []}]}
    )
    created: int
    changed: int
    unchanged: int
    refused: list[Refused]


class Problem(BaseModel):
    """What went wrong (RFC 9457)."""

    model_config = ConfigDict(
        json_schema_extra={
            "examples": [
                {
                    "type": "about:blank",
                    "title": "Unauthorized",
                    "status": 401,
                    "detail": "Send a token: Authorization: Bearer lb_…",
                }
            ]
        }
    )
    type: str = "about:blank"
    title: str
    status: int
    detail: str
    errors: list[dict[str, str]] | None = Field(
        default=None, description="Where in the request: a JSON pointer and what is wrong there."
    )


class PersonOut(BaseModel):
    """A customer as the book has them."""

    id: str
    first_name: str | None
    last_name: str | None
    email: str | None
    phone: str | None
    tags: list[str]
    consents: dict[str, str]
    orders: int = Field(description="Orders that stand, ever.")
    spent: str = Field(description="Net of refunds, ever, in units of the shop’s currency.")
    last_order: str | None
    band: str | None = Field(description="The rhythm they are in now.")


class ResultOut(BaseModel):
    """What one campaign or sequence brought, cost and added in the days asked."""

    kind: Literal["campaign", "sequence"]
    id: int
    name: str
    state: str
    channels: str = Field(description="With blanks between them.")
    delivered_people: int
    came_back_people: int = Field(description="Of those it was delivered to, within came_back_days.")
    came_back_days: int
    orders: int = Field(description="Orders put down to it.")
    revenue_minor: int = Field(description="Of those orders, net of refunds, in minor units.")
    cost_minor: int
    currency: str
    compared_people: int = Field(description="People it was meant for whose days are over.")
    held_back_people: int
    added_per_1000_low: float | None
    added_per_1000_best: float | None
    added_per_1000_high: float | None
    verdict: str
    weeks_to_go: int | None = Field(description="Until it is likely decided; null where that is not known.")


class ResultsOut(BaseModel):
    first: date
    last: date
    results: list[ResultOut]
