"""How two or three segments overlap."""

from dataclasses import dataclass

import numpy as np

from loyalbell.core.segments.model import Group, Rule, SegmentCondition
from loyalbell.services.application import Application
from loyalbell.services.segments.queries import rule_of, who
from loyalbell.storage.schema import Segment


@dataclass(frozen=True)
class Overlap:
    """How many are in exactly these of the compared segments; ``rule`` finds them."""

    inside: tuple[str, ...]
    people: int
    rule: Rule


def compare(application: Application, segment_ids: list[int]) -> list[Overlap]:
    """Every way of being in or out of two or three segments, the ways with nobody left out.

    Raises ``RuleProblem``.
    """
    with application.database.reading() as session:
        found = [session.get_one(Segment, segment_id) for segment_id in segment_ids]
    masks = [who(application, rule_of(segment))[1] for segment in found]
    overlaps = []
    for pattern in range(2 ** len(found) - 1, 0, -1):
        within = [bool(pattern >> at & 1) for at in range(len(found))]
        mask = np.logical_and.reduce(
            [met if inside else ~met for met, inside in zip(masks, within, strict=True)]
        )
        lines = [
            SegmentCondition(segment=one.id, within=inside) for one, inside in zip(found, within, strict=True)
        ]
        names = tuple(one.name for one, inside in zip(found, within, strict=True) if inside)
        if mask.any():
            overlaps.append(Overlap(names, int(mask.sum()), Rule(root=Group(lines=list(lines)))))
    return overlaps
