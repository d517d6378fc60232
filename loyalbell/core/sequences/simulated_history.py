"""What a rehearsal imagines of one person, so that rules see it as they would see the real thing."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from loyalbell.core.channels import CHANNELS
from loyalbell.core.history.columns import NEVER
from loyalbell.core.history.snapshot import (
    ENROLMENT_ENDS,
    Deliveries,
    Engagements,
    Enrolments,
    HistorySnapshot,
)
from loyalbell.core.policy.assignment import uniform

REACTS_AFTER = 3_600
"""Seconds after which somebody does what they are drawn to do with a message (common practice, no source)."""
ACTS = ("opened", "clicked", "replied")
Rates = Mapping[tuple[str, str], float]
"""Shares by (channel, what) with which messages are opened, clicked and answered."""


class SimulatedMessage(NamedTuple):
    """A message that would have gone at ``at``, from a step of the sequence that draws by ``key``."""

    at: int
    key: str
    step: str
    message: int
    channel: str


@dataclass(slots=True)
class SimulatedEnrolment:
    """A way through the sequence that rules call ``sequence``; ``how`` it ended is a word of ``WAY_ENDS``."""

    sequence: int
    at: int
    ended_at: int = int(NEVER)
    how: str = ""


@dataclass(slots=True)
class SimulatedHistory:
    """``played`` are the sequences whose ways are imagined, in the place of what really is under way."""

    person_id: int
    rates: Rates
    played: Sequence[int]
    letters: list[SimulatedMessage] = field(default_factory=list)
    after_message: bool = False
    enrolments: list[SimulatedEnrolment] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.letters or self.enrolments)

    def did(self, key: str, step: str, act: str, now: int) -> bool:
        """Whether they did it by ``now`` with the newest message of a step."""
        mine = [letter for letter in self.letters if letter.key == key and letter.step == step]
        return bool(mine) and mine[-1].at + REACTS_AFTER <= now and self._does(mine[-1], act)

    def first(self, act: str, after: int, by: int) -> int | None:
        """When they first did it with any message, ``after < at <= by``."""
        done = (at for at, _, _ in self._reactions((act,)) if after < at <= by)
        return min(done, default=None)

    def _does(self, letter: SimulatedMessage, act: str) -> bool:
        """Drawn by the shop's own rates, always the same for the same person and step.

        Never looked up in the future.
        """
        rate = self.rates.get((letter.channel, act), 0.0)
        return rate > 0 and uniform(letter.key, self.person_id, f"{act} {letter.step}") < rate

    def _reactions(self, acts: Iterable[str]) -> Iterator[tuple[int, str, SimulatedMessage]]:
        for act in acts:
            for letter in self.letters:
                if self._does(letter, act):
                    yield letter.at + REACTS_AFTER, act, letter

    def on(self, alone: HistorySnapshot, now: int) -> HistorySnapshot:
        """A ledger of this one person (number 0), with what was imagined before ``now``."""
        real = alone.enrolments.taken(
            ~(np.isin(alone.enrolments.sequence, self.played) & (alone.enrolments.ended_at >= NEVER))
        )
        return replace(
            alone,
            deliveries=alone.deliveries.with_rows(self._deliveries(now)),
            engagements=alone.engagements.with_rows(self._responses(alone, now)),
            enrolments=real.with_rows(self._ways(now)),
        )

    def _seen(self, at: int, now: int) -> bool:
        """Whether it lies before ``now``; or at it, for whoever goes on after a message that left now."""
        return at < now or (self.after_message and at == now)

    def _deliveries(self, now: int) -> Deliveries:
        gone = [letter for letter in self.letters if self._seen(letter.at, now)]
        return Deliveries.of(
            person=[0] * len(gone),
            at=[one.at for one in gone],
            message=[one.message for one in gone],
            channel=[CHANNELS.index(one.channel) for one in gone],
        )

    def _responses(self, alone: HistorySnapshot, now: int) -> Engagements:
        """Messages are named by negative numbers, which no real one has."""
        names = {one: -1 - at for at, one in enumerate(self.letters)}
        done = [reaction for reaction in self._reactions(ACTS) if self._seen(reaction[0], now)]
        return Engagements.of(
            person=[0] * len(done),
            at=[at for at, _, _ in done],
            kind=[alone.words[act] for _, act, _ in done],
            channel=[CHANNELS.index(one.channel) for _, _, one in done],
            message=[one.message for _, _, one in done],
            delivery=[names[one] for _, _, one in done],
        )

    def _ways(self, now: int) -> Enrolments:
        begun = [enrolment for enrolment in self.enrolments if self._seen(enrolment.at, now)]
        over = [self._seen(one.ended_at, now) for one in begun]
        return Enrolments.of(
            person=[0] * len(begun),
            at=[one.at for one in begun],
            sequence=[one.sequence for one in begun],
            ended_at=[one.ended_at if ended else int(NEVER) for one, ended in zip(begun, over, strict=True)],
            how=[
                ENROLMENT_ENDS.index(one.how) if ended else 0 for one, ended in zip(begun, over, strict=True)
            ],
        )
