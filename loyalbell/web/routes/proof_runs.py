"""Proof runs: chosen people put through a draft in a moment, and its messages sent as proofs."""

from datetime import UTC, datetime

from fastapi import APIRouter
from fastapi.responses import Response
from sqlalchemy import func, select
from starlette.datastructures import FormData

from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences import plan as p
from loyalbell.core.sequences import words
from loyalbell.desk.channel_settings import ProofReader, ProofSettings, loaded
from loyalbell.desk.sequences import proving, rehearsing
from loyalbell.desk.sequences.editing import draft_of
from loyalbell.store import tables
from loyalbell.store.tables import Person, User
from loyalbell.web import sequence_rail as rail
from loyalbell.web import sequence_sheet as sheet
from loyalbell.web.routes.sequences import sequence_of
from loyalbell.web.visit import Form, SignedIn, Visit, text_of

router = APIRouter()


@router.get("/sequences/{sequence_id:int}/proof")
def proof_page(sequence_id: int, visit: Visit = SignedIn) -> Response:
    """Begins with a few who came in during the rehearsal."""
    sequence = sequence_of(visit, sequence_id)
    ledger = visit.desk.ledger()
    try:
        found = rehearsing.rehearse_past(visit.desk, draft_of(sequence), sequence_id, alone=True)
    except RuleProblem as problem:
        return _proof(visit, sequence, [], "", str(problem))
    ids = [int(ledger.people.ids[number]) for number in list(found.diaries)[:6]]
    return _proof(visit, sequence, ids, "")


@router.post("/sequences/{sequence_id:int}/proof")
def proof(sequence_id: int, visit: Visit = SignedIn, form: FormData = Form) -> Response:
    sequence = sequence_of(visit, sequence_id)
    ids, unknown = _people_named(visit, text_of(form, "who").split())
    problem = f"Nobody on file is called {', '.join(unknown[:5])}." if unknown else ""
    if not text_of(form, "send") or not ids:
        return _proof(visit, sequence, ids, text_of(form, "who"), problem)
    sent, problems = proving.send_proofs(visit.desk, draft_of(sequence), ids[0], _reader(visit, text_of(form, "to")), visit.by)  # fmt: skip
    visit.wake()
    said = f"{sent} {'proof is' if sent == 1 else 'proofs are'} on the way." if sent else ""
    return _proof(visit, sequence, ids, text_of(form, "who"), " ".join([problem, *problems]).strip(), said)


def _reader(visit: Visit, to: str) -> ProofReader:
    readers = loaded(visit.desk, ProofSettings).readers
    if to.isdigit() and int(to) < len(readers):
        return readers[int(to)]
    with visit.desk.book.reading() as session:
        user = session.get(User, visit.visitor.user_id)
    return ProofReader(name=visit.by, email=user.email if user else "")


def _people_named(visit: Visit, names: list[str]) -> tuple[list[int], list[str]]:
    found, unknown = [], []
    with visit.desk.book.reading() as session:
        for name in names[: proving.MOST_PEOPLE]:
            one = session.get(Person, int(name)) if name.isdigit() and len(name) < 10 else None
            one = one or session.scalar(select(Person).where((func.lower(Person.email) == name.lower()) | (Person.phone == name)).limit(1))  # fmt: skip
            if one is None:
                unknown.append(name)
            else:
                found.append(one.id)
    return found, unknown


def _proof(visit: Visit, sequence: tables.Sequence, ids: list[int], who: str, problem: str = "", said: str = "") -> Response:  # fmt: skip
    plan = draft_of(sequence)
    try:
        made = proving.prove(visit.desk, plan, ids, sequence.key)
    except RuleProblem as wrong:
        made, problem = proving.Proved({}, {}), str(wrong)
    with visit.desk.book.reading() as session:
        names = sheet.names_of(visit, session)
        people = {one.id: one for one in session.scalars(select(Person).where(Person.id.in_(made.paths)))}
    steps = {one.id: rail.short_step(one, names) for one in p.every_step(plan.steps)}
    arms = []
    for step in p.every_step(plan.steps):
        if isinstance(step, p.LotStep):
            said_arms = [arm.name or f"arm {at + 1}" for at, arm in enumerate(step.arms)]
        elif isinstance(step, p.ForkStep):
            said_arms = [*(words.say_arm(arm, names, steps) for arm in step.arms), "all others"]
        else:
            continue
        arms.append(
            (words.say_step(step, names), list(zip(said_arms, made.arms.get(step.id, []), strict=False)))
        )
    paths = [
        (people[at], [(datetime.fromtimestamp(one.at, UTC), rail.say_line(one, steps)) for one in lines if one.what != "arm"])
        for at, lines in made.paths.items()
    ]  # fmt: skip
    who = who or "\n".join(str(one) for one in ids)
    return visit.page("sequences/proof.html", "sequences", sequence=sequence, paths=paths, arms=arms, who=who, problem=problem or None, said=said, readers=loaded(visit.desk, ProofSettings).readers)  # fmt: skip
