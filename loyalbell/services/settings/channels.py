"""What Settings hold of the channels, links, staff and proof-readers, each group under its name."""

from datetime import date, datetime
from typing import Any, ClassVar, Literal, Self, TypeVar

from pydantic import BaseModel, ConfigDict, EmailStr, Field
from sqlalchemy.orm import Session

from loyalbell.core.changes import changes
from loyalbell.core.channels import Channel
from loyalbell.core.clock.local_time import local_day
from loyalbell.core.policy.holdout import Holdout
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.results.defaults import WINDOW_DAYS, WORTH
from loyalbell.services.application import Application
from loyalbell.storage.schema import Setting, Shop
from loyalbell.storage.secret_box import KeyLost, box_of


class SettingsGroup(BaseModel):
    model_config = ConfigDict(extra="ignore")
    kept_as: ClassVar[str]
    sealed: ClassVar[tuple[str, ...]] = ()
    """Fields that are passwords or keys: kept sealed."""

    @classmethod
    def load(cls, session: Session) -> Self:
        """As kept, or as they are at first."""
        kept = session.get(Setting, cls.kept_as)
        if kept is not None:  # held for as long as the session: what nobody holds would be read again
            session.info.setdefault("settings", {})[cls.kept_as] = kept
        value = dict(kept.value) if kept else {}
        for name in cls.sealed:
            value[name] = _opened(session, str(value.get(name, "")))
        return cls.model_validate(value)

    def save(self, session: Session) -> None:
        kept = session.get(Setting, self.kept_as)
        value: dict[str, Any] = self.model_dump(mode="json")
        for name in self.sealed:
            value[name] = box_of(session).seal(value[name])
        if kept is None:
            session.add(Setting(name=self.kept_as, value=value))
        else:
            kept.value = value


def _opened(session: Session, kept: str) -> str:
    """Nothing where its key is lost; Today says so (``services/settings/secrets_at_rest.py``)."""
    try:
        return box_of(session).open(kept)
    except KeyLost:
        return ""


class EmailSettings(SettingsGroup):
    """``bounce_domain`` takes delivery reports at ``bounce+KEY@…``.

    DKIM signs where a key (PEM) is given.
    """

    kept_as = "email"
    sealed = ("password", "dkim_key")
    reply_to: str = ""
    tls: Literal["none", "starttls", "tls"] = "none"
    user: str = ""
    password: str = ""
    bounce_domain: str = ""
    dkim_domain: str = ""
    dkim_selector: str = ""
    dkim_key: str = ""


class SenderCheck(SettingsGroup):
    """``confirmed`` is the sender's address that somebody who reads its mail has confirmed.

    ``asked`` waits for that.
    """

    kept_as = "sender"
    confirmed: str = ""
    asked: str = ""
    token: str = ""


class GatewaySettings(SettingsGroup):
    """A text or chat network by HTTP.

    ``secret`` signs its calls back to us; ``cost_minor`` is of one part or message.
    """

    sealed = ("key", "secret")
    url: str = ""
    key: str = ""
    secret: str = ""
    sender: str = ""
    cost_minor: float = Field(default=0.0, ge=0, le=1_000)


class TextSettings(GatewaySettings):
    kept_as = "text"


class ChatSettings(GatewaySettings):
    kept_as = "chat"


class LinkSettings(SettingsGroup):
    """``social`` are (name, address)."""

    kept_as = "links"
    booking_url: str = ""
    review_url: str = ""
    phone: str = ""
    social: list[tuple[str, str]] = Field(default_factory=list)


class StaffSettings(SettingsGroup):
    """When somebody answers: weekdays from 0 (Monday), from and to in whole hours.

    Answers one person gives an hour.
    """

    kept_as = "staff"
    weekdays: list[int] = Field(default_factory=lambda: [0, 1, 2, 3, 4])
    begins: int = Field(default=9, ge=0, le=23)
    ends: int = Field(default=17, ge=1, le=24)
    answers_an_hour: int = Field(default=20, ge=1, le=1_000)


class CareSettings(SettingsGroup):
    """What holds for everything that is sent: how often, when not, and what is held until a person looks.

    Quiet hours are of the person's own day. ``closed`` are days (ISO); ``holidays`` takes in the country's
    public ones. ``silent`` are channels on which nothing leaves; ``silent_departments`` those whose sequences
    rest.
    """

    kept_as = "care"
    limits: list[FrequencyCap] = Field(
        default_factory=lambda: [FrequencyCap(count=1, days=1), FrequencyCap(count=3, days=7)], max_length=4
    )
    quiet_begins: str = Field(default="21:00", pattern=r"^(([01]\d|2[0-3]):[0-5]\d)?$")
    quiet_ends: str = Field(default="08:00", pattern=r"^(([01]\d|2[0-3]):[0-5]\d)?$")
    holidays: bool = False
    closed: list[date] = Field(default_factory=list, max_length=400)
    guard_factor: float = Field(default=3.0, ge=1, le=100)
    guard_floor: int = Field(default=50, ge=0, le=1_000_000)
    newcomer_percent: float = Field(default=1.0, gt=0, le=100)
    leap_day: Literal["28 February", "1 March"] = "28 February"
    silent: list[Channel] = Field(default_factory=list)
    silent_departments: list[int] = Field(default_factory=list)


MOST_HELD_OUT = 20
"""Per cent of all customers; more would cost more than the answer is worth (a decision of ours)."""


class HoldoutSettings(SettingsGroup):
    """The share of all customers in per cent who get no marketing; see ``core/policy/holdout.py``."""

    kept_as = "holdout"
    percent: int = Field(default=0, ge=0, le=MOST_HELD_OUT)
    since: date | None = None
    fixed: dict[str, int] = Field(default_factory=dict)

    @property
    def holdout(self) -> Holdout:
        return Holdout(self.percent, self.since, self.fixed)

    @classmethod
    def of(cls, holdout: Holdout) -> Self:
        return cls(percent=holdout.percent, since=holdout.since, fixed=dict(holdout.fixed))


class ResultsSettings(SettingsGroup):
    """How results are counted, and to which addresses the summary of each week or day goes.

    An order follows a message within ``window_days``; ``opens_count``: also one that was only opened;
    ``worth_per_thousand``: the least difference worth having.
    """

    kept_as = "results"
    window_days: int = Field(default=WINDOW_DAYS, ge=1, le=60)
    opens_count: bool = False
    worth_per_thousand: int = Field(default=round(1_000 * WORTH), ge=1, le=200)
    summary_to: list[EmailStr] = Field(default_factory=list, max_length=20)
    summary_every: Literal["week", "day"] = "week"

    @property
    def worth(self) -> float:
        return self.worth_per_thousand / 1_000


class SummarySent(SettingsGroup):
    """To whom the summary of a ``week`` (its Monday, ISO; of a day: *day* and that day) was handed over.

    It is not tried again before ``again_at``.
    """

    kept_as = "summary sent"
    week: str = ""
    handed: list[str] = Field(default_factory=list)
    again_at: datetime | None = None


class ProofReader(BaseModel):
    name: str
    email: str = ""
    phone: str = ""
    chat: str = ""


class ProofSettings(SettingsGroup):
    kept_as = "proofs"
    readers: list[ProofReader] = Field(default_factory=list)


Kind = TypeVar("Kind", bound=SettingsGroup)
GATEWAYS: dict[str, type[GatewaySettings]] = {"text": TextSettings, "chat": ChatSettings}


def loaded(application: Application, group: type[Kind]) -> Kind:
    with application.database.reading() as session:
        return group.load(session)


def change_holdout(application: Application, percent: int, by: str) -> None:
    """Another share of customers who get no marketing; a quarter that has begun keeps its group."""
    with application.database.transaction() as session:
        kept = HoldoutSettings.load(session)
        if kept.percent == percent:
            return
        today = local_day(application.clock.now(), session.get_one(Shop, 1).zone)
        HoldoutSettings.of(kept.holdout.changed(percent, today)).save(session)
        said = changes({"percent": kept.percent}, {"percent": percent})
        application.note(session, by, "changed who gets no marketing", **said)


def keep(application: Application, made: SettingsGroup, group: str, by: str) -> None:
    """Keeps a group of settings, and says so in the log."""
    with application.database.transaction() as session:
        before, after = type(made).load(session).model_dump(mode="json"), made.model_dump(mode="json")
        made.save(session)
        said = changes(before, after, made.sealed)
        application.note(session, by, "changed the settings", group=group, **said)
