"""What the first look at a page would have to wait for, worked out beforehand while nobody waits."""

from collections.abc import Callable

import structlog

from loyalbell.core.clock.local_time import local_day
from loyalbell.services.application import Application, Progress
from loyalbell.services.messages import preflight
from loyalbell.services.rehearsal import forecast
from loyalbell.services.results.overview import overview
from loyalbell.services.results.ranges import USUAL, days_of
from loyalbell.services.rhythm import page_figures

log = structlog.get_logger()


def warm_up(application: Application, is_stopping: Callable[[], bool]) -> None:
    """The columns of the book, what messages are checked for, the table of results and the shop's rhythm.
    Gives way to pages between its steps; what goes wrong is met again, and said, on the page itself.
    """
    if application.shop() is None:
        return
    for step in (_columns, _beside, _messages, _results, _rhythm):
        try:
            step(application, is_stopping)
        except Exception:
            log.exception("something could not be worked out beforehand")


def _columns(application: Application, is_stopping: Callable[[], bool]) -> None:
    application.snapshot()


def _beside(application: Application, is_stopping: Callable[[], bool]) -> None:
    """Starts the process beside this one, where there is to be one."""
    if not is_stopping():
        application.work_out(_be_ready)


def _be_ready(application: Application, progress: Progress) -> None:
    """Reading this module, the other process reads ``forecast`` and all that a rehearsal needs."""
    assert forecast is not None
    application.snapshot()


def _messages(application: Application, is_stopping: Callable[[], bool]) -> None:
    if not is_stopping():
        application.pages.give_way()
        preflight.findings_of_library(application, wait=True)


def _rhythm(application: Application, is_stopping: Callable[[], bool]) -> None:
    for figure in page_figures.whole_shop():
        if is_stopping():
            return
        application.pages.give_way()
        figure(application)


def _results(application: Application, is_stopping: Callable[[], bool]) -> None:
    if not is_stopping():
        zone = application.the_shop().zone
        overview(application, days_of(USUAL, local_day(application.clock.now(), zone), zone))
