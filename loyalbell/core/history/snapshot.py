"""The whole book as columns, sorted by time, with views as of any instant.

People are numbered from 0 in the order of their ids; someone who was erased keeps
the number and is never on file. Instants are whole seconds since 1970-01-01T00:00Z;
``NEVER`` stands for one that has not come. Days are counted from 1970-01-01.
Money is integer minor units of the shop's currency. Text is kept as codes of ``Words``.
"""

from dataclasses import dataclass, field, fields
from functools import cached_property
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.yearly import FEBRUARY_28
from loyalbell.core.history.columns import NEVER, Ints, Mask, Rows, Small, column

CONSENT_STATES = ("never asked", "agreed", "waiting", "refused")
APPOINTMENT_STATES = ("booked", "kept", "cancelled", "missed")
BOOKED, KEPT, CANCELLED, MISSED = range(4)
AGREED = CONSENT_STATES.index("agreed")
NO_DAY = -(2**31)
PERSON_WORDS = ("first_name", "last_name", "city", "region", "postal_code", "language", "zone")


class WordCodes(dict[str, int]):
    """Codes of words, from 1; 0 stands for none. Words are only ever added."""

    def __init__(self) -> None:
        super().__init__()
        self.said = [""]

    def __missing__(self, word: str) -> int:
        self.said.append(word)
        self[word] = code = len(self.said) - 1
        return code


@dataclass(frozen=True)
class People:
    """One row a person: ``ids`` ascending.

    ``has_address`` is people x channels. Birthday parts are 0 where unknown.

    ``words`` is people x ``PERSON_WORDS``, as codes. ``before_…`` sum up purchases of before this book
    (``before.py``); ``before_last`` is ``NEVER`` where there is no such sum.
    """

    ids: Ints
    joined_at: Ints
    closed_at: Ints
    deceased_at: Ints
    has_address: Mask
    birthday_month: Small
    birthday_day: Small
    birthday_year: Small
    words: Small = field(metadata={"of words": True})
    before_orders: Ints
    before_money: Ints
    before_first: Ints
    before_last: Ints

    def __len__(self) -> int:
        return len(self.ids)

    def words_of(self, fact: str) -> Small:
        """The codes of one of ``PERSON_WORDS`` for each person, 0 where it is not known."""
        codes: Small = self.words[:, PERSON_WORDS.index(fact)]
        return codes

    @classmethod
    def of(cls, ids: ArrayLike, joined_at: ArrayLike, **more: ArrayLike) -> Self:
        """People from columns; missing ones mean never closed, every address, no birthday."""
        numbers = np.asarray(ids, dtype=np.int64)
        count = len(numbers)
        none = np.zeros(count, dtype=np.int32)
        blank = {
            "closed_at": np.full(count, NEVER),
            "deceased_at": np.full(count, NEVER),
            "has_address": np.ones((count, len(CHANNELS)), dtype=np.bool_),
            "birthday_month": none,
            "birthday_day": none,
            "birthday_year": none,
            "words": np.zeros((count, len(PERSON_WORDS)), dtype=np.int32),
            "before_orders": np.zeros(count, dtype=np.int64),
            "before_money": np.zeros(count, dtype=np.int64),
            "before_first": np.full(count, NEVER),
            "before_last": np.full(count, NEVER),
        }
        given = {name: np.asarray(values) for name, values in more.items()}
        return cls(numbers, np.asarray(joined_at, dtype=np.int64), **(blank | given))

    def with_people(self, fresh: "People", gone: Ints) -> "People | None":
        """With some people as they are now and some gone; ``None`` where numbers would have to change."""
        known = np.isin(fresh.ids, self.ids)
        newest = int(self.ids[-1]) if len(self.ids) else -1
        if bool(np.any(fresh.ids[~known] <= newest)):
            return None
        columns = {}
        rows = np.searchsorted(self.ids, fresh.ids[known])
        left = np.searchsorted(self.ids, gone[np.isin(gone, self.ids)])
        for one in fields(self):
            mended = getattr(self, one.name).copy()
            mended[rows] = getattr(fresh, one.name)[known]
            if one.name == "joined_at":
                mended[left] = NEVER
            columns[one.name] = np.concatenate((mended, getattr(fresh, one.name)[~known]))
        return People(**columns)

    @cached_property
    def settled_from(self) -> int:
        """From this second on nobody joins, closes or dies by what is on file."""
        known = [times[times < NEVER] for times in (self.joined_at, self.closed_at, self.deceased_at)]
        return max((int(times.max()) for times in known if len(times)), default=-int(NEVER))

    @cached_property
    def settled_on_file(self) -> Mask:
        """Who is on file from then on. Not to be written into."""
        mask = (self.joined_at < NEVER) & (self.closed_at >= NEVER) & (self.deceased_at >= NEVER)
        mask.flags.writeable = False
        return mask


@dataclass(frozen=True)
class Orders(Rows):
    """``void_at`` is when an order was cancelled or refunded whole."""

    department: Small = column(np.int32)
    location: Small = column(np.int32)
    money: Ints = column()
    void_at: Ints = column(blank=NEVER)
    refunded_at: Ints = column(blank=NEVER)
    refunded: Ints = column()
    in_person: Mask = column(np.bool_, 1)

    def counted(self, rows: slice, as_of: int) -> Mask:
        """Which of these rows stood as purchases at ``as_of``."""
        return self.void_at[rows] > as_of

    def net_money(self, rows: slice | Ints, as_of: int) -> Ints:
        """Money of each row less what had been refunded by ``as_of``."""
        back = np.where(self.refunded_at[rows] <= as_of, self.refunded[rows], 0)
        return self.money[rows] - back


STATUSES = ("confirmed", "shipped", "delivered", "cancelled")


@dataclass(frozen=True)
class Statuses(Rows):
    """When orders came to a status; ``key`` is the order's, ``status`` a place in ``STATUSES``."""

    status: Small = column(np.int32)


@dataclass(frozen=True)
class Lines(Rows):
    """Lines of orders; ``key`` is the order's. ``quantity`` is in thousandths. A void order's lines
    are void.
    """

    item: Small = column(np.int32)
    department: Small = column(np.int32)
    quantity: Ints = column()
    money: Ints = column()
    void_at: Ints = column(blank=NEVER)


@dataclass(frozen=True)
class WalkIns(Rows):
    """Visits without an appointment or an order; see ``visits`` for all of them."""

    department: Small = column(np.int32)
    location: Small = column(np.int32)


@dataclass(frozen=True)
class Appointments(Rows):
    """``at`` is the start. What became of one is known from ``settled_at``; before that it was booked."""

    booked_at: Ints = column(blank=-NEVER)
    settled_at: Ints = column(blank=NEVER)
    outcome: Small = column(np.int32)
    item: Small = column(np.int32)
    department: Small = column(np.int32)
    location: Small = column(np.int32)

    def state(self, as_of: int) -> Small:
        """The state of each as it stood then; -1 for those not yet booked."""
        state = np.where(self.settled_at <= as_of, self.outcome, BOOKED)
        return np.where(self.booked_at <= as_of, state, -1).astype(np.int32)


@dataclass(frozen=True)
class Memberships(Rows):
    """``at`` is the start of the first day. Days are counted from 1970-01-01; ``NO_DAY`` for none."""

    plan: Small = column(np.int32, of_words=True)
    term: Small = column(np.int32, of_words=True)
    started: Small = column(np.int32)
    renews: Small = column(np.int32, NO_DAY)
    ended: Small = column(np.int32, NO_DAY)
    price: Ints = column()


@dataclass(frozen=True)
class Events(Rows):
    """``properties`` is the code of the event's properties as JSON text with sorted names."""

    kind: Small = column(np.int32, of_words=True)
    properties: Small = column(np.int32, of_words=True)


@dataclass(frozen=True)
class Answers(Rows):
    """Reviews and answers; ``score`` out of ``best``, -1 where none was given."""

    kind: Small = column(np.int32, of_words=True)
    score: Small = column(np.int32, -1)
    best: Small = column(np.int32)
    item: Small = column(np.int32)


@dataclass(frozen=True)
class Deliveries(Rows):
    """Messages that left; ``at`` is when."""

    channel: Small = column(np.int32)
    message: Small = column(np.int32)
    origin: Small = column(np.int32, of_words=True)
    origin_id: Small = column(np.int32)


@dataclass(frozen=True)
class Engagements(Rows):
    """What came of messages: ``kind`` is a code of opened, clicked, refused, replied and the like."""

    kind: Small = column(np.int32, of_words=True)
    channel: Small = column(np.int32)
    message: Small = column(np.int32)
    delivery: Ints = column()


@dataclass(frozen=True)
class Consents(Rows):
    """The consent log: who said what about which channel."""

    channel: Small = column(np.int32)
    state: Small = column(np.int32)


@dataclass(frozen=True)
class Suppressions(Rows):
    """Who must not be written to on which channel, from when until when."""

    channel: Small = column(np.int32)
    lifted_at: Ints = column(blank=NEVER)


@dataclass(frozen=True)
class Codes(Rows):
    """Codes of offers that people were given: ``at`` when, ``until`` before when they hold, ``used_at`` when
    they were used up.
    """

    offer: Small = column(np.int32)
    until: Ints = column(blank=NEVER)
    used_at: Ints = column(blank=NEVER)


ENROLMENT_ENDS = ("", "finished", "left", "held back")
"""How ways through sequences end, by code; 0 while they go on."""


@dataclass(frozen=True)
class Enrolments(Rows):
    """Ways of people through sequences: ``at`` when they came in or were held back, ``ended_at`` when and
    ``how`` it ended.
    """

    sequence: Small = column(np.int32)
    ended_at: Ints = column(blank=NEVER)
    how: Small = column(np.int32)


@dataclass(frozen=True)
class Tags(Rows):
    """Who carried which tag from ``at`` until before ``until``."""

    tag: Small = column(np.int32)
    until: Ints = column(blank=NEVER)


@dataclass(frozen=True)
class FieldValues(Rows):
    """What a field of the shop held from ``at`` until before ``until``.

    ``number`` is the value of numbers, days and yes (1) or no (0); ``word`` the code of a
    text or a choice. Several choices are several rows with one key.
    """

    field: Small = column(np.int32)
    number: np.ndarray[tuple[int], np.dtype[np.float64]] = column(np.float64, np.nan)
    word: Small = column(np.int32, of_words=True)
    until: Ints = column(blank=NEVER)


@dataclass(frozen=True)
class YearlyDates(Rows):
    """Named days of the year.

    ``of_companion`` marks birthdays of those somebody cares for. ``at`` is not used.
    """

    name: Small = column(np.int32, of_words=True)
    month: Small = column(np.int32)
    day: Small = column(np.int32)
    year: Small = column(np.int32)
    of_companion: Mask = column(np.bool_)


@dataclass(frozen=True)
class Catalogue:
    """What codes of items, departments, locations, tags and fields mean.

    ``items``: name, category, department.
    """

    departments: dict[int, str] = field(default_factory=dict)
    locations: dict[int, str] = field(default_factory=dict)
    items: dict[int, tuple[str, str, int]] = field(default_factory=dict)
    tags: dict[int, str] = field(default_factory=dict)
    fields: dict[int, tuple[str, str]] = field(default_factory=dict)


@dataclass(frozen=True)
class HistorySnapshot:
    """One consistent state of the book. ``version`` grows with every change of it.

    ``leap_day``: on which day of common years 29 February is kept.
    """

    zone: str
    currency: str
    people: People
    orders: Orders = field(default_factory=Orders.of)
    consents: Consents = field(default_factory=Consents.of)
    suppressions: Suppressions = field(default_factory=Suppressions.of)
    statuses: Statuses = field(default_factory=Statuses.of)
    lines: Lines = field(default_factory=Lines.of)
    walk_ins: WalkIns = field(default_factory=WalkIns.of)
    appointments: Appointments = field(default_factory=Appointments.of)
    memberships: Memberships = field(default_factory=Memberships.of)
    events: Events = field(default_factory=Events.of)
    answers: Answers = field(default_factory=Answers.of)
    deliveries: Deliveries = field(default_factory=Deliveries.of)
    engagements: Engagements = field(default_factory=Engagements.of)
    codes: Codes = field(default_factory=Codes.of)
    enrolments: Enrolments = field(default_factory=Enrolments.of)
    tags: Tags = field(default_factory=Tags.of)
    field_values: FieldValues = field(default_factory=FieldValues.of)
    yearly_dates: YearlyDates = field(default_factory=YearlyDates.of)
    catalogue: Catalogue = field(default_factory=Catalogue)
    words: WordCodes = field(default_factory=WordCodes)
    leap_day: str = FEBRUARY_28
    version: int = 0
    worked_out: dict[str, Any] = field(default_factory=dict, init=False, repr=False, compare=False)
    """What others work out from this very state once, by their own names.

    Never carried over to another state.
    """

    @property
    def departments(self) -> dict[int, str]:
        return self.catalogue.departments

    def on_file(self, as_of: int) -> Mask:
        """Who was a customer by then and neither closed nor deceased.

        Somebody is a customer from the day they are said to have joined, or from the first
        thing they are known to have done, whichever came first.
        """
        if as_of >= self.people.settled_from:
            return self.people.settled_on_file
        present = self.people.joined_at <= as_of
        if not bool(present.all()):
            for part in (self.orders, self.walk_ins, self.appointments, self.events, self.memberships):
                present[part.person[: np.searchsorted(part.at, as_of, side="right")]] = True
        return present & (self.people.closed_at > as_of) & (self.people.deceased_at > as_of)

    def consent_states(self, channel: int, as_of: int) -> Small:
        """Everyone's newest word about the channel by ``as_of``, as a place in ``CONSENT_STATES``."""
        log = self.consents
        seen = np.searchsorted(log.at, as_of + 1)
        rows = np.flatnonzero(log.channel[:seen] == channel)
        state = np.zeros(len(self.people), dtype=np.int32)
        state[log.person[rows]] = log.state[rows]
        return state

    def agreed(self, channel: int, as_of: int) -> Mask:
        """Whose newest word about the channel, by ``as_of``, is yes."""
        return np.equal(self.consent_states(channel, as_of), AGREED)

    def suppressed(self, channel: int, as_of: int) -> Mask:
        marks = self.suppressions
        holds = (marks.channel == channel) & (marks.at <= as_of) & (marks.lifted_at > as_of)
        out = np.zeros(len(self.people), dtype=np.bool_)
        out[marks.person[holds]] = True
        return out

    def reachable(self, channel: int, as_of: int) -> Mask:
        """Who has an address for the channel, agreed to it and is not suppressed on it."""
        mask = self.people.has_address[:, channel] & self.agreed(channel, as_of)
        return mask & ~self.suppressed(channel, as_of)

    def tagged(self, tag: int, as_of: int) -> Mask:
        """Who carried the tag then."""
        rows = (self.tags.tag == tag) & (self.tags.at <= as_of) & (self.tags.until > as_of)
        out = np.zeros(len(self.people), dtype=np.bool_)
        out[self.tags.person[rows]] = True
        return out

    def values_of(self, field_id: int, as_of: int) -> FieldValues:
        """The rows that a field held then, at most one a person (several for several choices)."""
        values = self.field_values
        return values.taken((values.field == field_id) & (values.at <= as_of) & (values.until > as_of))

    def per_person(self, person: Small, weights: Ints | None = None) -> Ints:
        """Counts, or exact sums of ``weights``, per person number."""
        size = len(self.people)
        if weights is None:
            return np.bincount(person, minlength=size).astype(np.int64, copy=False)
        return np.rint(np.bincount(person, weights=weights, minlength=size)).astype(np.int64)

    def number_of(self, person_ids: Ints) -> Ints:
        """Person numbers of ids that are all on file."""
        return np.searchsorted(self.people.ids, person_ids)

    @property
    def rows(self) -> int:
        """How many rows the history has, people not counted."""
        parts = (getattr(self, one.name) for one in fields(self))
        return sum(len(part) for part in parts if isinstance(part, Rows))

    def bytes_per_event(self) -> float:
        """Memory of the history in bytes, for each of its rows."""
        parts = [getattr(self, one.name) for one in fields(self)]
        rows = [part for part in parts if isinstance(part, Rows) and len(part)]
        held = sum(part.bytes_each() * len(part) for part in rows)
        return held / max(self.rows, 1)
