"""What the ledger knows about many people at once, each at an instant of their own: the answers that
``engine_facts.PersonFacts`` gives about one.

An answer is a whole number, or some; two people of whom they are the same are the same to a look. People are
person numbers, instants whole seconds since 1970.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

import numpy as np

from loyalbell.core.channels import CHANNELS
from loyalbell.core.clock.zones import DAY
from loyalbell.core.history.columns import Ints, Mask, by_person_and_time
from loyalbell.core.history.snapshot import CONSENT_STATES, HistorySnapshot
from loyalbell.core.policy.assignment import arm_of, held_back_among
from loyalbell.core.policy.send_policy import SendFacts, first_refusal
from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.event_filter import EventFilter
from loyalbell.core.sequences.simulated_history import SimulatedHistory, SimulatedMessage
from loyalbell.core.sequences.together.questions import LooksAlone, Question

NEVER_SENT = -(2**61)
FACTS = 8
"""Of ``SendFacts``, in bits; two are the state of the consent."""


class _Consents:
    """The state of the consent to one channel at any instant."""

    def __init__(self, snapshot: HistorySnapshot, channel: int) -> None:
        part = snapshot.consents
        mine = np.flatnonzero(part.channel == channel)
        mine = mine[np.argsort(part.person[mine], kind="stable")]
        self._person, self._state = part.person[mine], part.state[mine]
        self._key = by_person_and_time(self._person, part.at[mine])

    def at(self, person: Ints, now: Ints) -> Ints:
        """Places in ``CONSENT_STATES``."""
        if not len(self._key):
            return np.zeros(len(person), dtype=np.int64)
        row = np.searchsorted(self._key, by_person_and_time(person, now), side="right") - 1
        known = (row >= 0) & (self._person[row] == person)
        return np.where(known, self._state[row], 0).astype(np.int64)


class SentLately:
    """The newest instants at which each got marketing messages, as many as any limit looks back on."""

    def __init__(self, people: int, most: int) -> None:
        self._at = np.full((people, most), NEVER_SENT, dtype=np.int64)

    def add(self, person: Ints, at: Ints | int) -> None:
        """Each person once."""
        rows = self._at[person]
        rows[:, 1:] = rows[:, :-1]
        rows[:, 0] = at
        self._at[person] = rows

    def newest(self, person: Ints, count: int) -> Ints:
        """When each got the message that was the ``count``-th newest; ``NEVER_SENT`` where there is none."""
        found: Ints = self._at[person, count - 1]
        return found

    def fill(self, sent: Mapping[int, Sequence[int]]) -> None:
        """Anew, with what each got, ascending."""
        self._at[:] = NEVER_SENT
        for person, instants in sent.items():
            newest = instants[: -self._at.shape[1] - 1 : -1]
            self._at[person, : len(newest)] = newest

    def of(self, person: int) -> list[int]:
        """Ascending."""
        return [at for at in reversed(self._at[person].tolist()) if at != NEVER_SENT]


class Answers:
    """``letters``: by sequence and step the newest message of it that each got, as (instant, channel)."""

    def __init__(self, known: SequenceHistory, rates: Mapping[tuple[str, str], float]) -> None:
        self.known, self.rates = known, rates
        people = known.snapshot.people
        self._ids = people.ids
        self._joined = np.asarray(known.joined, dtype=np.int64)
        self._gone = np.asarray(known.gone, dtype=np.int64)
        self._zones = people.words_of("zone")
        self._consents = [_Consents(known.snapshot, channel) for channel in range(len(CHANNELS))]
        self._ever_suppressed = np.zeros((len(people), len(CHANNELS)), dtype=np.bool_)
        stops = known.snapshot.suppressions
        self._ever_suppressed[stops.person, stops.channel] = True
        policy = known.policy
        self._paused = _by_number(people.ids, policy.paused)
        self._seldom = _by_number(people.ids, policy.seldom)
        self._refusals: dict[tuple[int, bool], int] = {}
        self._causes: dict[str | None, int] = {None: 0}
        self._arms: dict[tuple[str, str], Ints] = {}
        self.sent = SentLately(len(people), max((limit.count for limit in policy.limits), default=1))
        self.letters: dict[tuple[str, str], dict[int, tuple[int, str]]] = {}

    def zones(self, person: Ints) -> Ints:
        """The same number for people in the same zone."""
        return self._zones[person].astype(np.int64)

    def of(self, asked: Question, key: str, person: Ints, entered: Ints, now: Ints) -> list[Ints]:
        """What is answered to a question of the sequence that draws by ``key``."""
        answer: Callable[..., Iterator[Any]] = getattr(self, f"_{asked.kind}")
        found = answer(key, person, entered, now, *asked.of)
        return [np.asarray(one, dtype=np.int64) for one in found]

    def present(self, person: Ints, now: Ints) -> Mask:
        return (self._joined[person] <= now) & (now < self._gone[person])

    def _present(self, key: str, person: Ints, entered: Ints, now: Ints) -> Iterator[Mask]:
        yield self.present(person, now)

    def _happened(
        self, key: str, person: Ints, entered: Ints, now: Ints, what: EventFilter
    ) -> Iterator[Mask]:
        yield self.known.event_rows(what).happened(person, entered, now)

    def _meets(
        self, key: str, person: Ints, entered: Ints, now: Ints, rule: Rule
    ) -> Iterator[Sequence[bool]]:
        rows = zip(person.tolist(), now.tolist(), entered.tolist(), strict=True)
        yield [self.known.meets(rule, *row) for row in rows]

    def _arm(
        self, key: str, person: Ints, entered: Ints, now: Ints, step: str, shares: tuple[int, ...]
    ) -> Iterator[Ints]:
        """Drawn once for each."""
        if (key, step) not in self._arms:
            self._arms[key, step] = np.full(len(self._ids), -1)
        arms = self._arms[key, step]
        for one in np.unique(person[arms[person] < 0]).tolist():
            arms[one] = arm_of(key, self.known.ids[one], step, shares)
        yield arms[person]

    def _held_back(
        self, key: str, person: Ints, entered: Ints, now: Ints, percent: int
    ) -> Iterator[Sequence[bool]]:
        yield held_back_among(key, [self.known.ids[one] for one in person.tolist()], percent)

    def _did(
        self, key: str, person: Ints, entered: Ints, now: Ints, step: str, did: str
    ) -> Iterator[Sequence[bool]]:
        rows = zip(person.tolist(), now.tolist(), strict=True)
        yield [self.did(key, one, step, did, instant) for one, instant in rows]

    def did(self, key: str, person: int, step: str, did: str, now: int) -> bool:
        """Whether somebody would have done it with the newest message of a step by ``now``."""
        letter = self.letters.get((key, step), {}).get(person)
        if letter is None:
            return False
        at, channel = letter
        newest = [SimulatedMessage(at, key, step, 0, channel)]
        return SimulatedHistory(self.known.ids[person], self.rates, (), newest).did(key, step, did, now)

    def _sent_times(self, key: str, person: Ints, entered: Ints, now: Ints) -> Iterator[Ints]:
        """For each limit until when it speaks against another message, 0 where it does not: no more of when
        somebody got messages is asked (``policy.send_policy.next_allowed``).
        """
        for limit in self.known.policy.limits:
            until = self.sent.newest(person, limit.count) + limit.days * DAY
            yield np.where(until > now, until, 0)

    def _refusal(
        self, key: str, person: Ints, entered: Ints, now: Ints, message: int, channel: str
    ) -> Iterator[Ints]:
        """The cause as a number, found once for people of whom the same is known."""
        policy = self.known.policy
        letter = policy.letters.get(message)
        if letter is not None and channel not in letter.channels:
            yield np.zeros(len(person), dtype=np.int64)
            return
        marketing = letter is None or letter.marketing
        bits = self._send_facts(person, now, CHANNELS.index(channel))
        kinds, place = np.unique(bits, return_inverse=True)
        causes = np.asarray([self._cause(kind, marketing) for kind in kinds.tolist()], dtype=np.int64)
        found = causes[place]
        if marketing and policy.holdout.since is not None:
            free = np.flatnonzero(found == 0)
            for row, one, instant in zip(
                free.tolist(), person[free].tolist(), now[free].tolist(), strict=True
            ):
                if policy.holdout.holds(self.known.ids[one], self.known.shop_day(instant)):
                    found[row] = -1
        yield found

    def _send_facts(self, person: Ints, now: Ints, at: int) -> Ints:
        known = self.known
        suppressed = self._ever_suppressed[person, at]
        for row in np.flatnonzero(suppressed).tolist():
            suppressed[row] = known.suppressed(int(person[row]), at, int(now[row]))
        days, newest = self._seldom[person], self.sent.newest(person, 1)
        facts = (
            known.snapshot.people.deceased_at[person] <= now,
            known.snapshot.people.closed_at[person] <= now,
            suppressed,
            known.snapshot.people.has_address[person, at],
            self._paused[person] > now,
            (days > 0) & (newest > now - days * DAY),
        )
        bits = self._consents[at].at(person, now)
        for number, fact in enumerate(facts):
            bits = bits + (fact.astype(np.int64) << (number + 2))
        return bits

    def _cause(self, bits: int, marketing: bool) -> int:
        """The number of the cause that speaks against it; 0 where none does."""
        if (bits, marketing) not in self._refusals:
            deceased, closed, suppressed, address, paused, too_soon = (
                bool(bits >> number & 1) for number in range(2, FACTS)
            )
            cause = first_refusal(
                SendFacts(
                    deceased,
                    closed,
                    suppressed,
                    CONSENT_STATES[bits & 3],
                    "on file" if address else None,
                    paused,
                    too_soon,
                ),
                marketing,
            )
            self._refusals[bits, marketing] = self._causes.setdefault(cause, len(self._causes))
        return self._refusals[bits, marketing]


class LiveAnswers(Answers):
    """Of what really is under way: what somebody did with a message is known of each run alone."""

    def _did(
        self, key: str, person: Ints, entered: Ints, now: Ints, step: str, did: str
    ) -> Iterator[Sequence[bool]]:
        raise LooksAlone


def _by_number(ids: Ints, known: Mapping[int, int]) -> Ints:
    """By person number what is known by person id, 0 where nothing is."""
    found = np.zeros(len(ids), dtype=np.int64)
    wanted = np.asarray(sorted(known), dtype=np.int64)
    place = np.searchsorted(ids, wanted)
    there = place < len(ids)
    there[there] = ids[place[there]] == wanted[there]
    found[place[there]] = [known[one] for one in wanted[there].tolist()]
    return found
