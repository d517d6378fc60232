"""A proof run: chosen people put through a plan in a moment on an invented clock, and its messages sent as
proofs.
"""

from collections.abc import Sequence
from dataclasses import dataclass

from loyalbell.core.messages.content import read_content
from loyalbell.core.sequences.engine_facts import SequenceHistory
from loyalbell.core.sequences.plan import ForkStep, MessageStep, Plan, RandomSplitStep, every_step
from loyalbell.core.sequences.plan_tree import tree_of
from loyalbell.core.sequences.rehearsal import Line, RehearsalScene
from loyalbell.core.sequences.simulator import rehearse
from loyalbell.core.sequences.triggers import TriggerHit
from loyalbell.services.application import Application
from loyalbell.services.delivery.composing.rendering import newest_version
from loyalbell.services.messages.proofs import NoProof, send_proof
from loyalbell.services.rehearsal.rehearsals import reactions
from loyalbell.services.sequences.shop_policy import around_of, send_policy_of
from loyalbell.services.settings.channels import ProofReader
from loyalbell.storage.schema import Message, Shop

AHEAD = 800 * 86_400
MOST_PEOPLE = 50


@dataclass(frozen=True)
class Proved:
    """``paths``: by person id the lines of their way; ``arms``: by fork how many took each arm."""

    paths: dict[int, list[Line]]
    arms: dict[str, list[int]]


def prove(application: Application, plan: Plan, person_ids: Sequence[int], key: str = "proof") -> Proved:
    """Everybody begins now and nothing else happens.

    The plan and the book stay as they are. Raises ``RuleProblem``.
    """
    snapshot, now = application.snapshot(), application.clock.now()
    at = int(now.timestamp())
    with application.database.reading() as session:
        policy = send_policy_of(session, session.get_one(Shop, 1), now)
        around, rates = around_of(session, policy), reactions(session, now)
    known = SequenceHistory(snapshot, policy, at, at)
    numbers = {person: number for number, person in enumerate(known.ids)}
    chosen = [numbers[one] for one in dict.fromkeys(person_ids) if one in numbers][:MOST_PEOPLE]
    cross = [TriggerHit(at, person, "proof", at) for person in chosen]
    free = plan.model_copy(update={"held_back": 0})
    play = RehearsalScene(key, tree_of(free), crossed=cross)
    found = rehearse([play], known, at - 1, at + AHEAD, around, rates, (), MOST_PEOPLE)
    arms = {
        step.id: [
            found.arms[(0, step.id, number)] for number in range(len(step.arms) + isinstance(step, ForkStep))
        ]
        for step in every_step(plan.steps)
        if isinstance(step, ForkStep | RandomSplitStep)
    }
    return Proved({known.ids[person]: found.diaries.get(person, []) for person in chosen}, arms)


def send_proofs(
    application: Application, plan: Plan, as_person: int, to: ProofReader, by: str
) -> tuple[int, list[str]]:
    """Each message of the plan, once, as that person would get it.

    Returns how many go out, and why others do not.
    """
    sent, problems, seen = 0, list[str](), set[tuple[int, str]]()
    for step in every_step(plan.steps):
        if not isinstance(step, MessageStep) or step.message is None:
            continue
        with application.database.reading() as session:
            message = session.get(Message, step.message)
            content = read_content(newest_version(session, step.message).content) if message else None
        writing = (
            next((content.find(channel) for channel in step.channels if content.find(channel)), None)
            if content
            else None
        )
        if writing is None or (step.message, writing.channel) in seen:
            continue
        seen.add((step.message, writing.channel))
        try:
            send_proof(application, writing, as_person, to, by)
            sent += 1
        except NoProof as problem:
            problems.append(str(problem))
    return sent, list(dict.fromkeys(problems))
