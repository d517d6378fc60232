"""The size of a segment on each day of the year."""

from collections.abc import Mapping

from loyalbell.core.segments.model import Rule
from loyalbell.core.segments.size_over_time import daily_instants, sizes
from loyalbell.services.application import Application, Progress
from loyalbell.services.background_work import Report
from loyalbell.services.segments.queries import saved_rules

DAYS_SHOWN = 365
YEARS = "sizes over a year"


def _year_key(application: Application, rule: Rule) -> tuple[int, str]:
    return int(application.clock.now().timestamp()) // 3_600, rule.model_dump_json()


def year_job(application: Application, rule: Rule) -> str:
    return f"year-{application.snapshot().version}-{hash(_year_key(application, rule))}"


def year(application: Application, rule: Rule) -> list[int] | None:
    """The size on each of the last 365 days; ``None`` while it is being counted in the background."""
    snapshot, key = application.snapshot(), _year_key(application, rule)
    counted: list[int] | None = application.cache.peek_version(YEARS, snapshot.version, key)
    if counted is not None:
        return counted
    with application.database.reading() as session:
        saved = saved_rules(session)

    def count(report: Report) -> None:
        def progress(share: float) -> None:
            report(share, "counting day by day")

        application.cache.of_version(
            YEARS,
            snapshot.version,
            key,
            lambda: application.work_out(_sizes, rule, saved, progress=progress),
        )

    application.jobs.start(year_job(application, rule), count)
    return None


def _sizes(application: Application, rule: Rule, saved: Mapping[int, Rule], progress: Progress) -> list[int]:
    snapshot = application.snapshot()
    instants = daily_instants(application.clock.now(), snapshot.zone, DAYS_SHOWN)
    return sizes(rule, snapshot, instants, saved, lambda share, words: progress(share))
