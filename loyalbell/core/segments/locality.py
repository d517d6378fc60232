"""Whether a rule can be answered from one person's own rows, or compares people with one another."""

from collections.abc import Iterator, Mapping

from loyalbell.core.segments.model import (
    BandCondition,
    Condition,
    Group,
    MessagesCondition,
    Rule,
    ScoresCondition,
    SegmentCondition,
    SequencesCondition,
    TopCondition,
)

WHOLE_BOOK = (BandCondition, ScoresCondition, TopCondition)
"""Conditions that compare a person with the others, so that one person's rows are not enough."""


OUR_DOING = (MessagesCondition, SequencesCondition)


def asks_of_one(rule: Rule, segments: Mapping[int, Rule]) -> bool:
    """Whether the rule can be answered from one person's own rows."""
    return not any(
        condition is None or isinstance(condition, WHOLE_BOOK)
        for condition in _conditions(rule.root, segments)
    )


def asks_of_ours(rule: Rule, segments: Mapping[int, Rule]) -> bool:
    """Whether the rule asks for what we did ourselves: messages, ways through sequences."""
    return any(isinstance(condition, OUR_DOING) for condition in _conditions(rule.root, segments))


def _conditions(
    group: Group, segments: Mapping[int, Rule], within: tuple[int, ...] = ()
) -> Iterator[Condition | None]:
    """All conditions, those of saved segments in their place.

    ``None`` for a segment that is not there or within itself.
    """
    for line in group.lines:
        if isinstance(line, Group):
            yield from _conditions(line, segments, within)
        elif not isinstance(line, SegmentCondition):
            yield line
        elif line.segment not in segments or line.segment in within:
            yield None
        else:
            yield from _conditions(segments[line.segment].root, segments, (*within, line.segment))
