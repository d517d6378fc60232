"""Where one person stands in the sequences, for their page."""

from dataclasses import dataclass

from loyalbell.core.sequences.plan import every_step
from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.storage import schema
from loyalbell.storage.schema import Enrolment
from loyalbell.web.request import RequestContext
from loyalbell.web.sequences.editor_rail import say_cause, short_step

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
    names = sequence_queries.plan_names(context.application)
    found = []
    for one, sequence, plan in sequence_queries.enrolments_of(context.application, person_id, SHOWN):
        steps = {step.id: step for step in every_step(plan.steps)} if plan else {}
        step = steps.get(one.step or "")
        here = one.state == "under way"
        ended = {"finished": "came to the end"}.get(one.state, one.state)
        if one.state == "left":
            ended = say_cause(one.cause or "")
        stands = short_step(step, names) if here and step else ""
        found.append(EnrolmentLine(one, sequence, stands, "" if here else ended))
    return found
