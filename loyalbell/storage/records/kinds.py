"""The kinds of records beside customers and orders: what each may say, and how it becomes a row."""

import json
from collections.abc import Callable, Set
from dataclasses import dataclass
from typing import Any

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.snapshot import APPOINTMENT_STATES, CONSENT_STATES
from loyalbell.storage.records.name_registry import Names
from loyalbell.storage.records.targets import ITEM, PLACE, WHOSE, Target

Values = dict[str, Any]
MakeRow = Callable[[Values, Names], Values]
SUPPRESSION_REASONS = ("hard bounce", "complaint", "by hand", "goodbye", "erased")


@dataclass(frozen=True)
class RecordKind:
    """``natural`` are the columns by which a record without an id is known again.

    ``part`` is the ledger's.
    """

    name: str
    one: str
    table: str
    part: str
    targets: tuple[Target, ...]
    needs: tuple[tuple[Set[str], str], ...]
    natural: tuple[str, ...]
    row: MakeRow
    blank: Values
    of_person: bool = True

    def lacking(self, given: Set[str]) -> str | None:
        """What is still needed of a file or a record that gives these facts, in words, or ``None``."""
        if self.of_person and not given & {target.name for target in WHOSE}:
            return f"Say which column tells whose {self.one} it is: customer id, email or phone."
        return next((words for names, words in self.needs if not given & names), None)


def _only(values: Values, *names: str) -> Values:
    return {name: values[name] for name in names if name in values}


def _place(values: Values, names: Names) -> Values:
    return {
        f"{table}_id": names.id_of(table, values[table])
        for table in ("department", "location", "staff")
        if table in values
    }


def _item(values: Values, names: Names) -> Values:
    if not values.keys() & {"item_id", "item"}:
        return {}
    return {"item_id": names.item_of(values.get("item_id"), values.get("item"), values.get("category"))}


def _visit(values: Values, names: Names) -> Values:
    return _only(values, "external_id", "at") | _place(values, names)


def _appointment(values: Values, names: Names) -> Values:
    facts = _only(
        values, "external_id", "booked_at", "starts_at", "ends_at", "state", "settled_at", "companion"
    )
    return facts | _place(values, names) | _item(values, names)


def _membership(values: Values, names: Names) -> Values:
    facts = _only(values, "external_id", "plan", "term", "started_on", "renews_on", "ended_on")
    if "price" in values:
        facts["price_minor"] = values["price"]
    return facts | _place(values, names)


def _event(values: Values, names: Names) -> Values:
    facts = _only(values, "external_id", "kind", "at") | _place(values, names)
    if "properties" in values:
        facts["properties"] = json.dumps(values["properties"], sort_keys=True, ensure_ascii=False)
    return facts


def _answer(values: Values, names: Names) -> Values:
    facts = _only(values, "external_id", "kind", "at", "question", "score", "best", "text")
    return facts | _place(values, names) | _item(values, names)


def _catalogue_item(values: Values, names: Names) -> Values:
    facts = _only(values, "external_id", "name", "category", "link", "picture_url", "in_stock", "lasts_days")
    if "department" in values:
        facts["department_id"] = names.id_of("department", values["department"])
    for money in ("price", "margin"):
        if money in values:
            facts[f"{money}_minor"] = values[money]
    return facts


EXTERNAL = "id of this record in the other program"
NO_PLACE: Values = {"external_id": None, "department_id": None, "location_id": None, "staff_id": None}

VISITS = RecordKind(
    "visits",
    "visit",
    "visit",
    "walk_ins",
    (
        Target("external_id", EXTERNAL, ("visit id", "id", "ref", "reference")),
        *WHOSE,
        Target(
            "at",
            "day or time of the visit",
            ("at", "date", "time", "visited at", "visit date", "came at", "when"),
            "when",
        ),
        Target("at_time", "time of day, beside the day", ("time", "visit time", "hour"), "time of day"),
        *PLACE,
    ),
    (({"at"}, "Say which column holds the day or time of the visit."),),
    ("person_id", "at"),
    _visit,
    NO_PLACE,
)

APPOINTMENTS = RecordKind(
    "appointments",
    "appointment",
    "appointment",
    "appointments",
    (
        Target("external_id", EXTERNAL, ("appointment id", "booking id", "id", "uid", "ref", "reference")),
        *WHOSE,
        Target(
            "starts_at",
            "start",
            ("starts at", "start", "date", "time", "appointment date", "begins", "when"),
            "when",
        ),
        Target("starts_time", "time of day, beside the day", ("time", "start time"), "time of day"),
        Target("ends_at", "end", ("ends at", "end", "until"), "when"),
        Target(
            "booked_at",
            "when it was booked",
            ("booked at", "booked", "booked on", "created", "created at"),
            "when",
        ),
        Target(
            "state", "booked, kept, cancelled or missed", ("state", "status", "outcome"), "appointment state"
        ),
        Target(
            "settled_at",
            "when that became known",
            ("settled at", "status changed", "changed at", "closed at"),
            "when",
        ),
        Target(
            "companion", "for whom (companion)", ("companion", "for", "pet", "patient", "child", "animal")
        ),
        *ITEM,
        *PLACE,
    ),
    (({"starts_at"}, "Say which column holds the start of the appointment."),),
    ("person_id", "starts_at"),
    _appointment,
    NO_PLACE
    | {
        "booked_at": None,
        "ends_at": None,
        "state": "booked",
        "settled_at": None,
        "item_id": None,
        "companion": None,
    },
)

MEMBERSHIPS = RecordKind(
    "memberships",
    "membership",
    "membership",
    "memberships",
    (
        Target("external_id", EXTERNAL, ("membership id", "id", "ref", "reference", "contract")),
        *WHOSE,
        Target("plan", "plan", ("plan", "membership", "plan name", "product", "name")),
        Target("term", "term", ("term", "period", "interval", "billing"), "term"),
        Target(
            "started_on",
            "first day",
            ("started on", "started", "start", "start date", "from", "since"),
            "day",
        ),
        Target(
            "renews_on",
            "renewal day",
            ("renews on", "renewal", "renews", "renewal date", "next renewal"),
            "day",
        ),
        Target("ended_on", "last day", ("ended on", "ended", "end", "end date", "cancelled on"), "day"),
        Target("price", "price per term", ("price", "fee", "amount"), "money"),
        *PLACE,
    ),
    (
        ({"plan"}, "Say which column holds the plan."),
        ({"started_on"}, "Say which column holds the first day of the membership."),
    ),
    ("person_id", "plan", "started_on"),
    _membership,
    NO_PLACE | {"term": "yearly", "renews_on": None, "ended_on": None, "price_minor": None},
)

EVENTS = RecordKind(
    "events",
    "event",
    "event",
    "events",
    (
        Target("external_id", EXTERNAL, ("event id", "id", "ref", "reference")),
        *WHOSE,
        Target("kind", "what happened", ("kind", "event", "type", "name", "what")),
        Target("at", "when", ("at", "time", "date", "when", "happened at"), "when"),
        Target("properties", "properties (JSON)", ("properties", "data", "details"), "properties"),
        *PLACE,
    ),
    (
        ({"kind"}, "Say which column tells what happened."),
        ({"at"}, "Say which column holds the time of the event."),
    ),
    ("person_id", "kind", "at"),
    _event,
    NO_PLACE | {"properties": "{}"},
)

ANSWERS = RecordKind(
    "answers",
    "answer",
    "answer",
    "answers",
    (
        Target("external_id", EXTERNAL, ("answer id", "review id", "id", "ref", "reference")),
        *WHOSE,
        Target("kind", "review or survey", ("kind", "type"), "answer kind"),
        Target("at", "when", ("at", "date", "time", "answered at", "reviewed at", "when"), "when"),
        Target("question", "question", ("question", "survey", "asked")),
        Target("score", "score", ("score", "rating", "stars"), "whole"),
        Target("best", "best score possible", ("best", "out of", "scale"), "whole"),
        Target("text", "words", ("text", "review", "comment", "answer", "words")),
        *ITEM,
        *PLACE,
    ),
    (
        ({"at"}, "Say which column holds the day of the answer."),
        ({"score", "text"}, "Say which column holds the score or the words."),
    ),
    ("person_id", "at", "question"),
    _answer,
    NO_PLACE
    | {"kind": "review", "question": None, "score": None, "best": None, "text": None, "item_id": None},
)

ITEMS = RecordKind(
    "items",
    "item",
    "item",
    "catalogue",
    (
        Target("external_id", "item id", ("item id", "id", "sku", "product id", "article", "code")),
        Target("name", "name", ("name", "item", "item name", "product", "product name", "service", "title")),
        Target("category", "category", ("category", "item category", "type", "group")),
        Target("department", "department", ("department", "dept", "section")),
        Target("price", "price", ("price", "list price", "unit price"), "money"),
        Target("margin", "margin of one unit", ("margin", "profit", "earns"), "money"),
        Target("link", "link", ("link", "url", "page", "web address"), "link"),
        Target(
            "picture_url",
            "picture’s address",
            ("picture", "image", "photo", "picture address", "image url"),
            "link",
        ),
        Target("in_stock", "in stock", ("in stock", "stock", "available"), "yes or no"),
        Target(
            "lasts_days",
            "days one unit lasts",
            ("lasts days", "lasts", "days of supply", "supply days"),
            "whole",
        ),
    ),
    (({"external_id", "name"}, "Say which column holds the item’s id or its name."),),
    ("name",),
    _catalogue_item,
    {
        "external_id": None,
        "category": None,
        "department_id": None,
        "price_minor": None,
        "margin_minor": None,
        "link": None,
        "picture_url": None,
        "in_stock": True,
        "lasts_days": None,
    },
    of_person=False,
)


def _consent(values: Values, names: Names) -> Values:
    return _only(values, "channel", "state", "at", "source", "wording")


CONSENTS = RecordKind(
    "consents",
    "consent",
    "consent_entry",
    "consents",
    (
        *WHOSE,
        Target("channel", "email, text or chat", ("channel", "medium", "by"), "channel"),
        Target("state", "agreed, refused or waiting", ("state", "status", "consent", "answer"), "consent"),
        Target("at", "when it was said", ("at", "date", "time", "when", "said at"), "when"),
        Target("source", "where it was said", ("source", "where", "form", "origin")),
        Target("wording", "what was shown", ("wording", "text shown", "statement")),
    ),
    (
        ({"channel"}, "Say which column names the channel: email, text or chat."),
        ({"state"}, "Say which column holds what was said: agreed, refused or waiting."),
    ),
    ("person_id", "channel", "state", "at"),
    _consent,
    {"wording": None, "by": None},
)


def _suppression(values: Values, names: Names) -> Values:
    return _only(values, "channel", "address", "reason", "at")


SUPPRESSIONS = RecordKind(
    "suppressions",
    "suppression",
    "suppression",
    "suppressions",
    (
        Target(
            "address",
            "address",
            ("address", "email", "phone", "mobile", "email address", "phone number", "handle"),
        ),
        Target("id", "customer id", ("customer id", "client id", "customer no", "id")),
        Target("channel", "email, text or chat", ("channel", "medium", "by"), "channel"),
        Target("reason", "reason", ("reason", "why", "cause"), "suppression reason"),
        Target("at", "since when", ("at", "date", "since", "when"), "when"),
    ),
    (({"address", "id"}, "Say which column holds the address, or the customer id."),),
    ("channel", "address"),
    _suppression,
    {"lifted_at": None, "person_id": None, "by": None},
    of_person=False,
)

RECORDS: dict[str, RecordKind] = {
    kind.name: kind
    for kind in (VISITS, APPOINTMENTS, MEMBERSHIPS, EVENTS, ANSWERS, ITEMS, CONSENTS, SUPPRESSIONS)
}
CHOICES: dict[str, dict[str, tuple[str, ...]]] = {
    "channel": {name: (name,) for name in CHANNELS}
    | {"email": ("email", "e mail", "mail"), "text": ("text", "sms", "texts", "mobile", "phone")},
    "consent": {name: (name,) for name in CONSENT_STATES[1:]}
    | {
        "agreed": ("agreed", "yes", "subscribed", "opted in", "true", "1"),
        "refused": ("refused", "no", "unsubscribed", "opted out", "false", "0"),
        "waiting": ("waiting", "waiting for confirmation", "pending", "unconfirmed"),
    },
    "appointment state": {name: (name,) for name in APPOINTMENT_STATES}
    | {
        "booked": ("booked", "confirmed", "open", "planned", "scheduled", "tentative", "needs action"),
        "kept": ("kept", "done", "completed", "attended", "came", "arrived", "seen"),
        "cancelled": ("cancelled", "canceled", "declined"),
        "missed": ("missed", "no show", "noshow", "did not come", "did not attend"),
    },
    "term": {
        "yearly": ("yearly", "year", "annual", "annually", "12 months"),
        "monthly": ("monthly", "month"),
        "quarterly": ("quarterly", "quarter", "3 months"),
        "weekly": ("weekly", "week"),
        "once": ("once", "one time", "lifetime"),
    },
    "answer kind": {"review": ("review", "rating"), "survey": ("survey", "answer", "nps", "question")},
    "suppression reason": {reason: (reason,) for reason in SUPPRESSION_REASONS}
    | {
        "hard bounce": ("hard bounce", "bounce", "bounced", "invalid"),
        "complaint": ("complaint", "complained", "spam", "abuse"),
        "by hand": ("by hand", "manual", "asked", ""),
    },
}
