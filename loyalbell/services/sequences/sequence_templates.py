"""Sequences to start from, each opening as a finished draft filled from this shop's rhythm, offers and
catalogue.
"""

from sqlalchemy import select

from loyalbell.core.sequences.plan import read_plan
from loyalbell.services.application import Application
from loyalbell.services.sequences import commands as sequence_commands
from loyalbell.services.sequences.ready_made.appointments import APPOINTMENTS
from loyalbell.services.sequences.ready_made.making import Making, SequenceTemplate
from loyalbell.services.sequences.ready_made.orders import ORDERS
from loyalbell.services.sequences.ready_made.regulars import REGULARS
from loyalbell.services.sequences.ready_made.win_back import WIN_BACK, past_the_line
from loyalbell.services.sequences.ready_made.yearly_dates import YEARLY_DATES
from loyalbell.storage import schema

OCCASIONS: tuple[SequenceTemplate, ...] = (
    SequenceTemplate("blank", "From nothing", "your own, step by step", lambda m: {"steps": []}),
    *WIN_BACK,
    *YEARLY_DATES,
    *ORDERS,
    *REGULARS,
    *APPOINTMENTS,
)


def make(application: Application, key: str, by: str) -> int | None:
    """A kept draft of an occasion with its messages in the library.

    Its id, or ``None`` for an unknown one.
    """
    found = next((occasion for occasion in OCCASIONS if occasion.key == key), None)
    if found is None:
        return None
    plan = read_plan(found.build(Making(application, by)))
    return sequence_commands.keep(
        application, None, _free_name(application, found.name if key != "blank" else "New sequence"), plan, by
    )


def make_win_back(application: Application, days: int, by: str) -> int:
    """A kept draft that wins back whose last order is ``days`` days ago or longer; its id."""
    plan = read_plan(past_the_line(Making(application, by), days))
    name = _free_name(application, f"Win back after {days} days")
    return sequence_commands.keep(application, None, name, plan, by)


def _free_name(application: Application, name: str) -> str:
    with application.database.reading() as session:
        taken = {one.lower() for one in session.scalars(select(schema.Sequence.name))}
    return next(
        one for one in (name, *(f"{name} {at}" for at in range(2, 1_000))) if one.lower() not in taken
    )
