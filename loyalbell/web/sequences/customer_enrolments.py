"""Where one person stands in the sequences, for their page."""

from dataclasses import dataclass

from sqlalchemy import select

from loyalbell.core.sequences.plan import every_step, read_plan
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment, SequenceVersion
from loyalbell.web.request import RequestContext
from loyalbell.web.sequences.editor_rail import say_cause, short_step
from loyalbell.web.sequences.views import names_of

SHOWN = 12


@dataclass(frozen=True)
class EnrolmentLine:
    """``stands`` says where, ``ended`` how it ended; one of them is empty."""

    enrolment: Enrolment
    sequence: schema.Sequence
    stands: str
    ended: str


def enrolment_lines_of(context: RequestContext, person_id: int) -> list[EnrolmentLine]:
    """Their ways through sequences, the newest first; those who stayed out are left out."""
    with context.application.database.reading() as session:
        names = names_of(context, session)
        rows = session.execute(
            select(Enrolment, schema.Sequence, SequenceVersion.plan)
            .join(schema.Sequence, schema.Sequence.id == Enrolment.sequence_id)
            .outerjoin(SequenceVersion, SequenceVersion.id == Enrolment.version_id)
            .where(Enrolment.person_id == person_id, Enrolment.state != "kept out")
            .order_by(Enrolment.state != "under way", Enrolment.entered_at.desc())
            .limit(SHOWN)
        ).all()
    found = []
    for one, sequence, plan in rows:
        steps = {step.id: step for step in every_step(read_plan(plan).steps)} if plan else {}
        step = steps.get(one.step or "")
        here = one.state == "under way"
        ended = say_cause(one.cause or "") if one.state == "left" else {"finished": "came to the end"}.get(one.state, one.state)  # fmt: skip
        found.append(
            EnrolmentLine(
                one, sequence, short_step(step, names) if here and step else "", "" if here else ended
            )
        )
    return found
