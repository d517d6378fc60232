"""Proofs: a message as one customer would get it, sent to oneself or to a proof-reader."""

from loyalbell.core.messages import content as c
from loyalbell.core.policy.delivery_state import PLANNED
from loyalbell.core.policy.origins import PROOF
from loyalbell.services.application import Application
from loyalbell.services.delivery.link_tokens import new_token
from loyalbell.services.delivery.once_only import once_only
from loyalbell.services.settings.channels import ProofReader
from loyalbell.storage.schema import Delivery, Person


class NoProof(Exception):
    """Why no proof can be sent, in words."""


def send_proof(
    application: Application,
    writing: c.AnyWriting,
    as_person: int | None,
    to: ProofReader,
    by: str,
) -> str:
    """Plans it for now; what comes of it counts nowhere. Returns the address. Raises ``NoProof``."""
    address = {"email": to.email, "text": to.phone, "chat": to.chat}[writing.channel]
    if not address:
        raise NoProof(
            f"{to.name} has no address for {writing.channel}. Give one in Settings, under proof-readers."
        )
    if isinstance(writing, c.EmailContent):
        writing = writing.model_copy(update={"subject": f"Proof: {writing.subject}"})
    with application.database.transaction() as session:
        person = session.get(Person, as_person) if as_person else None
        if person is None:
            raise NoProof("Choose a customer to read it as first.")
        now = application.clock.now()
        version = once_only(session, PROOF, c.as_message(writing).model_dump(mode="json"), now, by)
        session.add(
            Delivery(
                origin_kind=PROOF,
                origin_id=version,
                step=writing.channel,
                person_id=person.id,
                message_version_id=version,
                channel=writing.channel,
                address=address,
                token=new_token("email"),
                state=PLANNED,
                due_at=now,
            )
        )
        application.note(session, by, "sent a proof", to=address, as_person=person.id)
    return address
