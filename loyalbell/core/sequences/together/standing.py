"""A look at people who stand in a sequence, all at one instant: what a tick makes of those who are due."""

from collections.abc import Sequence

import numpy as np

from loyalbell.core.sequences.engine_facts import PersonFacts
from loyalbell.core.sequences.plan_tree import Tree
from loyalbell.core.sequences.rehearsal import RehearsalScene
from loyalbell.core.sequences.together.answers import Answers
from loyalbell.core.sequences.together.looks import Looks
from loyalbell.core.sequences.together.outcomes import Outcome
from loyalbell.core.sequences.together.questions import DUE
from loyalbell.core.sequences.together.runs import Runs, Spoken
from loyalbell.core.sequences.walk import Act, Position


def looked_at(
    key: str,
    tree: Tree,
    answers: Answers,
    facts: PersonFacts,
    people: Sequence[int],
    positions: Sequence[Position],
    now: int,
) -> list[Outcome]:
    """Where each of ``people`` (person numbers, all different) goes on to, and what is to be done, as
    ``engine.step`` says of each. ``key`` draws the arms of the sequence.
    """
    spoken, runs = Spoken(), Runs(len(people))
    rows = [
        runs.stand(person, 0, position, spoken) for person, position in zip(people, positions, strict=True)
    ]
    looks = Looks(RehearsalScene(key, tree), answers, facts, spoken, runs)
    looked = looks.at(np.asarray(rows, dtype=np.int64), np.full(len(rows), now, dtype=np.int64))
    acts: list[list[Act]] = [[] for _ in people]
    for act, places in looked.acts:
        for place in places.tolist():
            acts[place].append(act if act.at is not DUE else act._replace(at=positions[place].due))
    return [
        (looked.at.position(row, spoken, position.entered, position.anchor), acts[row])
        for row, position in enumerate(positions)
    ]
