"""The size of a segment on each day of the year."""

from loyalbell.core.segments.model import Rule
from loyalbell.core.segments.size_over_time import daily_instants, sizes
from loyalbell.services.application import Application
from loyalbell.services.background_jobs import Report
from loyalbell.services.segments.queries import saved_rules

DAYS_SHOWN = 365
_years: dict[tuple[str, int, int, str], list[int]] = {}


def _year_key(application: Application, rule: Rule) -> tuple[str, int, int, str]:
    now = application.clock.now()
    return (
        str(application.data),
        application.snapshot().version,
        int(now.timestamp()) // 3_600,
        rule.model_dump_json(),
    )


def year_job(application: Application, rule: Rule) -> str:
    return f"year-{hash(_year_key(application, rule))}"


def year(application: Application, rule: Rule) -> list[int] | None:
    """The size on each of the last 365 days; ``None`` while it is being counted in the background."""
    key = _year_key(application, rule)
    if key in _years:
        return _years[key]
    with application.database.reading() as session:
        saved = saved_rules(session)

    def count(report: Report) -> None:
        snapshot = application.snapshot()
        instants = daily_instants(application.clock.now(), snapshot.zone, DAYS_SHOWN)
        if len(_years) > 100:
            _years.clear()
        _years[key] = sizes(rule, snapshot, instants, saved, report)

    application.jobs.start(year_job(application, rule), count)
    return None
