"""What every step shares, and what the core must know of one."""

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Literal

from loyalbell.core.clock.send_windows import QuietHours
from loyalbell.core.sequences.plan_part import StepBase
from loyalbell.core.sequences.walk import Walk, act
from loyalbell.core.sequences.wording import Names

if TYPE_CHECKING:
    from loyalbell.core.sequences.plan_tree import Node, Tree

Level = Literal["must fix", "look at this"]
Findings = Iterator[tuple[Level, str]]


@dataclass(frozen=True)
class Surroundings:
    """What a plan leans on.

    ``messages``: id to (name, for marketing, what must be fixed in it on each channel).

    ``lacking`` says by channel what it still lacks before anything can be sent on it. ``known_share`` is the
    share of people with the yearly date that starts it; ``agreed`` the share of people who can be reached by
    channel; ``same_event`` the names of live sequences that start on the same event. ``codes``: by message
    the offers (id, name, days that a code holds) of which it shows a code.
    """

    messages: Mapping[int, tuple[str, bool, Mapping[str, tuple[str, ...]]]] = field(default_factory=dict)
    lacking: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    offers: frozenset[int] = frozenset()
    tags: frozenset[int] = frozenset()
    fields: frozenset[int] = frozenset()
    segments: frozenset[int] = frozenset()
    sequences: frozenset[int] = frozenset()
    quiet: QuietHours = QuietHours()
    agreed: Mapping[str, float] = field(default_factory=dict)
    same_event: tuple[str, ...] = ()
    codes: Mapping[int, tuple[tuple[int, str, int], ...]] = field(default_factory=dict)
    paced: bool = False
    itself: int = 0


@dataclass(frozen=True)
class Pick:
    """A chooser in the step's sentence in the editor.

    ``of``: the list that ``field`` is chosen from by its number; where it is empty, words are written.
    ``empty`` is what stands there as long as nothing is chosen.
    """

    field: str
    label: str
    empty: str
    of: Literal["", "offers", "sequences", "channels"] = ""


def nothing_wrong(step: Any, tree: "Tree", around: Surroundings) -> Findings:
    return iter(())


@dataclass(frozen=True)
class StepType:
    """All that the core and the editor know of one step. It is registered in ``steps/__init__.py``.

    ``title`` names it among the steps that can be added; ``new`` is how a new one begins, as JSON. ``say``
    gives its words, ``check`` what is wrong with it. ``run`` is what it does to a position that has come to
    it; a step that does something to the book only leaves an act (done in ``services/sequences/actions.py``).
    ``sentence``: its words and choosers in the editor; empty where its page part is its own.
    """

    model: type[StepBase]
    title: str
    say: Callable[[Any, Names], str]
    check: Callable[[Any, "Tree", Surroundings], Findings] = nothing_wrong
    run: Callable[[Walk, "Node"], None] = act
    new: Mapping[str, Any] = field(default_factory=dict)
    sentence: tuple[str | Pick, ...] = ()

    @property
    def do(self) -> str:
        """The word by which the step is kept in JSON."""
        return str(self.model.model_fields["do"].default)
