"""Signing up without signing in: a wish, a mail to confirm it, and only then a customer.

Anybody can type anybody's address. So nothing is on file before its owner has pressed the link, the mail
holds no word that was typed, a refusal stays until then, and the number of such mails is bounded.
"""

import hashlib
import secrets
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from email_validator import EmailNotValidError, validate_email
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.services.application import FROM_WHERE, Application
from loyalbell.services.customers import asking
from loyalbell.services.customers.asking import AskingSettings, NotTaken
from loyalbell.services.customers.preference_centre import say
from loyalbell.services.translations import ENGLISH
from loyalbell.services.translations import catalogue as known_texts
from loyalbell.storage.consent import consent_now
from loyalbell.storage.schema import Person, Shop, SignUp

SIGN_UP, WROTE_START = "sign-up form", "answered START"
CONFIRM_DAYS = 14
LONGEST_PAGE = 500
USUAL_WORDING = "You agree that %(shop)s may write to you by email."
ALWAYS_SAID = "Every mail has a link to stop it."
"""As the form says them (``web/public/templates/sign_up.html``)."""
BETWEEN = timedelta(hours=1)
"""Between two mails to one mailbox."""
MOST_A_DAY = 3
"""Mails to one mailbox within 24 hours."""
MOST_AN_HOUR = 200
"""Mails to confirm, to whomever."""


def mailbox_of(email: str) -> str:
    """Whose mailbox an address is, without what stands behind a plus (RFC 5233 calls it the detail)."""
    name, _, domain = email.lower().rpartition("@")
    return f"{name.partition('+')[0]}@{domain}"


def sign_up(
    application: Application,
    form: Mapping[str, Any],
    lists: Mapping[str, list[str]] | None = None,
    language: str = ENGLISH,
    page: str = "",
) -> None:
    """Keeps the wish, to be confirmed by mail. ``page`` is where the form stood. Raises ``NotTaken``.

    A mailbox that has been asked lately is not asked again, and whoever types is told nothing of it.
    """
    try:
        email = validate_email(
            str(form.get("email", "")).strip(), check_deliverability=False
        ).normalized.lower()
    except EmailNotValidError as error:
        raise NotTaken("This does not look like an email address. Write it like ann@example.com.") from error
    with application.database.transaction() as session:
        given = asking.read_answers(session, "sign_up", form, lists or {}).given
        now = application.clock.now()
        answers = {
            "first_name": str(given.get("first_name", ""))[:120],
            "last_name": str(given.get("last_name", ""))[:120],
            "given": given,
            "wording": words_agreed_to(session, language),
            "language": language,
            "source": SIGN_UP,
            "evidence": {
                "page": page[:LONGEST_PAGE],
                "form": form_version(session),
                "language": language,
                "asked at": now.isoformat(),
                "asked from": FROM_WHERE.get(),
            },
        }
        _ask(session, email, answers, now)


def words_agreed_to(session: Session, language: str) -> str:
    """What stands above the button of the form, in the language it is shown in."""
    texts, shop = known_texts(language), session.get_one(Shop, 1)
    own = AskingSettings.load(session).wording
    usual = texts.get(USUAL_WORDING, USUAL_WORDING) % {"shop": shop.name}
    return f"{own or usual} {texts.get(ALWAYS_SAID, ALWAYS_SAID)}"


def form_version(session: Session) -> str:
    """Eight signs that change whenever what the form asks or says does."""
    settings = AskingSettings.load(session)
    said = settings.model_dump_json(include={"sign_up", "wording"})
    return hashlib.sha256(said.encode()).hexdigest()[:8]


def ask_who_wrote_start(session: Session, email: str, now: datetime) -> None:
    """A mail with START and this address as its sender may come from anybody: its owner is asked.

    Only where somebody with that address is on file and had refused: nothing else is to be taken back.
    """
    person = _person_with(session, email)
    if person is not None and consent_now(session, [person.id], "email").get(person.id) == "refused":
        _ask(session, email, {"language": person.language or ENGLISH, "source": WROTE_START}, now)


def _ask(session: Session, email: str, answers: dict[str, Any], now: datetime) -> None:
    mailbox = mailbox_of(email)
    before = session.scalars(
        select(SignUp.at).where(SignUp.mailbox == mailbox, SignUp.at > now - timedelta(days=1))
    ).all()
    in_all = session.scalar(select(func.count()).where(SignUp.at > now - timedelta(hours=1))) or 0
    if len(before) >= MOST_A_DAY or any(at > now - BETWEEN for at in before) or in_all >= MOST_AN_HOUR:
        return
    session.add(
        SignUp(
            token=secrets.token_urlsafe(20), email=email, mailbox=mailbox, answers=answers, at=now, ask_at=now
        )
    )


def _person_with(session: Session, email: str) -> Person | None:
    by_email = select(Person).where(func.lower(Person.email) == email).order_by(Person.id).limit(1)
    return session.scalars(by_email).first()


def confirm(application: Application, token: str) -> bool | None:
    """True once confirmed; false where the link is too old; ``None`` for no such link."""
    with application.database.transaction() as session:
        row = session.scalar(select(SignUp).where(SignUp.token == token))
        if row is None:
            return None
        now = application.clock.now()
        if row.confirmed_at is not None:
            return True
        if row.at < now - timedelta(days=CONFIRM_DAYS):
            return False
        person = _person_with(session, row.email) or _new_person(session, row, now)
        asking.keep_answers(session, person, row.answers.get("given", {}), now)
        person.language = person.language or row.answers.get("language")
        row.confirmed_at, row.person_id = now, person.id
        source, wording = row.answers.get("source", SIGN_UP), row.answers.get("wording") or None
        evidence = dict(row.answers.get("evidence", {})) | {
            "confirmed at": now.isoformat(),
            "confirmed from": FROM_WHERE.get(),
        }
        words = f"{source}, confirmed"
        say(application, session, person.id, "email", "agreed", words, wording, evidence)
        return True


def _new_person(session: Session, row: SignUp, now: datetime) -> Person:
    person = Person(
        email=row.email,
        joined_at=now,
        first_name=row.answers.get("first_name") or None,
        last_name=row.answers.get("last_name") or None,
    )
    session.add(person)
    session.flush()
    return person


def sign_up_form(application: Application) -> tuple[list[asking.Question], str]:
    """What is asked of somebody who signs up, and the words that they agree to (empty for the usual ones)."""
    with application.database.reading() as session:
        return asking.questions(session, "sign_up"), AskingSettings.load(session).wording
