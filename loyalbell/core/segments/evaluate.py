"""Who meets a rule, for the whole book at once, as of any instant."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import numpy as np

from loyalbell.core.columns import Mask
from loyalbell.core.ledger import CHANNELS, CONSENT_STATES, Ledger
from loyalbell.core.segments import facts, history
from loyalbell.core.segments.model import (
    Condition,
    Group,
    PeopleCondition,
    Rule,
    RuleProblem,
    SegmentCondition,
)
from loyalbell.core.segments.moment import Moment, bounds

__all__ = ["Asking", "bounds", "evaluate", "meets_group", "meets_line"]


@dataclass(frozen=True)
class Asking:
    """A ledger as of an instant, with the rules of saved segments by id (for rules that lean on them)."""

    ledger: Ledger
    as_of: datetime
    segments: Mapping[int, Rule] = field(default_factory=dict)
    within: tuple[int, ...] = ()
    entered: int | None = None

    @property
    def moment(self) -> Moment:
        return Moment(self.ledger, self.as_of, self.entered)


def evaluate(rule: Rule, ledger: Ledger, as_of: datetime, segments: Mapping[int, Rule] | None = None, entered: int | None = None) -> Mask:  # fmt: skip
    """True for each person number who is on file at ``as_of`` and meets the rule.

    ``entered`` is since when periods *since entering* run, in seconds since 1970.

    Raises ``RuleProblem`` where it leans on a segment that is not there, or on itself.
    """
    asking = Asking(ledger, as_of, segments or {}, entered=entered)
    return ledger.on_file(int(as_of.timestamp())) & meets_group(rule.root, asking)


def meets_group(group: Group, asking: Asking) -> Mask:
    """An empty group asks for nothing and is met by everybody."""
    if not group.lines:
        return np.ones(len(asking.ledger.people), dtype=np.bool_)
    masks = [meets_line(line, asking) for line in group.lines]
    if group.match == "all":
        every: Mask = np.logical_and.reduce(masks)
        return every
    met: Mask = np.logical_or.reduce(masks)
    return met if group.match == "any" else ~met


def meets_line(line: Group | Condition, asking: Asking) -> Mask:
    if isinstance(line, Group):
        return meets_group(line, asking)
    if isinstance(line, SegmentCondition):
        return _in_segment(line, asking)
    return MEETS[line.about](line, asking.moment)


def _in_segment(line: SegmentCondition, asking: Asking) -> Mask:
    rule = asking.segments.get(line.segment)
    if rule is None:
        raise RuleProblem("It leans on a segment that has been deleted.")
    if line.segment in asking.within:
        raise RuleProblem("It leans on itself, by way of another segment.")
    inner = Asking(
        asking.ledger, asking.as_of, asking.segments, (*asking.within, line.segment), asking.entered
    )
    met = meets_group(rule.root, inner) & asking.ledger.on_file(asking.moment.now)
    return met if line.within else ~met


def _reach(line: Any, moment: Moment) -> Mask:
    reach = moment.ledger.reachable(CHANNELS.index(line.channel), moment.now)
    return reach if line.can else ~reach


def _consent(line: Any, moment: Moment) -> Mask:
    state = moment.ledger.consent_states(CHANNELS.index(line.channel), moment.now)
    return np.equal(state, CONSENT_STATES.index(line.state))


def _people(line: PeopleCondition, moment: Moment) -> Mask:
    return np.isin(moment.ledger.people.ids, np.array(line.ids, dtype=np.int64))


MEETS: dict[str, Callable[[Any, Moment], Mask]] = {
    **dict.fromkeys(history.MEASURES, history.meets),
    "reach": _reach,
    "consent": _consent,
    "tag": facts.tag,
    "field": facts.field,
    "date": facts.yearly,
    "membership": facts.membership,
    "band": facts.band,
    "gap": facts.gap,
    "offers": facts.offers,
    "sequences": facts.sequences,
    "top": facts.top,
    "scores": facts.scores,
    "person": facts.person,
    "people": _people,
}
