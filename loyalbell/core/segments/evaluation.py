"""Who meets a rule, for the whole book at once, as of any instant."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

import numpy as np

from loyalbell.core.history.columns import Mask
from loyalbell.core.history.settled import worked_out
from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.segments.conditions import TYPES
from loyalbell.core.segments.evaluation_context import EvaluationContext, bounds
from loyalbell.core.segments.model import Condition, Group, Rule, RuleProblem, SegmentCondition

__all__ = ["RuleEvaluation", "bounds", "evaluate", "meets_group", "meets_line"]


@dataclass(frozen=True)
class RuleEvaluation:
    """A ledger as of an instant, with the rules of saved segments by id (for rules that lean on them)."""

    snapshot: HistorySnapshot
    as_of: datetime
    segments: Mapping[int, Rule] = field(default_factory=dict)
    within: tuple[int, ...] = ()
    entered: int | None = None

    @property
    def context(self) -> EvaluationContext:
        return EvaluationContext(self.snapshot, self.as_of, self.entered)


def evaluate(
    rule: Rule,
    snapshot: HistorySnapshot,
    as_of: datetime,
    segments: Mapping[int, Rule] | None = None,
    entered: int | None = None,
) -> Mask:
    """True for each person number who is on file at ``as_of`` and meets the rule.

    ``entered`` is since when periods *since entering* run, in seconds since 1970.

    Raises ``RuleProblem`` where it leans on a segment that is not there, or on itself.
    """
    evaluation = RuleEvaluation(snapshot, as_of, segments or {}, entered=entered)
    return snapshot.on_file(int(as_of.timestamp())) & meets_group(rule.root, evaluation)


def meets_group(group: Group, evaluation: RuleEvaluation) -> Mask:
    """An empty group asks for nothing and is met by everybody."""
    if not group.lines:
        return np.ones(len(evaluation.snapshot.people), dtype=np.bool_)
    masks = [meets_line(line, evaluation) for line in group.lines]
    if group.match == "all":
        every: Mask = np.logical_and.reduce(masks)
        return every
    met: Mask = np.logical_or.reduce(masks)
    return met if group.match == "any" else ~met


def meets_line(line: Group | Condition, evaluation: RuleEvaluation) -> Mask:
    if isinstance(line, Group):
        return meets_group(line, evaluation)
    if isinstance(line, SegmentCondition):
        return _in_segment(line, evaluation)
    # the funnel, each line alone and the whole ask for the same lines at the same instant
    context = evaluation.context
    key = ("line", line.model_dump_json(), context.now, context.entered)
    return worked_out(evaluation.snapshot, key, lambda: _kept_mask(line, context))


def _kept_mask(line: Condition, context: EvaluationContext) -> Mask:
    """Not to be written into: others read it too."""
    met = TYPES[line.about].meets(line, context)
    met.flags.writeable = False
    return met


def _in_segment(line: SegmentCondition, evaluation: RuleEvaluation) -> Mask:
    rule = evaluation.segments.get(line.segment)
    if rule is None:
        raise RuleProblem("It leans on a segment that has been deleted.")
    if line.segment in evaluation.within:
        raise RuleProblem("It leans on itself, by way of another segment.")
    inner = RuleEvaluation(
        evaluation.snapshot,
        evaluation.as_of,
        evaluation.segments,
        (*evaluation.within, line.segment),
        evaluation.entered,
    )
    met = meets_group(rule.root, inner) & evaluation.snapshot.on_file(evaluation.context.now)
    return met if line.within else ~met
