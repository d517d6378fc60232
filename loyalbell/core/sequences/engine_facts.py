"""What the ledger knows about the people of sequences, asked one person and one instant at a time."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, fields
from datetime import UTC, date, datetime
from typing import NamedTuple

import numpy as np

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.send_windows import QuietHours
from loyalbell.core.clock.zones import DAY, Zone, zone_of
from loyalbell.core.history.columns import NEVER, Mask, Rows
from loyalbell.core.history.person_slice import PersonSlices
from loyalbell.core.history.snapshot import CONSENT_STATES, HistorySnapshot
from loyalbell.core.policy.assignment import arm_of, held_back
from loyalbell.core.policy.holdout import Holdout
from loyalbell.core.policy.send_policy import FrequencyCap, SendFacts, first_refusal
from loyalbell.core.segments.evaluation import evaluate
from loyalbell.core.segments.locality import asks_of_one, asks_of_ours
from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.event_rows import ByPerson, Others, event_rows
from loyalbell.core.sequences.plan import EventFilter
from loyalbell.core.sequences.simulated_history import ACTS, SimulatedHistory

FEW = 12
"""Up to so many times a day a rule is asked of each person alone; beyond, of the whole book at once."""


@dataclass(frozen=True)
class MessageFacts:
    """What a message is to a sequence: for marketing or service, and on which channels it says something."""

    marketing: bool = True
    channels: frozenset[str] = frozenset(CHANNELS)


@dataclass(frozen=True)
class SendPolicy:
    """The shop's own rules.

    ``paused`` until when and ``seldom`` days between, by person id, as customers chose.
    """

    limits: tuple[FrequencyCap, ...] = ()
    quiet: QuietHours = QuietHours()
    letters: Mapping[int, MessageFacts] = field(default_factory=dict)
    segments: Mapping[int, Rule] = field(default_factory=dict)
    others: Others = Others()
    paused: Mapping[int, int] = field(default_factory=dict)
    seldom: Mapping[int, int] = field(default_factory=dict)
    holdout: Holdout = Holdout()


EPOCH = date(1970, 1, 1).toordinal()
NO_ROWS: list[tuple[int, ...]] = []


class Lookup:
    """Rows of a part by person number, as lists of chosen columns in order of time."""

    def __init__(self, part: Rows, people: int, *columns: str) -> None:
        order = np.argsort(part.person, kind="stable")
        self._bounds: list[int] = np.searchsorted(part.person[order], np.arange(people + 1)).tolist()
        self._columns: list[list[int]] = [getattr(part, name)[order].tolist() for name in columns]

        self._kept: dict[int, list[tuple[int, ...]]] = {}

    def of(self, person: int) -> list[tuple[int, ...]]:
        found = self._kept.get(person)
        if found is None:
            low, high = self._bounds[person], self._bounds[person + 1]
            if low == high:
                return NO_ROWS
            found = list(zip(*(column[low:high] for column in self._columns), strict=True))
            self._kept[person] = found
        return found


class Nature(NamedTuple):
    """What a rule is like: its ``words``, the same for equal rules.

    Whether one person's rows are enough to answer it (``of_one``), whether it asks since when they came in
    (``personal``), and whether for our own doing (``of_ours``).
    """

    rule: Rule
    words: str
    of_one: bool
    personal: bool
    of_ours: bool


class SequenceHistory:
    """The ledger made ready to be asked about single people. One for each state of the ledger."""

    def __init__(
        self, snapshot: HistorySnapshot, policy: SendPolicy, since: int = -(2**61), until: int = 2**61
    ) -> None:
        """Happenings are looked up with ``since < at <= until``."""
        self.snapshot, self.policy = snapshot, policy
        self._since, self._until = since, until
        people = snapshot.people
        size = len(people)
        self.ids: list[int] = people.ids.tolist()
        self.joined: list[int] = _first_seen(snapshot).tolist()
        self.closed: list[int] = people.closed_at.tolist()
        self.gone: list[int] = np.minimum(people.closed_at, people.deceased_at).tolist()
        self.deceased: list[int] = people.deceased_at.tolist()
        self.addresses: list[list[bool]] = people.has_address.tolist()
        self.consents = Lookup(snapshot.consents, size, "at", "channel", "state")
        self.suppressions = Lookup(snapshot.suppressions, size, "at", "channel", "lifted_at")
        self._zones: list[int] = people.words_of("zone").tolist()
        self._by_code: dict[int, Zone] = {}
        self._happened: dict[EventFilter, ByPerson] = {}
        self._rules: dict[tuple[str, int], Mask] = {}
        self._asked: dict[tuple[str, int], int] = {}
        self._busy: dict[int, Mask] = {}
        self._natures: dict[int, Nature] = {}
        self._slices: PersonSlices | None = None

    def shop_day(self, now: int) -> date:
        """The shop's local day."""
        return date.fromordinal(EPOCH + zone_of(self.snapshot.zone).day(now))

    def zone(self, person: int) -> Zone:
        """Their own zone, or the shop's."""
        code = self._zones[person]
        found = self._by_code.get(code)
        if found is None:
            found = self._by_code[code] = zone_of(
                self.snapshot.words.said[code] if code else self.snapshot.zone
            )
        return found

    def event_rows(self, what: EventFilter) -> ByPerson:
        found = self._happened.get(what)
        if found is None:
            rows = event_rows(what, self.snapshot, self._since, self._until, self.policy.others)
            found = self._happened[what] = ByPerson(rows, len(self.ids))
        return found

    def present(self, person: int, now: int) -> bool:
        return self.joined[person] <= now < self.gone[person]

    def consent(self, person: int, channel: int, now: int) -> str:
        state = 0
        for at, of, said in self.consents.of(person):
            if at > now:
                break
            if of == channel:
                state = said
        return CONSENT_STATES[state]

    def suppressed(self, person: int, channel: int, now: int) -> bool:
        rows = self.suppressions.of(person)
        return bool(rows) and any(of == channel and at <= now < lifted for at, of, lifted in rows)

    def meets(
        self, rule: Rule, person: int, now: int, entered: int, imagined: SimulatedHistory | None = None
    ) -> bool:
        """As the whole book would answer at ``now``.

        Calendar days part all periods, so that for somebody with no row of this day yet the answer is that of
        the day's first instant, which is asked once for everybody. Rules that compare people with one another
        are asked as of that instant for all. A rule about what we did ourselves sees what is ``imagined``
        too.
        """
        nature = self.nature(rule)
        if nature.personal or (nature.of_one and nature.of_ours and imagined):
            return self.meets_alone(rule, person, now, entered, imagined if nature.of_ours else None)
        zone = zone_of(self.snapshot.zone)
        day = zone.day(now)
        count = self._asked[(nature.words, day)] = self._asked.get((nature.words, day), 0) + 1
        if nature.of_one and (count <= FEW or self._busy_on(day, zone)[person]):
            return self.meets_alone(rule, person, now, entered)
        return bool(self._on_day(rule, day, zone)[person])

    def _on_day(self, rule: Rule, day: int, zone: Zone) -> Mask:
        key = (self.nature(rule).words, day)
        if key not in self._rules:
            self._rules[key] = self.everyone(rule, zone.instant(day, 0))
        return self._rules[key]

    def _busy_on(self, day: int, zone: Zone) -> Mask:
        """Who has any row that begins, ends or changes on a local day."""
        if day not in self._busy:
            self._busy[day] = busy_between(self.snapshot, zone.instant(day, 0), zone.instant(day + 1, 0))
        return self._busy[day]

    def nature(self, rule: Rule) -> Nature:
        known = self._natures.get(id(rule))
        if known is None:
            of_one, of_ours = (
                asks_of_one(rule, self.policy.segments),
                asks_of_ours(rule, self.policy.segments),
            )
            words = rule.model_dump_json()
            own_days = of_one and '"about":"date"' in words and any(self._zones)
            known = self._natures[id(rule)] = Nature(
                rule, words, of_one, '"since entering"' in words or own_days, of_ours
            )
        return known

    def everyone(self, rule: Rule, now: int) -> Mask:
        return evaluate(rule, self.snapshot, datetime.fromtimestamp(now, UTC), self.policy.segments)

    def meets_alone(
        self, rule: Rule, person: int, now: int, entered: int, imagined: SimulatedHistory | None = None
    ) -> bool:
        self._slices = self._slices or PersonSlices(self.snapshot)
        alone = self._slices.one(person)
        if imagined:
            alone = imagined.on(alone, now)
        return bool(evaluate(rule, alone, datetime.fromtimestamp(now, UTC), self.policy.segments, entered)[0])


INSTANTS = ("booked_at", "settled_at", "void_at", "refunded_at", "until", "used_at", "lifted_at")


def busy_between(snapshot: HistorySnapshot, low: int, high: int) -> Mask:
    """By person number, whether an instant of any of their rows, or of their own, lies in ``low <= at <
    high``.
    """
    found = np.zeros(len(snapshot.people), dtype=np.bool_)
    for one in fields(snapshot):
        part = getattr(snapshot, one.name)
        if not isinstance(part, Rows) or not len(part):
            continue
        found[part.person[part.span(low, high - 1)]] = True
        for name in INSTANTS:
            column = getattr(part, name, None)
            if column is not None:
                found[part.person[(column >= low) & (column < high)]] = True
    for column in (snapshot.people.joined_at, snapshot.people.closed_at, snapshot.people.deceased_at):
        found |= (column >= low) & (column < high)
    return found


def _first_seen(snapshot: HistorySnapshot) -> np.ndarray[tuple[int], np.dtype[np.int64]]:
    """When each became a customer: as said, or by the first thing they did; erased people never."""
    first = snapshot.people.joined_at.copy()
    erased = first >= NEVER
    for part in (
        snapshot.orders,
        snapshot.walk_ins,
        snapshot.appointments,
        snapshot.events,
        snapshot.memberships,
    ):
        np.minimum.at(first, part.person, part.at)
    first[erased] = NEVER
    return first


class PersonFacts:
    """The facts of one person at one instant, turned from one to the next. Answers ``step.Facts``."""

    def __init__(
        self,
        known: SequenceHistory,
        sent: Callable[[int], Sequence[int]],
        did: Callable[[int, str, str], bool],
    ) -> None:
        """``sent``: instants of marketing messages by person number.

        ``did``: by person number, step and what.
        """
        self.known, self._sent, self._did = known, sent, did
        self.quiet: QuietHours = known.policy.quiet
        self.limits: Sequence[FrequencyCap] = known.policy.limits
        self.key, self.person_id, self.person, self.now = "", 0, -1, 0
        self.zone = zone_of(known.snapshot.zone)
        self.imagined: SimulatedHistory | None = None
        self._happened: dict[int, ByPerson] = {}

    def turn(self, key: str, person: int, now: int) -> "PersonFacts":
        self.key, self.now = key, now
        if person != self.person:
            self.person, self.person_id, self.zone = person, self.known.ids[person], self.known.zone(person)
        return self

    def present(self) -> bool:
        known, person = self.known, self.person
        return known.joined[person] <= self.now < known.gone[person]

    def first(self, what: EventFilter, after: int, by: int) -> int | None:
        found = self._happened.get(id(what))
        if found is None:
            found = self._happened[id(what)] = self.known.event_rows(what)
        at = found.first(self.person, after, by)
        if self.imagined and what.what in ACTS:
            drawn = self.imagined.first(what.what, after, by)
            return at if drawn is None else drawn if at is None else min(at, drawn)
        return at

    def happened(self, what: EventFilter, after: int, by: int) -> bool:
        return self.first(what, after, by) is not None

    def meets(self, rule: Rule, entered: int) -> bool:
        return self.known.meets(rule, self.person, self.now, entered, self.imagined)

    def marketing(self, message: int) -> bool:
        letter = self.known.policy.letters.get(message)
        return letter is None or letter.marketing

    def refusal(self, message: int, channel: str) -> str | None:
        known, policy, person, at = self.known, self.known.policy, self.person, CHANNELS.index(channel)
        letter = policy.letters.get(message)
        if letter is not None and channel not in letter.channels:
            return "not written"
        marketing = letter is None or letter.marketing
        days = policy.seldom.get(self.person_id)
        now = self.now
        deceased, closed = known.deceased[person] <= now, known.closed[person] <= now
        suppressed, consent = known.suppressed(person, at, now), known.consent(person, at, now)
        address = "on file" if known.addresses[person][at] else None
        paused = policy.paused.get(self.person_id, 0) > now
        too_soon = days is not None and any(one > now - days * DAY for one in self.sent_times()[-1:])
        held_out = policy.holdout.since is not None and policy.holdout.holds(
            self.person_id, known.shop_day(now)
        )
        return first_refusal(
            SendFacts(deceased, closed, suppressed, consent, address, paused, too_soon, held_out), marketing
        )

    def sent_times(self) -> Sequence[int]:
        return self._sent(self.person)

    def held_back(self, percent: int) -> bool:
        return held_back(self.key, self.person_id, percent)

    def arm(self, step: str, shares: Sequence[int]) -> int:
        return arm_of(self.key, self.person_id, step, shares)

    def did(self, step: str, did: str) -> bool:
        return self._did(self.person, step, did)
