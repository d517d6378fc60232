"""What was sent to people, what came of it, what they agreed to, and their ways through sequences."""

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import (
    CONSENT_STATES,
    ENROLMENT_ENDS,
    Codes,
    Consents,
    Deliveries,
    Engagements,
    Enrolments,
    Suppressions,
)
from loyalbell.core.policy.delivery_state import PERHAPS_SENT
from loyalbell.storage.snapshot.rows.reading import Loading, Range, code, where

LEFT = ", ".join(repr(str(state)) for state in PERHAPS_SENT)


def deliveries(loading: Loading, span: Range | None) -> Deliveries:
    only = where("delivery.id", span)
    ids, person, at, channel, message, origin, origin_id = loading.columns(
        f"""SELECT delivery.id, person_id, sent_at, {code(CHANNELS, "channel")}, message_id, origin_kind,
                   origin_id
            FROM delivery JOIN message_version ON message_version.id = message_version_id
            WHERE state IN ({LEFT}) AND sent_at IS NOT NULL AND origin_kind <> 'proof'
                  {only and "AND " + only}""",
        7,
    )
    return Deliveries.of(
        key=ids,
        person=loading.numbers(person),
        at=at,
        channel=channel,
        message=message,
        origin=loading.codes(origin),
        origin_id=origin_id,
    )


def engagements(loading: Loading, span: Range | None) -> Engagements:
    only = where("delivery_event.id", span)
    ids, person, at, kind, channel, message, delivery = loading.columns(
        f"""SELECT delivery_event.id, person_id, at, kind, {code(CHANNELS, "channel")}, message_id,
                   delivery_id
            FROM delivery_event JOIN delivery ON delivery.id = delivery_id
            JOIN message_version ON message_version.id = message_version_id {only and "WHERE " + only}""",
        7,
    )
    return Engagements.of(
        key=ids,
        person=loading.numbers(person),
        at=at,
        kind=loading.codes(kind),
        channel=channel,
        message=message,
        delivery=delivery,
    )


def consents(loading: Loading, span: Range | None) -> Consents:
    only = where("id", span)
    ids, person, channel, state, at = loading.table(
        f"""SELECT id, person_id, {code(CHANNELS, "channel")}, {code(CONSENT_STATES, "state")}, at
            FROM consent_entry {only and "WHERE " + only}""",
        5,
    )
    return Consents.of(key=ids, person=loading.numbers(person), at=at, channel=channel, state=state)


def suppressions(loading: Loading, span: Range | None) -> Suppressions:
    """A suppression holds for its person and for everyone who has its address."""
    only = where("suppression.id", span)
    ids, person, channel, at, lifted = loading.table(
        f"""SELECT suppression.id, person.id, {code(CHANNELS, "channel")}, at, coalesce(lifted_at, {NEVER})
            FROM suppression JOIN person ON (person.id = suppression.person_id
              OR (suppression.channel = 'email' AND lower(person.email) = lower(suppression.address))
              OR (suppression.channel = 'text' AND person.phone = suppression.address)
              OR (suppression.channel = 'chat' AND person.chat_handle = suppression.address))
              {only and "AND " + only}""",
        5,
    )
    return Suppressions.of(key=ids, person=loading.numbers(person), at=at, channel=channel, lifted_at=lifted)


def codes(loading: Loading, span: Range | None) -> Codes:
    """A code with uses left is not used up; the last redemption of one without ends it."""
    only = where("offer_code.id", span)
    ids, person, at, offer, until, used = loading.columns(
        f"""SELECT offer_code.id, person_id, issued_at, offer_id, coalesce(expires_at, {NEVER}),
            CASE WHEN uses_left > 0 THEN {NEVER}
                 ELSE coalesce((SELECT max(at) FROM redemption WHERE code_id = offer_code.id), {NEVER}) END
            FROM offer_code {only and "WHERE " + only}""",
        6,
    )
    return Codes.of(key=ids, person=loading.numbers(person), at=at, offer=offer, until=until, used_at=used)


def enrolments(loading: Loading, span: Range | None) -> Enrolments:
    """Whoever was kept out has no way. To be taken out is to have left."""
    only = where("id", span)
    ids, person, at, sequence, ended, how = loading.columns(
        f"""SELECT id, person_id, entered_at, sequence_id,
            CASE state WHEN 'under way' THEN {NEVER} ELSE coalesce(ended_at, entered_at) END,
            {code(ENROLMENT_ENDS, "CASE state WHEN 'taken out' THEN 'left' ELSE state END")}
            FROM enrolment WHERE state != 'kept out' {only and "AND " + only}""",
        6,
    )
    return Enrolments.of(
        key=ids, person=loading.numbers(person), at=at, sequence=sequence, ended_at=ended, how=how
    )
