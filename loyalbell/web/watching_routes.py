"""What whoever runs the program asks: is it well (/health), and its figures (/metrics)."""

import hmac
from ipaddress import ip_address
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import JSONResponse, PlainTextResponse, Response
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, generate_latest
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric

from loyalbell import __version__
from loyalbell.services.health.standing import Standing, standing
from loyalbell.web.request import NotFound, application_of

router = APIRouter()


@router.get("/health/live")
def live() -> Response:
    """Answers as long as the program does."""
    return PlainTextResponse("alive\n")


@router.get("/health")
def health(request: Request) -> Response:
    """Whether it works: 200, or 503 with why not, in words."""
    why = wrong_with(request)
    body: dict[str, Any] = {"alive": True, "ready": not why, "version": __version__, "why": why}
    return JSONResponse(body, status_code=503 if why else 200)


def wrong_with(request: Request) -> list[str]:
    """What keeps the program from its work; empty where all is well."""
    application, heartbeat = application_of(request), request.app.state.heartbeat
    found = list(application.troubles.values())
    try:
        with application.database.reading() as session:
            session.connection().exec_driver_sql("SELECT 1 FROM alembic_version")
    except Exception:
        found.append("The book cannot be read.")
    if heartbeat is not None:
        found += heartbeat.wrong()
    return found


@router.get("/metrics")
def metrics(request: Request) -> Response:
    """In the text format of Prometheus; for this machine, or for whoever brings the token."""
    if not _may_read(request):
        raise NotFound("Nothing is at this address.")
    registry = CollectorRegistry()
    registry.register(_Figures(request))
    return Response(generate_latest(registry), media_type=CONTENT_TYPE_LATEST)


def _may_read(request: Request) -> bool:
    token = request.app.state.metrics_token
    given = request.headers.get("Authorization", "").removeprefix("Bearer ")
    if token:
        return hmac.compare_digest(token.encode(), given.encode())
    asks = request.client.host if request.client else ""
    try:
        # what came through a proxy came from elsewhere, whatever its address
        return ip_address(asks).is_loopback and "x-forwarded-for" not in request.headers
    except ValueError:
        return False


class _Figures:
    """Asked anew at each reading."""

    def __init__(self, request: Request) -> None:
        self.application, self.heartbeat = application_of(request), request.app.state.heartbeat

    def describe(self) -> list[Metric]:
        return []

    def collect(self) -> list[Metric]:
        now = standing(self.application)
        return [*self._queues(now), *self._outcomes(), *self._ticks(), *_gauges(now)]

    def _queues(self, now: Standing) -> list[Metric]:
        clock = self.application.clock.now()
        due = GaugeMetricFamily("loyalbell_queue_messages", "Messages that are due.", labels=["channel"])
        age = GaugeMetricFamily(
            "loyalbell_queue_age_seconds", "Since the oldest of them is due.", labels=["channel"]
        )
        rests = GaugeMetricFamily(
            "loyalbell_channel_paused", "1 while the network does not take our messages.", labels=["channel"]
        )
        closed = {channel.channel for channel in now.closed}
        for queue in now.queues:
            due.add_metric([queue.channel], queue.due)
            age.add_metric([queue.channel], (clock - queue.oldest).total_seconds() if queue.oldest else 0)
            rests.add_metric([queue.channel], float(queue.channel in closed))
        return [due, age, rests]

    def _outcomes(self) -> list[Metric]:
        found = CounterMetricFamily(
            "loyalbell_messages", "What became of messages since the start.", labels=["channel", "outcome"]
        )
        for (channel, outcome), count in sorted(self.application.outcomes.items()):
            found.add_metric([channel, outcome], count)
        return [found]

    def _ticks(self) -> list[Metric]:
        if self.heartbeat is None:
            return []
        last = GaugeMetricFamily("loyalbell_tick_seconds", "How long the last tick of the sequences took.")
        last.add_metric([], self.heartbeat.last_tick)
        return [last]


def _gauges(now: Standing) -> list[Metric]:
    backup = now.backup_age.total_seconds() if now.backup_age is not None else float("nan")
    figures = (
        ("loyalbell_messages_held", "Messages that wait for a person’s approval.", now.held),
        ("loyalbell_messages_unsure", "Messages that were perhaps sent; a person decides.", now.unsure),
        ("loyalbell_snapshot_lag", "Changes that the figures in memory do not hold yet.", now.snapshot_lag),
        (
            "loyalbell_write_wait_seconds",
            "How long nine of ten of the last writers waited.",
            now.writes.waited,
        ),
        ("loyalbell_write_held_seconds", "How long the longest of them wrote.", now.writes.held),
        ("loyalbell_writes", "Transactions since the start.", now.writes.count),
        ("loyalbell_disk_free_bytes", "Room on the disk with the book.", now.free),
        ("loyalbell_book_bytes", "Size of the book.", now.book),
        ("loyalbell_backup_age_seconds", "Age of the newest backup.", backup),
    )
    found = list[Metric]()
    for name, said, value in figures:
        one = GaugeMetricFamily(name, said)
        one.add_metric([], value)
        found.append(one)
    return found
