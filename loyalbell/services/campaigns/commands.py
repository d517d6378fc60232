"""Campaigns: one message to one segment. Looking before sending, starting, stopping."""

import hashlib
import json
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from itertools import islice

from sqlalchemy import func, insert, select
from sqlalchemy.orm import Session

from loyalbell.core.campaigns.plan import CampaignPlan
from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.pacing import instants
from loyalbell.core.clock.zones import zone_of
from loyalbell.core.policy.delivery_state import PLANNED, WITHHELD
from loyalbell.core.policy.send_policy import VolumeGuard
from loyalbell.core.segments.model import RuleProblem
from loyalbell.services.application import Application
from loyalbell.services.campaigns.audience import Audience, audience, plan_of
from loyalbell.services.campaigns.queries import CannotSend, blocked, findings, message_ids
from loyalbell.services.delivery.composing.rendering import newest_version
from loyalbell.services.delivery.link_tokens import new_token
from loyalbell.services.delivery.outbox import become_all
from loyalbell.services.delivery.perhaps_gone import until_of
from loyalbell.services.imports.under_way import is_under_way
from loyalbell.services.settings.channels import CareSettings
from loyalbell.storage.schema import Campaign, Delivery, Message, MessageVersion, Segment, Shop

PATIENCE = timedelta(days=3)


def change_plan(application: Application, campaign_id: int, plan: CampaignPlan) -> None:
    """Of a draft. Raises ``CannotSend``."""
    with application.database.transaction() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state != "draft":
            raise CannotSend("This campaign is under way; its plan can no longer be changed.")
        now = application.clock.now()
        if not plan.repeat and any(one <= now for one in (plan.at, *plan.more) if one is not None):
            raise CannotSend("A time it should go out has passed. Choose a later one, or now.")
        _check_variants(session, campaign, plan)
        campaign.plan = plan.model_dump(mode="json")


def change_draft(
    application: Application,
    campaign_id: int,
    segment_id: int,
    message_id: int,
    channels: Sequence[str],
    name: str,
) -> None:
    """To whom a draft goes, with which message, by which channels, and its name. Raises ``CannotSend``."""
    with application.database.transaction() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state != "draft":
            raise CannotSend("This campaign is under way; it can no longer be changed.")
        name = " ".join(name.split())
        _check_draft(session, name, segment_id, message_id, channels, campaign_id)
        campaign.segment_id, campaign.message_id = segment_id, message_id
        campaign.channels, campaign.name = list(channels), name


def _check_draft(
    session: Session, name: str, segment_id: int, message_id: int, channels: Sequence[str], own: int = 0
) -> None:
    if not channels or not set(channels) <= set(CHANNELS):
        raise CannotSend("Choose at least one channel: email, text or chat.")
    if not name:
        raise CannotSend("Give the campaign a name, so that you find it again in Results.")
    if session.get(Segment, segment_id) is None or session.get(Message, message_id) is None:
        raise CannotSend("That segment or message is no longer on file. Choose another.")
    if session.scalar(select(Campaign.id).where(Campaign.name == name, Campaign.id != own)):
        raise CannotSend(f"There is a campaign called “{name}” already. Give this one another name.")


def plan_mark(session: Session, campaign: Campaign) -> str:
    """Stands for all that was settled of a campaign: what was confirmed is what is sent.

    The plan, the segment and its rule, and each message as it was last written.
    """
    letters = {campaign.message_id, *(one.message for one in plan_of(campaign).variants)}
    # the newest version, not the time of the change: an invented clock may stand still
    written = session.execute(
        select(MessageVersion.message_id, func.max(MessageVersion.id))
        .where(MessageVersion.message_id.in_(letters))
        .group_by(MessageVersion.message_id)
    )
    settled = [
        campaign.plan,
        campaign.segment_id,
        session.scalar(select(Segment.rule).where(Segment.id == campaign.segment_id)),
        campaign.message_id,
        campaign.channels,
        sorted(map(list, written)),
    ]
    return hashlib.sha256(json.dumps(settled, sort_keys=True).encode()).hexdigest()[:24]


def _check_variants(session: Session, campaign: Campaign, plan: CampaignPlan) -> None:
    chosen = [campaign.message_id, *(variant.message for variant in plan.variants)]
    letters = {one.id: one for one in session.scalars(select(Message).where(Message.id.in_(chosen)))}
    if len(letters) < len(chosen):
        raise CannotSend("The same message is chosen twice, or one is no longer on file. Choose another.")
    if len({letter.purpose for letter in letters.values()}) > 1:
        raise CannotSend(
            "The messages of one campaign are all marketing or all service. Choose one of the same kind."
        )


def draft_campaign(
    application: Application,
    name: str,
    segment_id: int,
    message_id: int,
    by: str,
    channels: Sequence[str] = ("email",),
) -> int:
    """``channels`` are tried in their order for each person.

    Raises ``CannotSend`` where the name is missing or taken.
    """
    name = " ".join(name.split())
    with application.database.transaction() as session:
        _check_draft(session, name, segment_id, message_id, channels)
        campaign = Campaign(
            name=name,
            segment_id=segment_id,
            message_id=message_id,
            channels=list(channels),
            plan=CampaignPlan().model_dump(mode="json"),
            state="draft",
            made_at=application.clock.now(),
            by=by,
        )
        session.add(campaign)
        session.flush()
        return campaign.id


def start_campaign(
    application: Application, campaign_id: int, people_seen: int, by: str, mark: str | None = None
) -> int:
    """Plans a touch for everyone in the segment and begins sending, or waits for its time.

    Returns how many will get it.

    ``people_seen`` is the number the person confirmed, ``mark`` all that was settled (``plan_mark``). Raises
    ``CannotSend`` if either no longer holds, if the campaign was started before, or if pre-flight forbids it.
    """
    now = application.clock.now()
    with application.database.reading() as session:
        campaign = session.get_one(Campaign, campaign_id)
    who = _confirmed(application, campaign, people_seen)
    with application.database.transaction() as session:
        kept = session.get_one(Campaign, campaign_id)
        if kept.state != "draft":
            raise CannotSend("This campaign was started already. Nothing was sent a second time.")
        if mark is not None and mark != plan_mark(session, kept):
            raise CannotSend("It was changed since you looked. Look again, then send.")
        zone, plan = session.get_one(Shop, 1).zone, plan_of(kept)
        if plan.repeat and plan.at is None:
            plan = plan.model_copy(update={"at": now.replace(second=0, microsecond=0)})
            kept.plan = plan.model_dump(mode="json")
        kept.people_seen, kept.by = len(who.reached), by
        kept.round_at = kept.goes_out_at = plan.next_round(now - timedelta(minutes=1), now, zone)
        if kept.goes_out_at is None:
            raise CannotSend("All of its dates have passed. Give it a later one.")
        if kept.goes_out_at > now:
            kept.state = "scheduled"
            application.note(
                session, by, "scheduled a campaign", campaign=kept.name, at=kept.goes_out_at.isoformat()
            )
        else:
            _start(application, session, kept, who, by)
    return len(who.reached)


def _confirmed(application: Application, campaign: Campaign, people_seen: int) -> Audience:
    """The audience now, if it is the one that was looked at. Raises ``CannotSend``."""
    if blocked(findings(application, campaign)):
        raise CannotSend("The message has something that must be fixed first.")
    who = audience(application, campaign)
    if len(who.reached) != people_seen:
        raise CannotSend(
            f"While you looked, the number changed from {people_seen:,} to {len(who.reached):,} people. "
            "Look again, then send."
        )
    if not who.reached:
        raise CannotSend(
            "Nobody in this segment can be reached on the channels chosen, so there is nothing to send."
        )
    return who


def release_campaign(application: Application, campaign_id: int, people_seen: int, by: str) -> int:
    """Sends the round that was held, to those who are in it now. Raises ``CannotSend``."""
    with application.database.reading() as session:
        campaign = session.get_one(Campaign, campaign_id)
    who = _confirmed(application, campaign, people_seen)
    with application.database.transaction() as session:
        kept = session.get_one(Campaign, campaign_id)
        if kept.state != "held":
            raise CannotSend("This campaign is no longer held. Nothing was sent a second time.")
        kept.people_seen = len(who.reached)
        _start(application, session, kept, who, by)
    return len(who.reached)


def start_due(application: Application) -> int:
    """Starts the campaigns whose time has come, to whoever is in the segment then. Returns how many began.

    One whose audience has grown far beyond what was confirmed, whose message has come to need mending, or
    whose time passed long ago is held. Of several rounds that were missed one goes out.
    """
    now, begun = application.clock.now(), 0
    with application.database.reading() as session:
        shop = session.get(Shop, 1)
        due = list(
            session.scalars(
                select(Campaign).where(Campaign.state == "scheduled", Campaign.goes_out_at <= now)
            )
        )
        care = CareSettings.load(session)
    if shop is None or not shop.ringing or not due or is_under_way(application):
        return 0
    guard = VolumeGuard(care.guard_factor, care.guard_floor)
    for campaign in due:
        try:
            found = audience(application, campaign)
            why = _odd(application, campaign, found, guard)
        except RuleProblem as problem:
            _hold(application, campaign.id, f"Its audience cannot be counted: {problem}")
            continue
        with application.database.transaction() as session:
            kept = session.get_one(Campaign, campaign.id)
            if kept.state != "scheduled":
                continue
            if why:
                kept.state, kept.held_because = "held", why
                application.note(
                    session,
                    "the clock",
                    "held a campaign",
                    campaign=campaign.name,
                    people=len(found.reached),
                    confirmed=campaign.people_seen,
                )
            else:
                _start(application, session, kept, found, campaign.by or "the clock")
                begun += 1
    return begun


def _hold(application: Application, campaign_id: int, why: str) -> None:
    """Holds a campaign that cannot start, with the reason for whoever looks; the others go on."""
    with application.database.transaction() as session:
        kept = session.get_one(Campaign, campaign_id)
        if kept.state == "scheduled":
            kept.state, kept.held_because = "held", why
            application.note(session, "the clock", "held a campaign", campaign=kept.name, why=why)


def _odd(application: Application, campaign: Campaign, found: Audience, guard: VolumeGuard) -> str:
    """Why it should wait for a person; empty where nothing is odd."""
    if len(found.reached) > guard.most(campaign.people_seen or 0):
        return (
            f"{len(found.reached):,} people would have got it, and {campaign.people_seen or 0:,} were"
            " confirmed."
        )
    if blocked(findings(application, campaign)):
        return "Its message has come to need mending."
    if campaign.goes_out_at is not None and application.clock.now() - campaign.goes_out_at > PATIENCE:
        return "Its time came while the program was off or silent, and that is days ago."
    return ""


def unschedule(application: Application, campaign_id: int, by: str) -> None:
    """A scheduled or held campaign becomes a draft again; what has gone out of it stays."""
    with application.database.transaction() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state in ("scheduled", "held"):
            campaign.state, campaign.goes_out_at, campaign.round_at = "draft", None, None
            plan = plan_of(campaign)
            if not plan.recurs:
                campaign.plan = plan.model_copy(update={"at": None}).model_dump(mode="json")
            application.note(session, by, "took a campaign back", campaign=campaign.name)


def end_campaign(application: Application, campaign_id: int, by: str) -> None:
    """No further rounds; of one that has gone out at least once."""
    with application.database.transaction() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.started_at is not None and campaign.state in ("draft", "scheduled", "held"):
            campaign.state, campaign.goes_out_at, campaign.round_at = "sent", None, None
            campaign.ended_at = application.clock.now()
            application.note(session, by, "ended a campaign", campaign=campaign.name)


def _start(application: Application, session: Session, campaign: Campaign, who: Audience, by: str) -> None:
    """One round of it; then the next one, if there is one, stands in ``round_at``."""
    now, plan = application.clock.now(), plan_of(campaign)
    shop = session.get_one(Shop, 1)
    versions = {message_id: newest_version(session, message_id).id for message_id in message_ids(campaign)}
    recurs = plan.recurs or campaign.started_at is not None
    occurrence = (campaign.round_at or now).isoformat(timespec="minutes") if recurs else ""
    until, meant = until_of(session), campaign.goes_out_at
    # a round that was due before a restore may have left from the book that was lost
    begins = meant if until is not None and meant is not None and meant <= until else now
    rows = _deliveries(campaign, versions, who, begins, shop.zone)
    session.execute(insert(Delivery), [row | {"occurrence": occurrence} for row in rows])
    campaign.state, campaign.message_version_id = "sending", versions[campaign.message_id]
    campaign.started_at = campaign.started_at or now
    campaign.rule = session.get_one(Segment, campaign.segment_id).rule
    after = max(now, campaign.round_at or now)
    campaign.round_at = plan.next_round(after, after, shop.zone) if plan.recurs else None
    campaign.goes_out_at = campaign.round_at or campaign.goes_out_at
    application.note(session, by, "started a campaign", campaign=campaign.name, people=len(who.reached))


def _deliveries(
    campaign: Campaign, versions: Mapping[int, int], who: Audience, now: datetime, zone: str
) -> list[dict[str, object]]:
    """A row for everybody: planned, at once or paced, or withheld with its cause.

    ``versions`` by message id.
    """
    shared: dict[str, object] = {
        "origin_kind": "campaign",
        "origin_id": campaign.id,
        "step": "",
        "attempts": 0,
    }
    due = _due(plan_of(campaign), len(who.reached), now, zone)
    planned = [
        {
            "person_id": at,
            "address": address,
            "state": PLANNED,
            "cause": None,
            "channel": who.channel[at],
            "token": new_token(who.channel[at]),
            "due_at": when,
            "message_version_id": versions[who.message[at]],
        }
        for (at, address), when in zip(who.reached.items(), due, strict=True)
    ]
    withheld = [
        {
            "person_id": at,
            "address": None,
            "state": WITHHELD,
            "cause": cause,
            "channel": campaign.channels[0],
            "token": new_token("email"),
            "due_at": now,
            "message_version_id": versions[campaign.message_id],
        }
        for at, cause in who.left_out.items()
    ]
    return [shared | row for row in (*planned, *withheld)]


def _due(plan: CampaignPlan, people: int, now: datetime, zone: str) -> list[datetime]:
    """When each of the people in turn is written to."""
    if plan.pacing is None or not people:
        return [now] * people
    pace = plan.pacing.pace()
    batches = islice(instants(int(now.timestamp()), pace, zone_of(zone)), -(-people // pace.batch))
    times = [datetime.fromtimestamp(batch, now.tzinfo) for batch in batches]
    return [times[at // pace.batch] for at in range(people)]


def stop_campaign(application: Application, campaign_id: int, by: str) -> int:
    """Withholds everything not yet handed over. Returns how many will not get it."""
    with application.database.transaction() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state != "sending":
            return 0
        mine = (Delivery.origin_kind == "campaign") & (Delivery.origin_id == campaign_id)
        count = become_all(session, mine & (Delivery.state == PLANNED), WITHHELD, cause="stopped")
        campaign.state, campaign.ended_at, campaign.round_at = "stopped", application.clock.now(), None
        application.note(session, by, "stopped a campaign", campaign=campaign.name, people=count)
        return count


def discard_draft(application: Application, campaign_id: int) -> None:
    with application.database.transaction() as session:
        campaign = session.get_one(Campaign, campaign_id)
        if campaign.state == "draft" and campaign.started_at is None:
            session.delete(campaign)
