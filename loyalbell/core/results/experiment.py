"""Arms of a test beside one another: which is ahead, and whether it has won. Pure."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from loyalbell.core.results.lift import ALPHA, Interval, Outcomes, adjusted, any_time
from loyalbell.core.results.sample_size import split_is_wrong
from loyalbell.core.results.verdict import LEAST, LEAST_IN_A_GROUP, PLANNED, WORTH, to_go


class TestVerdict(StrEnum):
    """``WON``: the leader is ahead of every other arm, certain enough."""

    WON = "won"
    NO_DIFFERENCE = "no difference worth having"
    TOO_EARLY = "too early"


@dataclass(frozen=True)
class Standing:
    """``leader`` is the place of the arm with the largest share. ``ahead`` is by how much it leads the arm
    after it, safe to look at every day; ``None`` while there are too few people.
    """

    leader: int
    verdict: TestVerdict
    ahead: Interval | None
    people_to_go: int | None
    is_split_wrong: bool
    worth: float = WORTH


def standing(
    arms: Sequence[Outcomes], shares: Sequence[float], worth: float = WORTH, planned: int = PLANNED
) -> Standing:
    """Of two arms or more, in the order of ``shares``.

    The error of all pairs together is kept within 5 % (Bonferroni), so that it does not matter which arm is
    the leader. A split that is not as it was drawn never has a winner.
    """
    order = sorted(range(len(arms)), key=lambda at: -arms[at].mean)
    leader, wrong = order[0], split_is_wrong([len(arm) for arm in arms], shares)
    if min(map(len, arms)) < LEAST_IN_A_GROUP or sum(map(len, arms)) < LEAST:
        missing = max(LEAST - sum(map(len, arms)), len(arms) * (LEAST_IN_A_GROUP - min(map(len, arms))))
        return Standing(leader, TestVerdict.TOO_EARLY, None, missing, wrong, worth)
    alpha = ALPHA / (len(arms) * (len(arms) - 1) / 2)
    pairs = [adjusted(arms[leader], arms[at]) for at in order[1:]]
    leads = [any_time(*pair, planned, alpha) for pair in pairs]
    if wrong:
        return Standing(leader, TestVerdict.TOO_EARLY, leads[0], None, wrong, worth)
    if all(lead.low > 0 for lead in leads):
        return Standing(leader, TestVerdict.WON, leads[0], None, wrong, worth)
    if all(lead.high <= worth for lead in leads):
        return Standing(leader, TestVerdict.NO_DIFFERENCE, leads[0], None, wrong, worth)
    more = to_go(*pairs[0], leads[0], worth, planned, alpha)
    return Standing(
        leader,
        TestVerdict.TOO_EARLY,
        leads[0],
        None if more is None else round(more * sum(map(len, arms)) / sum(map(len, pairs[0]))),
        wrong,
        worth,
    )
