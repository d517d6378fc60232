"""A sequence by its number, and how it stands."""

from loyalbell.services.sequences import queries as sequence_queries
from loyalbell.storage import schema
from loyalbell.web.request import NotFound, RequestContext


def sequence_of(context: RequestContext, sequence_id: int) -> schema.Sequence:
    found = context.application.find(schema.Sequence, sequence_id)
    if found is None:
        raise NotFound("No such sequence is on file.")
    return found


def standing(context: RequestContext, sequence: schema.Sequence | None) -> str:
    """``draft · live version 2 has 318 people under way``."""
    if sequence is None:
        return "not kept yet"
    if sequence.live_version_id is None:
        return "draft"
    live = sequence_queries.live_version(context.application, sequence)
    assert live is not None
    people = sequence_queries.people_under_way(context.application, sequence.id)
    word = {"live": "live", "paused": "paused", "stopped": "stopped"}.get(sequence.state, "")
    same = live.plan == sequence.draft
    return f"{'' if same else 'changed draft · '}{word} version {live.number} has {people:,} people under way"
