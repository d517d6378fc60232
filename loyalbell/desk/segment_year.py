"""The size of a segment on each day of the year."""

from loyalbell.core.segments.model import Rule
from loyalbell.core.segments.over_time import daily_instants, sizes
from loyalbell.desk.desk import Desk
from loyalbell.desk.jobs import Report
from loyalbell.desk.segments import saved_rules

DAYS_SHOWN = 365
_years: dict[tuple[str, int, int, str], list[int]] = {}


def _year_key(desk: Desk, rule: Rule) -> tuple[str, int, int, str]:
    now = desk.clock.now()
    return str(desk.data), desk.ledger().version, int(now.timestamp()) // 3_600, rule.model_dump_json()


def year_job(desk: Desk, rule: Rule) -> str:
    return f"year-{hash(_year_key(desk, rule))}"


def year(desk: Desk, rule: Rule) -> list[int] | None:
    """The size on each of the last 365 days; ``None`` while it is being counted in the background."""
    key = _year_key(desk, rule)
    if key in _years:
        return _years[key]
    with desk.book.reading() as session:
        saved = saved_rules(session)

    def count(report: Report) -> None:
        ledger = desk.ledger()
        instants = daily_instants(desk.clock.now(), ledger.zone, DAYS_SHOWN)
        if len(_years) > 100:
            _years.clear()
        _years[key] = sizes(rule, ledger, instants, saved, report)

    desk.jobs.start(year_job(desk, rule), count)
    return None
