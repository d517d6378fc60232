"""What is sold, by name: departments, items and their categories."""

from sqlalchemy import select

from loyalbell.services.application import Application
from loyalbell.storage.schema import Department, Item

Named = list[tuple[int, str]]
"""(id, name) pairs, by name."""


def department_names(application: Application) -> Named:
    with application.database.reading() as session:
        query = select(Department.id, Department.name).order_by(Department.name)
        return [(department_id, name) for department_id, name in session.execute(query)]


def item_names(application: Application) -> Named:
    with application.database.reading() as session:
        query = select(Item.id, Item.name).order_by(Item.name)
        return [(item_id, name) for item_id, name in session.execute(query)]


def categories(application: Application) -> list[str]:
    with application.database.reading() as session:
        query = select(Item.category).distinct().order_by(Item.category)
        return [category for category in session.scalars(query) if category]


def every_item(application: Application) -> list[Item]:
    """All items and services, by name."""
    with application.database.reading() as session:
        return list(session.scalars(select(Item).order_by(Item.name)))
