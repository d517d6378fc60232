"""After a stop or a crash: messages that were in hand are settled, by the network's word or a person's."""

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.channels.sender import Sender
from loyalbell.core.channels import CHANNELS
from loyalbell.core.policy.delivery_state import FAILED, IN_FLIGHT, PLANNED, SENT, UNSURE, DeliveryState
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import message_id
from loyalbell.services.delivery.dispatcher import finish_campaigns
from loyalbell.services.delivery.let_go import let_go
from loyalbell.services.delivery.outbox import become
from loyalbell.services.delivery.perhaps_gone import WORDS as PERHAPS_GONE
from loyalbell.services.delivery.perhaps_gone import RestoredSettings
from loyalbell.services.settings.channels import loaded
from loyalbell.storage.schema import Campaign, Delivery, Shop

CUT_OFF = "the program stopped while handing this over"


def mend_after_stop(application: Application, sender: Sender, channels: Sequence[str] = CHANNELS) -> None:
    """Messages left in hand: not handed over yet, they stay planned; answered already, they are tried again.

    Of the others the network is asked, outside any transaction; where it cannot be, they are *unsure*.
    """
    with application.database.transaction() as session:
        left = select(Delivery).where(Delivery.state == IN_FLIGHT, Delivery.channel.in_(channels))
        for delivery in session.scalars(left):
            if delivery.handed_at is None or delivery.detail is not None:
                become(delivery, PLANNED, detail=None, handed_at=None)
            else:
                become(delivery, UNSURE, detail=CUT_OFF)
    ask_again(application, sender, channels)


def ask_again(application: Application, sender: Sender, channels: Sequence[str] = CHANNELS) -> int:
    """Asks the networks about every unsure message. Returns how many could be settled."""
    settled = 0
    restored = loaded(application, RestoredSettings)
    for channel in channels:
        with application.database.reading() as session:
            shop = session.get(Shop, 1)
            unsure = list(
                session.scalars(select(Delivery).where(Delivery.state == UNSURE, Delivery.channel == channel))
            )
        for delivery in unsure:
            if delivery.detail == PERHAPS_GONE and not restored.asks:
                continue
            assert shop is not None
            known = sender.knows(message_id(delivery, shop), channel)
            if known is None:
                break
            settled += _settled(application, delivery.id, known)
    finish_campaigns(application)
    return settled


def _settled(application: Application, delivery_id: int, is_there: bool) -> bool:
    with application.database.transaction() as session:
        delivery = session.get(Delivery, delivery_id)
        if delivery is None or delivery.state is not UNSURE:
            return False
        if is_there:
            become(delivery, SENT, sent_at=delivery.handed_at, detail=None)
        else:
            become(delivery, PLANNED, detail=None, handed_at=None, decided_at=application.clock.now())
        return True


def decide_unsure(
    application: Application, origin_id: int, again: bool, by: str, kind: str = "campaign"
) -> int:
    """A person's word on the unsure messages of a campaign or a sequence: send again, or count as sent."""
    with application.database.transaction() as session:
        unsure = _of(session, UNSURE, kind, origin_id)
        if again:
            let_go(session, unsure, application.clock.now(), handed_at=None)
        else:
            for delivery in unsure:
                become(delivery, SENT, sent_at=delivery.handed_at)
        _sends_again(session, kind, origin_id, again and bool(unsure))
        word = "sent again" if again else "counted as sent"
        application.note(session, by, f"unsure messages {word}", **{kind: origin_id}, people=len(unsure))
    finish_campaigns(application)
    return len(unsure)


def send_failed_again(application: Application, kind: str, origin_id: int, by: str) -> int:
    """A person's word that messages that were given up are to be tried once more, each asked anew."""
    now = application.clock.now()
    with application.database.transaction() as session:
        failed = _of(session, FAILED, kind, origin_id)
        let_go(session, failed, now, attempts=0, cause=None, handed_at=None)
        _sends_again(session, kind, origin_id, bool(failed))
        application.note(session, by, "failed messages sent again", **{kind: origin_id}, people=len(failed))
    return len(failed)


def failed_of(application: Application, kind: str, origin_id: int) -> tuple[int, str]:
    """How many messages of a campaign or a sequence were given up, and what the network said last."""
    with application.database.reading() as session:
        failed = _of(session, FAILED, kind, origin_id)
        return len(failed), (failed[-1].detail or "") if failed else ""


def _of(session: Session, state: DeliveryState, kind: str, origin_id: int) -> list[Delivery]:
    query = select(Delivery).where(
        Delivery.state == state, Delivery.origin_kind == kind, Delivery.origin_id == origin_id
    )
    return list(session.scalars(query))


def _sends_again(session: Session, kind: str, origin_id: int, is_any: bool) -> None:
    if kind == "campaign" and is_any:
        session.get_one(Campaign, origin_id).state = "sending"
