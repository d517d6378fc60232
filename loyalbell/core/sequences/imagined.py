"""What a rehearsal imagines of one person, so that rules see it as they would see the real thing."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

import numpy as np

from loyalbell.core.columns import NEVER
from loyalbell.core.ledger import CHANNELS, WAY_ENDS, Ledger, Responses, Touches, Ways
from loyalbell.core.sequences.chance import chance

REACTS_AFTER = 3_600
"""Seconds after which somebody does what they are drawn to do with a message (common practice, no source)."""
ACTS = ("opened", "clicked", "replied")
Rates = Mapping[tuple[str, str], float]
"""Shares by (channel, what) with which messages are opened, clicked and answered."""


class Letter(NamedTuple):
    """A message that would have gone at ``at``, from a step of the sequence that draws by ``key``."""

    at: int
    key: str
    step: str
    message: int
    channel: str


@dataclass(slots=True)
class Way:
    """A way through the sequence that rules call ``sequence``; ``how`` it ended is a word of ``WAY_ENDS``."""

    sequence: int
    at: int
    ended_at: int = int(NEVER)
    how: str = ""


@dataclass(slots=True)
class Imagined:
    """``played`` are the sequences whose ways are imagined, in the place of what really is under way."""

    person_id: int
    rates: Rates
    played: Sequence[int]
    letters: list[Letter] = field(default_factory=list)
    ways: list[Way] = field(default_factory=list)

    def __bool__(self) -> bool:
        return bool(self.letters or self.ways)

    def did(self, key: str, step: str, act: str, now: int) -> bool:
        """Whether they did it by ``now`` with the newest message of a step."""
        mine = [one for one in self.letters if one.key == key and one.step == step]
        return bool(mine) and mine[-1].at + REACTS_AFTER <= now and self._does(mine[-1], act)

    def first(self, act: str, after: int, by: int) -> int | None:
        """When they first did it with any message, ``after < at <= by``."""
        done = (at for at, _, _ in self._reactions((act,)) if after < at <= by)
        return min(done, default=None)

    def _does(self, letter: Letter, act: str) -> bool:
        """Drawn by the shop's own rates, always the same for the same person and step; never looked up in the future."""
        rate = self.rates.get((letter.channel, act), 0.0)
        return rate > 0 and chance(letter.key, self.person_id, f"{act} {letter.step}") < rate

    def _reactions(self, acts: Iterable[str]) -> Iterator[tuple[int, str, Letter]]:
        for act in acts:
            for letter in self.letters:
                if self._does(letter, act):
                    yield letter.at + REACTS_AFTER, act, letter

    def on(self, alone: Ledger, now: int) -> Ledger:
        """A ledger of this one person (number 0), with what was imagined before ``now``."""
        real = alone.ways.taken(~(np.isin(alone.ways.sequence, self.played) & (alone.ways.ended_at >= NEVER)))
        return replace(
            alone,
            touches=alone.touches.with_rows(self._touches(now)),
            responses=alone.responses.with_rows(self._responses(alone, now)),
            ways=real.with_rows(self._ways(now)),
        )

    def _touches(self, now: int) -> Touches:
        gone = [one for one in self.letters if one.at < now]
        return Touches.of(
            person=[0] * len(gone), at=[one.at for one in gone], message=[one.message for one in gone],
            channel=[CHANNELS.index(one.channel) for one in gone],
        )  # fmt: skip

    def _responses(self, alone: Ledger, now: int) -> Responses:
        """Messages are named by negative numbers, which no real one has."""
        names = {one: -1 - at for at, one in enumerate(self.letters)}
        done = [one for one in self._reactions(ACTS) if one[0] < now]
        return Responses.of(
            person=[0] * len(done), at=[at for at, _, _ in done], kind=[alone.words[act] for _, act, _ in done],
            channel=[CHANNELS.index(one.channel) for _, _, one in done], message=[one.message for _, _, one in done],
            touch=[names[one] for _, _, one in done],
        )  # fmt: skip

    def _ways(self, now: int) -> Ways:
        begun = [one for one in self.ways if one.at < now]
        over = [one.ended_at < now for one in begun]
        return Ways.of(
            person=[0] * len(begun), at=[one.at for one in begun], sequence=[one.sequence for one in begun],
            ended_at=[one.ended_at if ended else int(NEVER) for one, ended in zip(begun, over, strict=True)],
            how=[WAY_ENDS.index(one.how) if ended else 0 for one, ended in zip(begun, over, strict=True)],
        )  # fmt: skip
