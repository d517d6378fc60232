"""The summary by email to staff: of the past week on Mondays, or of yesterday each day; to each once."""

from collections.abc import Sequence
from datetime import datetime, time, timedelta

from sqlalchemy.orm import Session

from loyalbell.channels.sender import Outgoing, Sender
from loyalbell.core.clock.local_time import at_local, local_day
from loyalbell.services.application import Application
from loyalbell.services.delivery.circuits import resting
from loyalbell.services.own_mail import own_mail
from loyalbell.services.settings.channels import CareSettings, ResultsSettings, SummarySent
from loyalbell.services.today.summary import Summary, past
from loyalbell.storage.schema import Shop

HOUR, LATEST = 8, timedelta(days=2)
"""From 8:00, the shop's own time; on Wednesday it is too late for the week before."""
LATEST_OF_DAY = timedelta(hours=12)
OF_DAY = "day "
AGAIN_AFTER = timedelta(hours=1)


def send_due(application: Application, sender: Sender) -> int:
    """Hands over what is due. Returns how many were accepted. What is in doubt is not sent again."""
    now = application.clock.now()
    with application.database.reading() as session:
        week = _week(session, now)
        if week is None or not _open(session, week, now):
            return 0
    summary = past(application, "day" if week.startswith(OF_DAY) else "week", wait=True)
    with application.database.transaction() as session:
        to = _open(session, week, now)
        _keep(session, week, [*_handed(session, week), *to], None)
        shop = session.get_one(Shop, 1)
        batch = [_mail(shop, address, summary, week, now, -place) for place, address in enumerate(to, 1)]
    outcomes = {outcome.delivery_id: outcome.result for outcome in sender.send(batch)}
    sender.finish("email")
    missed = [one.recipient for one in batch if outcomes.get(one.delivery_id) == "try later"]
    if missed:
        with application.database.transaction() as session:
            handed = [address for address in _handed(session, week) if address not in missed]
            _keep(session, week, handed, now + AGAIN_AFTER)
    return sum(result == "accepted" for result in outcomes.values())


def _week(session: Session, now: datetime) -> str | None:
    """By what the summary is known that is to be sent now: the Monday of this week (ISO), or *day* and today;
    else ``None``.
    """
    shop = session.get(Shop, 1)
    if shop is None or not shop.ringing or not ResultsSettings.load(session).summary_to:
        return None
    if "email" in CareSettings.load(session).silent or "email" in resting(session, now):
        return None
    today = local_day(now, shop.zone)
    if ResultsSettings.load(session).summary_every == "day":
        begins = at_local(today, time(HOUR), shop.zone)
        return f"{OF_DAY}{today.isoformat()}" if begins <= now < begins + LATEST_OF_DAY else None
    monday = today - timedelta(days=today.weekday())
    begins = at_local(monday, time(HOUR), shop.zone)
    return monday.isoformat() if begins <= now < begins + LATEST else None


def _open(session: Session, week: str, now: datetime) -> list[str]:
    """Addresses that have not got it yet; none while the last try is fresh."""
    sent = SummarySent.load(session)
    if sent.week == week and sent.again_at is not None and now < sent.again_at:
        return []
    handed = _handed(session, week)
    wanted = dict.fromkeys(address.lower() for address in ResultsSettings.load(session).summary_to)
    return [address for address in wanted if address not in handed]


def _handed(session: Session, week: str) -> list[str]:
    sent = SummarySent.load(session)
    return sent.handed if sent.week == week else []


def _keep(session: Session, week: str, handed: Sequence[str], again_at: datetime | None) -> None:
    SummarySent(week=week, handed=list(handed), again_at=again_at).save(session)


def _mail(shop: Shop, address: str, summary: Summary, week: str, now: datetime, number: int) -> Outgoing:
    of = "the week to " if summary.days.first != summary.days.last else ""
    subject = f"{shop.name}: {of}{summary.days.last:%-d %B}"
    key = f"summary-{week.replace(' ', '-')}-{address.replace('@', '.')}"
    return own_mail(shop, address, subject, as_text(shop, summary), key, now, number)


def as_text(shop: Shop, summary: Summary) -> str:
    """In plain words, with where to look."""
    parts: dict[str, list[str]] = {}
    for line in summary.lines:
        where = f"\n  {shop.public_url.rstrip('/')}{line.link}" if shop.public_url else ""
        parts.setdefault(line.part, []).append(f"- {line.words}{where}")
    texts = [f"{part}\n\n" + "\n".join(lines) for part, lines in parts.items()]
    is_day = summary.days.first == summary.days.last
    until = f"{summary.days.last:%A, %-d %B}" if is_day else f"{summary.days.last:%-d %B}"
    heading = f"{shop.name}, {until}" if is_day else f"{shop.name}, {summary.days.first:%-d %B} to {until}"
    foot = (
        f"You get this {'every day' if is_day else 'on Mondays'}. You can change who gets it, and how"
        " often, in Loyal Bell under How results are counted."
    )
    return "\n\n".join([heading, *texts, foot]) + "\n"
