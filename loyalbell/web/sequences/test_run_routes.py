"""Proof runs: chosen people put through a draft in a moment, and its messages sent as proofs."""

from datetime import UTC, datetime

from fastapi import APIRouter
from fastapi.responses import Response
from starlette.datastructures import FormData

from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences import plan_words
from loyalbell.core.sequences.steps.fork import say_arm
from loyalbell.services.customers import queries as customer_queries
from loyalbell.services.rehearsal import rehearsals, test_run
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.services.sequences.drafts import draft_of
from loyalbell.services.settings.channels import ProofReader, ProofSettings, loaded
from loyalbell.storage import schema
from loyalbell.storage.schema import User
from loyalbell.web.request import Form, RequestContext, SignedIn, text_of
from loyalbell.web.sequences import editor_rail as rail
from loyalbell.web.sequences.lookup import sequence_of

router = APIRouter()


@router.get("/sequences/{sequence_id:int}/proof")
def proof_page(sequence_id: int, context: RequestContext = SignedIn) -> Response:
    """Begins with a few who came in during the rehearsal."""
    sequence = sequence_of(context, sequence_id)
    snapshot = context.application.snapshot()
    try:
        found = rehearsals.rehearse_past(context.application, draft_of(sequence), sequence_id, alone=True)
    except RuleProblem as problem:
        return _proof(context, sequence, [], "", str(problem))
    ids = [int(snapshot.people.ids[number]) for number in list(found.diaries)[:6]]
    return _proof(context, sequence, ids, "")


@router.post("/sequences/{sequence_id:int}/proof")
def proof(sequence_id: int, context: RequestContext = SignedIn, form: FormData = Form) -> Response:
    sequence = sequence_of(context, sequence_id)
    ids, unknown = _people_named(context, text_of(form, "who").split())
    problem = f"Nobody on file is called {', '.join(unknown[:5])}." if unknown else ""
    if not text_of(form, "send") or not ids:
        return _proof(context, sequence, ids, text_of(form, "who"), problem)
    sent, problems = test_run.send_proofs(
        context.application, draft_of(sequence), ids[0], _reader(context, text_of(form, "to")), context.by
    )
    context.wake()
    said = f"{sent} {'proof is' if sent == 1 else 'proofs are'} on the way." if sent else ""
    return _proof(context, sequence, ids, text_of(form, "who"), " ".join([problem, *problems]).strip(), said)


def _reader(context: RequestContext, to: str) -> ProofReader:
    readers = loaded(context.application, ProofSettings).readers
    if to.isdecimal() and int(to) < len(readers):
        return readers[int(to)]
    user = context.application.find(User, context.visitor.user_id)
    return ProofReader(name=context.by, email=user.email if user else "")


def _people_named(context: RequestContext, names: list[str]) -> tuple[list[int], list[str]]:
    found, unknown = [], []
    for name in names[: test_run.MOST_PEOPLE]:
        person = customer_queries.person_named(context.application, name)
        if person is None:
            unknown.append(name)
        else:
            found.append(person.id)
    return found, unknown


def _proof(
    context: RequestContext,
    sequence: schema.Sequence,
    ids: list[int],
    who: str,
    problem: str = "",
    said: str = "",
) -> Response:
    plan = draft_of(sequence)
    try:
        made = test_run.prove(context.application, plan, ids, sequence.key)
    except RuleProblem as wrong:
        made, problem = test_run.Proved({}, {}), str(wrong)
    names = sequence_queries.plan_names(context.application)
    people = customer_queries.people_by_id(context.application, made.paths)
    steps = {one.id: rail.short_step(one, names) for one in p.every_step(plan.steps)}
    arms = []
    for step in p.every_step(plan.steps):
        if isinstance(step, p.RandomSplitStep):
            said_arms = [arm.name or f"arm {at + 1}" for at, arm in enumerate(step.arms)]
        elif isinstance(step, p.ForkStep):
            said_arms = [*(say_arm(arm, names, steps) for arm in step.arms), "all others"]
        else:
            continue
        arms.append(
            (plan_words.say_step(step, names), list(zip(said_arms, made.arms.get(step.id, []), strict=False)))
        )
    paths = [
        (
            people[at],
            [
                (datetime.fromtimestamp(line.at, UTC), rail.say_line(line, steps))
                for line in lines
                if line.what != "arm"
            ],
        )
        for at, lines in made.paths.items()
    ]
    who = who or "\n".join(str(one) for one in ids)
    return context.page(
        "sequences/test_run.html",
        "sequences",
        sequence=sequence,
        paths=paths,
        arms=arms,
        who=who,
        problem=problem or None,
        said=said,
        readers=loaded(context.application, ProofSettings).readers,
    )
