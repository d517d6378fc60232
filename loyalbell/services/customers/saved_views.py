"""The customer book: finding people by words and rules, and what a line of the book shows of each."""

from collections.abc import Sequence

from sqlalchemy import delete, select

from loyalbell.services.application import Application
from loyalbell.services.customers.queries import Filter
from loyalbell.storage.schema import (
    SavedView,
)


class CannotKeepView(Exception):
    """Why a view cannot be kept, in words."""


def views(application: Application) -> list[SavedView]:
    with application.database.reading() as session:
        return list(session.scalars(select(SavedView).order_by(SavedView.name)))


def keep_view(application: Application, name: str, whom: Filter, columns: Sequence[str], by: str) -> int:
    """A view of the same name is replaced. Raises ``CannotKeepView``."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= 80:
        raise CannotKeepView("Give the view a name of at most 80 characters.")
    with application.database.transaction() as session:
        view = session.scalar(select(SavedView).where(SavedView.name == name))
        if view is None:
            view = SavedView(name=name)
            session.add(view)
        view.search, view.segment_id, view.columns, view.by = whom.search, whom.segment_id, list(columns), by
        view.rule = whom.rule.model_dump(mode="json") if whom.rule else None
        session.flush()
        return view.id


def forget_view(application: Application, view_id: int) -> None:
    with application.database.transaction() as session:
        session.execute(delete(SavedView).where(SavedView.id == view_id))
