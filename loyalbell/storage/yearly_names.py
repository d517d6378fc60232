"""The names of days that come round every year: those somebody has, and those made for people to be asked."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from loyalbell.storage.schema import Setting, YearlyDate

KEPT_AS = "asking"
"""Under which setting the made names are kept (``services.customers.asking.AskingSettings``)."""


def yearly_names(session: Session) -> list[str]:
    """In order of the alphabet."""
    kept = session.get(Setting, KEPT_AS)
    made = kept.value.get("yearly", []) if kept else []
    return sorted({*session.scalars(select(YearlyDate.name).distinct()), *made}, key=str.casefold)
