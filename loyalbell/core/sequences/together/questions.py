"""What a look at somebody asks about them, written down while one of many is looked at."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, cast

from loyalbell.core.clock.send_windows import QuietHours
from loyalbell.core.clock.zones import Zone
from loyalbell.core.policy.send_policy import FrequencyCap
from loyalbell.core.segments.model import Rule
from loyalbell.core.sequences.engine_facts import PersonFacts
from loyalbell.core.sequences.event_filter import EventFilter

ENTERED = cast(int, object())
"""Stands for the instant at which whoever is looked at came in: each has their own. It is no number, so that
a step that would reckon with it fails instead of giving all of them the time of one.
"""
ANCHOR = cast(int, object())
"""The same for the instant that brought them in."""
ARRIVED = cast(int, object())
"""The same for when they came to a wait that is over: it is no longer asked for."""


class LooksAlone(Exception):
    """Something was asked of which the answer is each one's own."""


class _Due:
    """Stands for the instant at which each is due, in a step that only hands it on."""

    def _reckoned_with(self, other: object = None) -> Any:
        raise LooksAlone

    __add__ = __radd__ = __sub__ = __rsub__ = __floordiv__ = __mod__ = __divmod__ = _reckoned_with
    __lt__ = __le__ = __gt__ = __ge__ = _reckoned_with


DUE = cast(int, _Due())


@dataclass(frozen=True)
class Question:
    """``kind`` is a method of ``walk.Facts``; two questions are the same where ``kind`` and ``about`` are.

    ``of``: what the method is asked for.
    """

    kind: str
    about: object = None
    of: tuple[Any, ...] = field(default=(), compare=False)


class AskedFacts:
    """The facts of one person, with what has been asked. Answers ``walk.Facts``."""

    def __init__(self, facts: PersonFacts, entered: int) -> None:
        self._facts, self._entered = facts, entered
        self.zone: Zone = facts.zone
        self.quiet: QuietHours = facts.quiet
        self.limits: Sequence[FrequencyCap] = facts.limits
        self.asked: dict[Question, None] = {}

    def _note(self, kind: str, about: object = None, *of: Any) -> None:
        self.asked[Question(kind, about, of)] = None

    def present(self) -> bool:
        self._note("present")
        return self._facts.present()

    def first(self, what: EventFilter, after: int, by: int) -> int | None:
        raise LooksAlone

    def happened(self, what: EventFilter, after: int, by: int) -> bool:
        if after is not ENTERED or by != self._facts.now:
            raise LooksAlone
        self._note("happened", id(what), what)
        return self._facts.happened(what, self._entered, by)

    def meets(self, rule: Rule, entered: int) -> bool:
        if entered is not ENTERED:
            raise LooksAlone
        self._note("meets", id(rule), rule)
        return self._facts.meets(rule, self._entered)

    def marketing(self, message: int) -> bool:
        """The same for everybody."""
        return self._facts.marketing(message)

    def refusal(self, message: int, channel: str) -> str | None:
        self._note("refusal", (message, channel), message, channel)
        return self._facts.refusal(message, channel)

    def sent_times(self) -> Sequence[int]:
        self._note("sent_times")
        return self._facts.sent_times()

    def did(self, step: str, did: str) -> bool:
        self._note("did", (step, did), step, did)
        return self._facts.did(step, did)

    def held_back(self, percent: int) -> bool:
        self._note("held_back", percent, percent)
        return self._facts.held_back(percent)

    def arm(self, step: str, shares: Sequence[int]) -> int:
        self._note("arm", step, step, tuple(shares))
        return self._facts.arm(step, shares)
