"""What customers are asked on their own pages: which of the shop's fields and yearly dates, with which words,
in which order, when they sign up and where they settle their preferences.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.messages.mime import one_line
from loyalbell.services.application import Application
from loyalbell.services.settings.channels import SettingsGroup
from loyalbell.storage.records.custom_fields import read_field, say_field
from loyalbell.storage.records.parsers import Phone
from loyalbell.storage.records.person_facts import PersonFacts
from loyalbell.storage.schema import CustomField, FieldValue, Person, Shop, YearlyDate
from loyalbell.storage.yearly_names import KEPT_AS, yearly_names

Place = Literal["sign_up", "preferences"]
PLACES: dict[Place, str] = {"sign_up": "when they sign up", "preferences": "on their preferences page"}
LONGEST_WORDS, LONGEST_ANSWER, MOST_ASKED = 200, 500, 30
BASE = {
    "first_name": ("First name", "text"),
    "last_name": ("Last name", "text"),
    "phone": ("Mobile number", "text"),
    "birthday": ("Birthday", "yearly"),
}


class NotTaken(Exception):
    """Why what a customer entered cannot be taken: an English ``text`` and what fills it, so that a page can
    say it in the customer's language.
    """

    def __init__(self, text: str, **values: str) -> None:
        super().__init__(text % values if values else text)
        self.text, self.values = text, values


class Asked(BaseModel):
    """One question. ``what`` is one of ``BASE``, ``field:ID`` or ``yearly:NAME``."""

    what: str
    words: str = Field(default="", max_length=LONGEST_WORDS)
    needed: bool = False


class AskingSettings(SettingsGroup):
    """``wording`` is what a person agrees to when they sign up. ``yearly`` are dates that somebody made by
    name and nobody may have yet.
    """

    kept_as = KEPT_AS
    sign_up: list[Asked] = Field(default_factory=lambda: [Asked(what="first_name")], max_length=MOST_ASKED)
    preferences: list[Asked] = Field(default_factory=lambda: [Asked(what="birthday")], max_length=MOST_ASKED)
    wording: str = Field(default="", max_length=1_000)
    yearly: list[str] = Field(default_factory=list, max_length=100)


@dataclass(frozen=True)
class Question:
    """A question as a page shows it: ``kind`` is a field's, or *yearly*; ``value`` is what is known, for a
    yearly date its (month, day).
    """

    key: str
    words: str
    kind: str
    needed: bool = False
    choices: Sequence[str] = ()
    value: Any = ""


@dataclass
class Answers:
    """What somebody entered, by ``what``, ready to keep: JSON."""

    given: dict[str, Any] = field(default_factory=dict)


def possible(session: Session) -> dict[str, tuple[str, str]]:
    """Everything that may be asked: (label, kind) by ``what``."""
    dates = yearly_names(session)
    fields = session.scalars(select(CustomField).order_by(CustomField.name)).all()
    return {
        **BASE,
        **{f"yearly:{name}": (name, "yearly") for name in dates},
        **{f"field:{kept.id}": (kept.name, kept.kind) for kept in fields},
    }


def questions(session: Session, place: Place, person: Person | None = None) -> list[Question]:
    """What is asked at a place, in order, with what is known of the person already."""
    known, found = possible(session), []
    for asked in getattr(AskingSettings.load(session), place):
        if asked.what not in known:
            continue  # a field that has been deleted since
        label, kind = known[asked.what]
        choices = _field(session, asked.what).choices if "choice" in kind else ()
        value = _known(session, asked.what, person) if person is not None else ""
        found.append(Question(asked.what, asked.words or label, kind, asked.needed, choices, value))
    return found


def _field(session: Session, what: str) -> CustomField:
    return session.get_one(CustomField, int(what.removeprefix("field:")))


def _known(session: Session, what: str, person: Person) -> Any:
    if what == "birthday":
        return person.birthday_month or "", person.birthday_day or ""
    if what in BASE:
        return getattr(person, what) or ""
    if what.startswith("yearly:"):
        row = session.scalar(
            select(YearlyDate).where(
                YearlyDate.person_id == person.id, YearlyDate.name == what[len("yearly:") :]
            )
        )
        return (row.month, row.day) if row else ("", "")
    kept = _field(session, what)
    held = session.scalar(
        select(FieldValue.value).where(
            FieldValue.person_id == person.id, FieldValue.field_id == kept.id, FieldValue.until.is_(None)
        )
    )
    if held is None:
        return ""
    return held if kept.kind == "several choices" else say_field(kept.kind, held)


def read_answers(
    session: Session, place: Place, form: Mapping[str, Any], lists: Mapping[str, list[str]]
) -> Answers:
    """What was entered, checked. ``lists`` are the values of fields that may come several times. Raises
    ``NotTaken`` with the question's own words.
    """
    answers, country = Answers(), session.get_one(Shop, 1).country
    for question in questions(session, place):
        value = _read(session, question, form, lists, country)
        if value is None and question.needed:
            raise NotTaken("Please answer “%(question)s”.", question=question.words)
        if value is not None:
            answers.given[question.key] = value
    return answers


def _read(
    session: Session,
    question: Question,
    form: Mapping[str, Any],
    lists: Mapping[str, list[str]],
    country: str,
) -> Any:
    if question.kind == "yearly":
        return _read_day(question, form)
    if question.kind == "several choices":
        chosen = [text for text in lists.get(question.key, ()) if text]
        return read_field(_field(session, question.key), "; ".join(chosen)) if chosen else None
    text = one_line(str(form.get(question.key, "")))[:LONGEST_ANSWER].strip()
    if not text:
        return None
    try:
        if question.key == "phone":
            return Phone(country).read(text)
        return read_field(_field(session, question.key), text) if question.key.startswith("field:") else text
    except ValueError as problem:
        cannot = "%(question)s: %(answer)s cannot be taken. Please write it differently."
        raise NotTaken(cannot, question=question.words, answer=f"“{text}”") from problem


def _read_day(question: Question, form: Mapping[str, Any]) -> list[int] | None:
    month, day = (str(form.get(f"{question.key}-{part}", "")).strip() for part in ("month", "day"))
    if not month and not day:
        return None
    try:
        found = datetime(2000, int(month[:2]), int(day[:2]))  # noqa: DTZ001
    except ValueError:
        words = "%(question)s: that is no day of the year. Choose the month and the day once more."
        raise NotTaken(words, question=question.words) from None
    return [found.month, found.day]


def keep_answers(session: Session, person: Person, given: Mapping[str, Any], now: datetime) -> None:
    """Writes what somebody answered. An empty answer leaves what is known."""
    facts = PersonFacts(session, int(now.timestamp()))
    for what, value in given.items():
        if what == "birthday":
            person.birthday_month, person.birthday_day = value
        elif what in BASE:
            setattr(person, what, value)
        elif what.startswith("yearly:"):
            facts.set_yearly(what[len("yearly:") :], {person.id: (None, *value)})
        elif session.get(CustomField, int(what.removeprefix("field:"))) is not None:
            facts.set_field(int(what.removeprefix("field:")), {person.id: value})


@dataclass(frozen=True)
class Offered:
    """Something that may be asked, and by place how it is asked there now."""

    what: str
    label: str
    kind: str
    asked: dict[Place, Asked]


def offered(application: Application) -> list[Offered]:
    """For the page on which it is settled: what is asked comes first, in its order."""
    with application.database.reading() as session:
        settings, known = AskingSettings.load(session), possible(session)
    by_place: dict[Place, dict[str, Asked]] = {
        place: {asked.what: asked for asked in getattr(settings, place)} for place in PLACES
    }
    order = [*by_place["sign_up"], *by_place["preferences"], *known]
    return [
        Offered(
            what,
            *known[what],
            {place: asked[what] for place, asked in by_place.items() if what in asked},
        )
        for what in dict.fromkeys(order)
        if what in known
    ]


def settle(application: Application, form: Mapping[str, str], by: str) -> None:
    """Keeps what is asked where: ``PLACE-WHAT`` ticks, ``words-WHAT``, ``needed-WHAT`` and ``order-WHAT``."""
    with application.database.transaction() as session:
        settings = AskingSettings.load(session)
        rows: list[tuple[int, str]] = []
        for at, what in enumerate(possible(session)):
            place = str(form.get(f"order-{what}", ""))
            rows.append((int(place) if place.isdecimal() and len(place) < 6 else 1_000 + at, what))
        ordered = [what for _, what in sorted(rows)]
        chosen: dict[str, Any] = {}
        for key in PLACES:
            chosen[key] = [
                Asked(
                    what=what,
                    words=" ".join(str(form.get(f"words-{what}", "")).split())[:LONGEST_WORDS],
                    needed=key == "sign_up" and bool(form.get(f"needed-{what}")),
                )
                for what in ordered
                if form.get(f"{key}-{what}")
            ][:MOST_ASKED]
        wording = str(form.get("wording", "")).strip()[:1_000]
        settings.model_copy(update={**chosen, "wording": wording}).save(session)
        application.note(session, by, "changed what customers are asked")


def make_yearly(application: Application, name: str, by: str) -> None:
    """A new day that comes round every year. Raises ``NotTaken``."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= 60:
        raise NotTaken("Give the day a name of at most 60 characters.")
    with application.database.transaction() as session:
        taken = {label.casefold() for label, _ in possible(session).values()}
        if name.casefold() in taken:
            raise NotTaken(f"There is “{name}” already.")
        settings = AskingSettings.load(session)
        settings.model_copy(update={"yearly": [*settings.yearly, name]}).save(session)
        application.note(session, by, "made a yearly date", name=name)
