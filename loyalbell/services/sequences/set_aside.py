"""One bad thing stops one thing: a sequence that cannot be carried out is set aside, and all others go on."""

from collections.abc import Iterator
from contextlib import contextmanager

import structlog
from sqlalchemy.exc import OperationalError

from loyalbell.core.segments.model import RuleProblem
from loyalbell.core.sequences.plan import PlanProblem
from loyalbell.services.application import Application
from loyalbell.services.sequences.withdrawal import withdraw
from loyalbell.storage import schema

log = structlog.get_logger()
SAID = (RuleProblem, PlanProblem)
"""What goes wrong in words for a person; anything else is ours to mend, and stands in the log."""


class SequenceBroken(Exception):
    """Something of one sequence could not be carried out; the transaction that tried it is undone."""

    def __init__(self, sequence_id: int, problem: Exception) -> None:
        super().__init__(str(problem))
        self.sequence_id, self.problem = sequence_id, problem


@contextmanager
def of_sequence(sequence_id: int) -> Iterator[None]:
    """What goes wrong inside is raised as ``SequenceBroken`` of this sequence."""
    try:
        yield
    except (SequenceBroken, OperationalError):
        raise  # a busy or full disk is nobody's mistake: the tick is tried again
    except Exception as problem:
        raise SequenceBroken(sequence_id, problem) from problem


def set_aside(application: Application, broken: SequenceBroken) -> bool:
    """Pauses the sequence with everybody in their place and says why on Today; resuming it tries again.

    False where it was not live any more.
    """
    problem = broken.problem
    log.error("a sequence was set aside", sequence=broken.sequence_id, exc_info=problem)
    why = str(problem) if isinstance(problem, SAID) else f"{type(problem).__name__}: {problem}"
    with application.database.transaction() as session:
        sequence = session.get_one(schema.Sequence, broken.sequence_id)
        if sequence.state != "live":
            return False
        sequence.state, sequence.paused_at = "paused", application.clock.now()
        sequence.set_aside_because = why[:500]
        withdraw(session, sequence.id)
        application.note(session, "the clock", "set a sequence aside", sequence=sequence.name, why=why[:500])
    return True
