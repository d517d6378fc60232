"""How many people remain after each line of a rule."""

from collections.abc import Mapping
from datetime import datetime

import numpy as np

from loyalbell.core.history.snapshot import HistorySnapshot
from loyalbell.core.segments.evaluation import RuleEvaluation, meets_line
from loyalbell.core.segments.model import Rule


def funnel(
    rule: Rule, snapshot: HistorySnapshot, as_of: datetime, segments: Mapping[int, Rule] | None = None
) -> list[int]:
    """People on file, then the count after each line of the outermost group.

    With *all* and *none* each line takes people away; with *any* the counts
    begin at the first line's and grow.
    """
    on_file = snapshot.on_file(int(as_of.timestamp()))
    counts = [int(on_file.sum())]
    evaluation = RuleEvaluation(snapshot, as_of, segments or {})
    so_far = np.zeros_like(on_file) if rule.root.match == "any" else on_file
    for line in rule.root.lines:
        met = meets_line(line, evaluation)
        if rule.root.match == "any":
            so_far = so_far | (met & on_file)
        else:
            so_far = so_far & (met if rule.root.match == "all" else ~met)
        counts.append(int(so_far.sum()))
    return counts
