"""A batch of people who are due: their facts beside what the ledger knows, and how much of a day may still
leave.
"""

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from loyalbell.core.policy.delivery_state import HANDED_OVER, IN_HAND, PLANNED
from loyalbell.core.policy.origins import SEQUENCE
from loyalbell.core.policy.send_policy import REMEMBERED_DAYS
from loyalbell.core.sequences.engine import step
from loyalbell.core.sequences.engine_facts import PersonFacts, SequenceHistory
from loyalbell.core.sequences.plan_tree import Tree
from loyalbell.core.sequences.together.answers import Answers
from loyalbell.core.sequences.together.outcomes import Outcome
from loyalbell.core.sequences.together.standing import looked_at
from loyalbell.core.sequences.together.suits import MOST_COUNTED
from loyalbell.core.sequences.walk import Act, Position
from loyalbell.services.sequences import volume_guard
from loyalbell.services.sequences.places import Place, seconds
from loyalbell.services.sequences.set_aside import of_sequence
from loyalbell.services.sequences.shop_policy import volume_guard_of
from loyalbell.services.settings.channels import CareSettings
from loyalbell.storage import schema
from loyalbell.storage.schema import Delivery, DeliveryEvent, Message, MessageVersion, Shop

REMEMBERED = timedelta(days=REMEMBERED_DAYS)
FEW = 200
"""Up to so many places are looked at one after the other."""


@dataclass
class DayCounts:
    """By sequence how many messages it has sent this day, and (what is normal, the most): counted once a
    tick and carried on from batch to batch.
    """

    sent: dict[int, int] = field(default_factory=dict)
    most: dict[int, tuple[float, int]] = field(default_factory=dict)

    def copy(self) -> "DayCounts":
        return DayCounts(dict(self.sent), dict(self.most))

    def keep(self, other: "DayCounts") -> None:
        self.sent, self.most = other.sent, other.most


class VolumeGate:
    """Counts what each sequence has sent today, and says into which batch what is too much goes."""

    def __init__(
        self,
        session: Session,
        known: SequenceHistory,
        now: datetime,
        shop: Shop,
        too_many: set[int],
        counts: DayCounts,
    ) -> None:
        self.session, self.now, self.zone, self.too_many = session, now, shop.zone, too_many
        self.people, self.guard = len(known.ids), volume_guard_of(CareSettings.load(session))
        self.counts = counts
        self.batches: dict[int, int | None] = {}

    def held(self, sequence_id: int) -> int | None:
        sent = self.counts.sent
        if sequence_id not in sent:
            sequence = self.session.get_one(schema.Sequence, sequence_id)
            normal = volume_guard.normal_of(
                self.session, sequence, self.now, self.guard, self.people, self.zone
            )
            self.counts.most[sequence_id] = (normal, self.guard.most(normal))
            sent[sequence_id] = volume_guard.sent_today(self.session, sequence_id, self.now, self.zone)
        sent[sequence_id] += 1
        normal, most = self.counts.most[sequence_id]
        if sent[sequence_id] <= most and sequence_id not in self.too_many:
            return None
        if sequence_id not in self.batches:
            sequence = self.session.get_one(schema.Sequence, sequence_id)
            self.batches[sequence_id] = volume_guard.batch_for(
                self.session, sequence, self.now, self.zone, normal, most
            )
        return self.batches[sequence_id]


def numbers_of(known: SequenceHistory, people: Sequence[int]) -> dict[int, int]:
    """Person numbers by id, of those who are on file."""
    ids, wanted = known.snapshot.people.ids, np.unique(np.asarray(people, dtype=np.int64))
    numbers = np.searchsorted(ids, wanted)
    there = np.flatnonzero(numbers < len(ids))
    there = there[ids[numbers[there]] == wanted[there]]
    return dict(zip(wanted[there].tolist(), numbers[there].tolist(), strict=True))


class Batch:
    """The facts of the people in a batch, beside what the ledger knows."""

    def __init__(
        self,
        trees: Callable[[int], Tree],
        session: Session,
        known: SequenceHistory,
        now: datetime,
        places: list[Place],
    ) -> None:
        self.trees, self.now = trees, int(now.timestamp())
        self.session, self.known = session, known
        self.numbers = numbers_of(known, [place.person for place in places])
        self.keys = dict(session.execute(select(schema.Sequence.id, schema.Sequence.key)).all())
        self.sent = (
            _sent_lately(session, [place.person for place in places], now)
            if known.policy.limits or known.policy.seldom
            else {}
        )
        self.standing: dict[int, Place] = {}
        """Of whom is looked at, by person number."""
        self.about = PersonFacts(known, self._sent, self._did)

    def moved(self, places: list[Place], answers: Callable[[], Answers]) -> list[Outcome]:
        """Where each goes on to and what is to be done, those of one person one after the other.

        Many are looked at together, which needs what is known about everybody as columns (``answers``).
        """
        if len(places) <= FEW or any(limit.count > MOST_COUNTED for limit in self.known.policy.limits):
            return [self._and_noted(place, *self._step(place)) for place in places]
        found: dict[int, Outcome] = {}
        turns: Counter[int] = Counter()
        waves: dict[int, list[Place]] = {}
        for place in places:
            waves.setdefault(turns[place.person], []).append(place)
            turns[place.person] += 1
        for wave in waves.values():
            for place, outcome in self._together(wave, answers()):
                found[place.id] = self._and_noted(place, *outcome)
        return [found[place.id] for place in places]

    def _together(self, places: list[Place], answers: Answers) -> Iterator[tuple[Place, Outcome]]:
        """Of different people."""
        answers.sent.fill({self.numbers[one]: sent for one, sent in self.sent.items() if one in self.numbers})
        groups: dict[tuple[int, int], list[Place]] = {}
        for place in places:
            if place.person in self.numbers:
                groups.setdefault((place.sequence, place.version), []).append(place)
            else:
                yield place, self._step(place)
        for (sequence, version), group in groups.items():
            people = [self.numbers[place.person] for place in group]
            self.standing = dict(zip(people, group, strict=True))
            with of_sequence(sequence):
                key, tree = self.keys[sequence], self.trees(version)
                positions = [place.position for place in group]
                outcomes = looked_at(key, tree, answers, self.about, people, positions, self.now)
            yield from zip(group, outcomes, strict=True)
        self.standing = {}

    def step(self, place: Place) -> Outcome:
        """Of one, without anything being noted."""
        self.standing = {self.numbers[place.person]: place} if place.person in self.numbers else {}
        if place.person not in self.numbers:
            return place.position._replace(state="left", cause="closed"), []
        about = self.about.turn(self.keys[place.sequence], self.numbers[place.person], self.now)
        return step(self.trees(place.version), place.position, about, self.now)

    def _step(self, place: Place) -> Outcome:
        with of_sequence(place.sequence):
            return self.step(place)

    def _and_noted(self, place: Place, position: Position, acts: list[Act]) -> Outcome:
        for act in acts:
            if act.kind == "send":
                self.note_sent(place, act.step, act.at)
        return position, acts

    def note_sent(self, place: Place, step_id: str, at: int) -> None:
        node = self.trees(place.version).nodes[step_id].step
        message = getattr(node, "message", None)
        if message is not None and self.about.marketing(message):
            self.sent.setdefault(place.person, []).append(at)

    def _sent(self, person: int) -> list[int]:
        return self.sent.get(self.known.ids[person], [])

    def _did(self, person: int, step_id: str, did: str) -> bool:
        place = self.standing[person]
        query = (
            select(DeliveryEvent.id)
            .join(Delivery)
            .where(
                Delivery.origin_kind == SEQUENCE,
                Delivery.origin_id == place.sequence,
                Delivery.step == step_id,
                Delivery.occurrence == place.key,
                Delivery.person_id == place.person,
                DeliveryEvent.kind == did,
            )
        )
        return self.session.scalar(query.limit(1)) is not None


def _sent_lately(session: Session, people: list[int], now: datetime) -> dict[int, list[int]]:
    """By person id when they got, or are about to get, marketing messages; ascending.

    What a campaign has planned and not handed over does not count: a campaign gives way to sequences.
    """
    found: dict[int, list[int]] = {}
    when = func.coalesce(Delivery.sent_at, Delivery.due_at)
    for start in range(0, len(people), 500):
        query = (
            select(Delivery.person_id, when)
            .join(MessageVersion, MessageVersion.id == Delivery.message_version_id)
            .join(Message, Message.id == MessageVersion.message_id)
            .where(
                Delivery.person_id.in_(people[start : start + 500]),
                Delivery.state.in_((*HANDED_OVER, *IN_HAND)),
                when > now - REMEMBERED,
                Message.purpose == "marketing",
                (Delivery.state != PLANNED) | (Delivery.origin_kind != "campaign"),
            )
            .order_by(when)
        )
        for person, at in session.execute(query):
            found.setdefault(person, []).append(min(seconds(at) or 0, int(now.timestamp())))
    return found
