"""What was brought in, as the pages list it."""

from sqlalchemy import select

from loyalbell.services.application import Application
from loyalbell.storage.schema import ImportRun


def newest_runs(application: Application, limit: int = 50) -> list[ImportRun]:
    """The imports, the newest first."""
    with application.database.reading() as session:
        return list(session.scalars(select(ImportRun).order_by(ImportRun.id.desc()).limit(limit)))
