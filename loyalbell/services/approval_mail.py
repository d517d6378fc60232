"""Tells those who may approve, by mail, that somebody waits for them. Today says the same, so nothing
depends on this mail: where none can leave, nobody is held up by it.
"""

from datetime import timedelta

from sqlalchemy import select

from loyalbell.channels.sender import Sender
from loyalbell.services.accounts.permissions import MAY, Permission
from loyalbell.services.application import Application
from loyalbell.services.own_mail import own_mail
from loyalbell.storage.schema import ApprovalRequest, Shop, User

WORDS = (
    "Hello {name},\n\n{by} asks you to look at “{what}”{many} before it {goes}.\n\nSee what it does, then"
    " {act} it or say no:\n{link}\n\nUntil then nothing leaves.\n"
)
GOES = {"campaign": ("leaves", "send"), "sequence": ("is published", "publish")}
PAGES = {"campaign": "campaigns/{}/sure", "sequence": "sequences/{}/publish"}


SOONEST_AGAIN = timedelta(hours=1)


def is_told_already(before: ApprovalRequest | None, request: ApprovalRequest) -> bool:
    """Whether the same was asked by mail just before: asking ten times writes one mail."""
    return (
        before is not None
        and before.outcome != "declined"
        and before.detail.get("people") == request.detail.get("people")
        and request.at - before.at < SOONEST_AGAIN
    )


def tell_approvers(application: Application, sender: Sender, request: ApprovalRequest) -> int:
    """One mail to each who may approve, but for who asked. Returns to how many it was handed over."""
    shop, now = application.the_shop(), application.clock.now()
    if not (shop.sender_email and shop.smtp_host):
        return 0
    mails = [
        own_mail(
            shop,
            user.email,
            f"{request.by} asks for your approval",
            _words(shop, user, request),
            f"approval-{request.id}-{user.id}",
            now,
            number,
        )
        for number, user in enumerate(_approvers(application, request.user_id))
    ]
    outcomes = sender.send(mails) if mails else []
    sender.finish("email")
    return sum(one.result == "accepted" for one in outcomes)


def _approvers(application: Application, but: int | None) -> list[User]:
    roles = [role.value for role, includes in MAY.items() if Permission.APPROVE in includes]
    query = select(User).where(User.role.in_(roles), User.ended_at.is_(None), User.password_hash != "")
    with application.database.reading() as session:
        return [user for user in session.scalars(query.order_by(User.id)) if user.id != but]


def _words(shop: Shop, user: User, request: ApprovalRequest) -> str:
    goes, act = GOES[request.kind]
    people = request.detail.get("people")
    return WORDS.format(
        name=user.name,
        by=request.by,
        what=request.detail.get("name", ""),
        many="" if people is None else f" (to {people:,} people)",
        goes=goes,
        act=act,
        link=f"{shop.public_url.rstrip('/')}/{PAGES[request.kind].format(request.about_id)}",
    )
