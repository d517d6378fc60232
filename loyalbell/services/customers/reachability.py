"""What a person said about a channel, and what stops one by hand."""

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.snapshot import CONSENT_STATES
from loyalbell.services.application import Application
from loyalbell.services.customers.person_edit import Edit, within
from loyalbell.storage.consent import address_of, consent_now
from loyalbell.storage.schema import ConsentEntry, Person, Suppression
from loyalbell.storage.webhook_events import announce_consent


def say_consent(
    application: Application, person_id: int, channel: str, state: str, source: str, wording: str, by: str
) -> None:
    """Adds what the person said about a channel to the log. Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        if channel not in CHANNELS or state not in CONSENT_STATES[1:]:
            raise ValueError("choose a channel, and agreed, refused or waiting")
        if not source.strip():
            raise ValueError("say where or how they told you, for instance “at the counter”")
        if consent_now(edit.session, [person_id], channel).get(person_id) == state:
            raise ValueError(f"that is on file already: {state}")
        entry = ConsentEntry(
            person_id=person_id,
            channel=channel,
            state=state,
            at=edit.now,
            source=source.strip()[:200],
            wording=wording.strip()[:2_000] or None,
            by=by,
        )
        edit.session.add(entry)
        edit.session.flush()
        announce_consent(edit.session, entry, edit.now)

    within(application, person_id, by, act)


def suppress(application: Application, person_id: int, channel: str, by: str) -> None:
    """Stops one channel for a person and their address there, by hand. Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        if channel not in CHANNELS:
            raise ValueError("choose a channel")
        suppress_in(edit.session, edit.person, channel, edit.now, by)

    within(application, person_id, by, act)


def suppress_in(
    session: Session, person: Person, channel: str, now: datetime, by: str, reason: str = "by hand"
) -> bool:
    """False where the person is suppressed there already."""
    held = session.scalar(
        select(Suppression.id).where(
            Suppression.person_id == person.id,
            Suppression.channel == channel,
            Suppression.lifted_at.is_(None),
        )
    )
    if held is not None:
        return False
    address = address_of(person, channel) or ""
    session.add(
        Suppression(person_id=person.id, channel=channel, address=address, reason=reason, at=now, by=by)
    )
    return True


def lift(application: Application, person_id: int, suppression_id: int, by: str) -> None:
    """Lifts one suppression. What the person refused stays refused. Raises ``NotKept``."""

    def act(edit: Edit) -> None:
        mark = edit.session.get(Suppression, suppression_id)
        if mark is None or mark.lifted_at is not None:
            raise ValueError("that suppression has been lifted already")
        if mark.reason == "complaint":
            raise ValueError(
                "a complaint cannot be lifted by hand; only a new agreement of the person counts"
            )
        mark.lifted_at = edit.now
        edit.note(f"Suppression on {mark.channel}", mark.reason, "lifted")

    within(application, person_id, by, act)
